package mailbox

import (
	"fmt"
	"testing"
	"time"
)

var now = time.Date(2026, 4, 17, 9, 0, 0, 0, time.UTC) // a Friday

func TestWarmingUp(t *testing.T) {
	b := Box{Daily: 100, Begin: 20, Step: 30, Began: now}
	for day, want := range map[int]int{-1: 20, 0: 20, 1: 50, 2: 80, 3: 100, 90: 100} {
		if got := b.Limit(now.AddDate(0, 0, day), time.UTC); got != want {
			t.Errorf("day %d: %d", day, got)
		}
	}
	late, err := time.LoadLocation("Pacific/Auckland") // the dates of the box's own zone count
	if err != nil {
		t.Fatal(err)
	}
	if got := b.Limit(now.Add(4*time.Hour), late); got != 50 {
		t.Errorf("after midnight there: %d", got)
	}
	if got := (&Box{Daily: 7}).Limit(now, time.UTC); got != 7 {
		t.Errorf("without warming up: %d", got)
	}
	if got := (&Box{Begin: 5, Step: 5, Began: now}).Limit(now.AddDate(0, 0, 9), time.UTC); got != 50 {
		t.Errorf("without an end: %d", got)
	}
}

func TestAllot(t *testing.T) {
	say := func(list []time.Time, u Used) string {
		s := ""
		for _, x := range list {
			if x.IsZero() {
				s += "now "
			} else {
				s += x.Format("2T15:04:05 ")
			}
		}
		return s + fmt.Sprint(u.Sent)
	}
	today := now.Format(time.DateOnly)
	for _, c := range []struct {
		name string
		b    Box
		u    Used
		n    int
		want string
	}{
		{"no limit", Box{}, Used{}, 3, "now now now 3"},
		{"a limit", Box{Daily: 2}, Used{}, 3, "now now 20T09:00:00 2"}, // Friday's rest goes on Monday
		{"some went", Box{Daily: 5}, Used{today, 4, time.Time{}}, 2, "now 20T09:00:00 5"},
		{"yesterday's do not count", Box{Daily: 2}, Used{"2026-04-16", 2, time.Time{}}, 2, "now now 2"},
		{"a gap", Box{Gap: 30}, Used{}, 3, "now 17T09:00:30 17T09:01:00 1"},
		{"a gap that lasts", Box{Gap: 30}, Used{today, 1, now.Add(10 * time.Second)}, 2, "17T09:00:10 17T09:00:40 1"},
		{"both", Box{Gap: 30, Daily: 1}, Used{}, 2, "now 20T09:00:00 1"},
	} {
		if got := say(c.b.Allot(c.u, c.n, now, time.UTC)); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

func TestCheck(t *testing.T) {
	for _, b := range []Box{{Daily: -1}, {Gap: 4000}, {Begin: 5}, {Begin: 50, Step: 1, Daily: 10}} {
		if b.Check() == nil {
			t.Errorf("%+v was taken", b)
		}
	}
	if err := (&Box{Daily: 100, Begin: 10, Step: 10, Gap: 5}).Check(); err != nil {
		t.Error(err)
	}
}
