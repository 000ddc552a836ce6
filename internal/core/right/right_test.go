package right

import "testing"

func TestMay(t *testing.T) {
	for _, c := range []struct {
		role     Role
		own, any bool
		nobody   bool
	}{{Rep, true, false, true}, {Marketer, true, false, true}, {Lead, true, true, true}, {Admin, true, true, true},
		{"", true, false, false}, {"guest", true, false, false}} {
		w := Who{ID: 7, Role: c.role, Team: 3}
		if w.May(7) != c.own || w.May(8) != c.any || w.May(0) != c.nobody {
			t.Errorf("%q: own %v, another's %v, nobody's %v", c.role, w.May(7), w.May(8), w.May(0))
		}
	}
	if (Who{Role: Rep}).May(3) || (Who{}).May(0) {
		t.Error("somebody unknown may")
	}
	for _, c := range []struct {
		who Who
		of  int64
		may bool
	}{{Who{7, Rep, 3}, 3, true}, {Who{7, Rep, 3}, 4, false}, {Who{7, Rep, 0}, 0, false}, {Who{7, Lead, 0}, 3, true},
		{Who{7, Admin, 4}, 3, true}, {Who{7, Marketer, 3}, 3, true}, {Who{7, "", 3}, 3, false}} {
		if got := c.who.MayTake(c.of); got != c.may {
			t.Errorf("%+v takes what waits for team %d: %v", c.who, c.of, got)
		}
	}
	for _, r := range Roles() {
		if !r.Known() {
			t.Errorf("%q is not known", r)
		}
	}
}
