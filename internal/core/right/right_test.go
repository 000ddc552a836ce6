package right

import "testing"

func TestMay(t *testing.T) {
	for _, c := range []struct {
		role     Role
		own, any bool
		nobody   bool
	}{{Rep, true, false, true}, {Marketer, true, false, true}, {Lead, true, true, true}, {Admin, true, true, true},
		{"", true, false, false}, {"guest", true, false, false}} {
		w := Who{7, c.role}
		if w.May(7) != c.own || w.May(8) != c.any || w.May(0) != c.nobody {
			t.Errorf("%q: own %v, another's %v, nobody's %v", c.role, w.May(7), w.May(8), w.May(0))
		}
	}
	if (Who{0, Rep}).May(3) || (Who{}).May(0) {
		t.Error("somebody unknown may")
	}
	for _, r := range Roles() {
		if !r.Known() {
			t.Errorf("%q is not known", r)
		}
	}
}
