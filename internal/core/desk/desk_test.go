package desk

import (
	"math/bits"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/calendar"
)

var now = time.Date(2026, 4, 14, 7, 20, 0, 0, time.UTC) // a Tuesday, 09:20 in Oslo

func in(minutes int) time.Time { return now.Add(time.Duration(minutes) * time.Minute) }

func TestOrder(t *testing.T) {
	list := []Item{
		{Kind: Task, ID: 1},
		{Kind: Call, ID: 2, By: in(60), From: in(30)},
		{Kind: Call, ID: 3, By: in(90), Score: 3},
		{Kind: Answer, ID: 4, By: in(30), Score: 1},
		{Kind: Social, ID: 5, By: in(90), Score: 12},
		{Kind: Handoff, ID: 6, By: in(-5)},
		{Kind: Call, ID: 7, From: in(10)},
		{Kind: Task, ID: 3, By: in(90), Score: 3},
		{Kind: Call, ID: 8, By: in(120), From: now},
	}
	if able := Order(list, now); able != 7 {
		t.Errorf("%d can be done now", able)
	}
	var got []int64
	for _, x := range list {
		got = append(got, x.ID)
	}
	if want := []int64{6, 4, 5, 3, 3, 8, 1, 7, 2}; !slices.Equal(got, want) {
		t.Errorf("the order is %v, want %v", got, want)
	}
}

// Of all orders of a few items, none keeps the greatest lateness smaller (Jackson, 1955).
func TestOrderAgainstAllOrders(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		list := make([]Item, 1+r.IntN(6))
		for i := range list {
			list[i] = Item{ID: int64(i), By: in(r.IntN(120)), Takes: time.Duration(1+r.IntN(40)) * time.Minute,
				Score: float64(r.IntN(3))}
		}
		worst := func(order []Item) time.Duration {
			at, most := now, time.Duration(-1<<62)
			for _, x := range order {
				at = at.Add(x.Takes)
				most = max(most, at.Sub(x.By))
			}
			return most
		}
		best := time.Duration(1 << 62)
		var try func(done, left []Item)
		try = func(done, left []Item) {
			if len(left) == 0 {
				best = min(best, worst(done))
			}
			for i := range left {
				try(append(slices.Clone(done), left[i]), append(slices.Clone(left[:i]), left[i+1:]...))
			}
		}
		try(nil, list)
		Order(list, now)
		if got := worst(list); got != best {
			t.Fatalf("the greatest lateness is %v, and could be %v: %v", got, best, list)
		}
	}
}

func minutes(list ...int) []time.Duration {
	out := make([]time.Duration, len(list))
	for i, m := range list {
		out[i] = time.Duration(m) * time.Minute
	}
	return out
}

// The worked example is that of Pinedo, Scheduling: Theory, Algorithms, and Systems, chapter 3
// (from memory): of five jobs the first two are late, and no fewer can be.
func TestLate(t *testing.T) {
	for _, c := range []struct {
		name       string
		due, takes []time.Duration
		late       []int
	}{
		{"five jobs", minutes(9, 17, 18, 19, 21), minutes(7, 8, 4, 6, 6), []int{0, 1}},
		{"nothing to do", nil, nil, nil},
		{"one in time to the minute", minutes(10), minutes(10), nil},
		{"one that is late already", minutes(-5), minutes(1), []int{0}},
		{"the last of equally long ones", minutes(10, 10, 10), minutes(5, 5, 5), []int{2}},
		{"what is late already keeps nobody waiting", minutes(-5, 10), minutes(30, 10), []int{0}},
	} {
		if got := Late(c.due, c.takes); !slices.Equal(got, c.late) {
			t.Errorf("%s: late are %v, want %v", c.name, got, c.late)
		}
	}
}

// No choice of items to leave out is smaller, on generated lists, among all choices.
func TestLateAgainstAllChoices(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 2000 {
		n := r.IntN(9)
		due, takes := make([]time.Duration, n), make([]time.Duration, n)
		for i := range n {
			due[i] = time.Duration(r.IntN(60)-3) * time.Minute
			takes[i] = time.Duration(1+r.IntN(20)) * time.Minute
		}
		inTime := func(set int) bool {
			var chosen []int
			for i := range n {
				if set>>i&1 == 1 {
					chosen = append(chosen, i)
				}
			}
			slices.SortFunc(chosen, func(a, b int) int { return int(due[a] - due[b]) })
			sum := time.Duration(0)
			for _, i := range chosen {
				if sum += takes[i]; sum > due[i] {
					return false
				}
			}
			return true
		}
		most := 0
		for set := range 1 << n {
			if inTime(set) {
				most = max(most, bits.OnesCount(uint(set)))
			}
		}
		late := Late(due, takes)
		set := 1<<n - 1
		for _, i := range late {
			set &^= 1 << i
		}
		if n-len(late) != most || !inTime(set) {
			t.Fatalf("due %v, takes %v: late %v, and %d could be done in time", due, takes, late, most)
		}
	}
}

func TestPace(t *testing.T) {
	nine, ten := minutes(1, 2, 3, 4, 5, 6, 7, 8, 9), minutes(10, 9, 1, 2, 3, 4, 5, 6, 7, 8)
	if got := Pace(Call, nine); got != Usual(Call) {
		t.Errorf("of nine times the pace is %v", got)
	}
	if got := Pace(Call, ten); got != 5*time.Minute+30*time.Second {
		t.Errorf("the median of ten is %v", got)
	}
	if got := Pace(Call, append(ten, 99*time.Minute)); got != 6*time.Minute {
		t.Errorf("the median of eleven is %v", got)
	}
	for _, k := range Kinds() {
		if Usual(k) <= 0 || !k.Known() {
			t.Errorf("%s takes no time", k)
		}
	}
}

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

func TestNextCall(t *testing.T) {
	oslo := zone(t, "Europe/Oslo")
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 4, day, hour, minute, 0, 0, oslo) }
	for _, c := range []struct {
		name      string
		last, now time.Time
		rests     calendar.Holidays
		want      time.Time
	}{
		{"the first is now", time.Time{}, at(14, 9, 20), nil, at(14, 9, 20)},
		{"not over lunch", time.Time{}, at(14, 12, 10), nil, at(14, 13, 0)},
		{"not on a holiday", time.Time{}, at(14, 9, 20), calendar.Holidays{{Year: 2026, Month: 4, Day: 14}: true},
			at(15, 9, 0)},
		{"the second comes a working day later, in another third of the day", at(14, 9, 20), at(14, 9, 30), nil,
			at(15, 11, 40)},
		{"after a Friday on Monday", at(17, 9, 20), at(17, 9, 30), nil, at(20, 11, 40)},
		{"in the last third, the next day's first", at(14, 16, 0), at(14, 16, 5), nil, at(16, 9, 0)},
		{"what is long over is called at once in another third", at(1, 9, 20), at(14, 13, 20), nil, at(14, 13, 20)},
		{"and in the same third not before it ends", at(1, 9, 20), at(14, 9, 20), nil, at(14, 11, 40)},
		{"a holiday is no working day", at(14, 9, 20), at(14, 9, 30), calendar.Holidays{{Year: 2026, Month: 4, Day: 15}: true},
			at(16, 11, 40)},
	} {
		got, err := NextCall(UsualCalling(), c.last, c.now, Where{oslo, c.rests})
		if err != nil || !got.Equal(c.want) {
			t.Errorf("%s: %v, want %v, %v", c.name, got.In(oslo), c.want, err)
		}
	}
	if _, err := NextCall(calendar.SendingHours{}, time.Time{}, now, Where{Zone: oslo}); err == nil {
		t.Error("without any hours there is a next call")
	}
}

// On generated hours, zones and instants the next call is the first minute of all that
// fulfils each condition, gone through one by one.
func TestNextCallAgainstASearch(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	zones := []string{"Europe/Oslo", "America/Punta_Arenas", "Asia/Kathmandu", "Australia/Lord_Howe"}
	for i := range 120 {
		loc := zone(t, zones[r.IntN(len(zones))])
		var h calendar.SendingHours
		for d := range h.Days {
			if r.IntN(4) > 0 {
				from := 60 * (7 + r.IntN(4))
				h.Days[d] = []calendar.Interval{{From: from, To: from + 90 + r.IntN(60)}, {From: 13 * 60, To: 14*60 + r.IntN(240)}}
			}
		}
		if h.Check() != nil {
			continue
		}
		at := Where{Zone: loc, Holidays: calendar.Holidays{}}
		start := time.Date(2026, 3, 20+r.IntN(20), r.IntN(24), r.IntN(60), 0, 0, time.UTC)
		for range r.IntN(3) {
			at.Holidays[calendar.DateOf(start, loc).Add(r.IntN(5))] = true
		}
		last := start.Add(-time.Duration(r.IntN(5*24*60)) * time.Minute)
		got, err := NextCall(h, last, start, at)
		if err != nil {
			t.Fatal(err)
		}
		part := func(x time.Time) int {
			wall := x.In(loc)
			day := h.Days[wall.Weekday()]
			if len(day) == 0 {
				return min(wall.Hour()/8, 2)
			}
			first, end := float64(day[0].From), float64(day[len(day)-1].To)
			share := (float64(wall.Hour()*60+wall.Minute()) - first) / (end - first)
			switch {
			case share < 1./3:
				return 0
			case share < 2./3:
				return 1
			}
			return 2
		}
		inHours := func(x time.Time) bool {
			wall := x.In(loc)
			if at.Holidays[calendar.DateOf(x, loc)] {
				return false
			}
			for _, in := range h.Days[wall.Weekday()] {
				if m := wall.Hour()*60 + wall.Minute(); m >= in.From && m < in.To {
					return true
				}
			}
			return false
		}
		d := calendar.DateOf(last, loc).Add(1)
		for at.Holidays[d] || d.Weekday() == time.Saturday || d.Weekday() == time.Sunday {
			d = d.Add(1)
		}
		wall := last.In(loc)
		soonest := calendar.At(d, time.Duration(wall.Hour())*time.Hour+time.Duration(wall.Minute())*time.Minute, loc)
		x := start
		for x.Before(soonest) || !inHours(x) || part(x) == part(last) {
			if x = x.Add(time.Minute); x.Sub(start) > 80*24*time.Hour {
				t.Fatalf("case %d: nothing is found by search", i)
			}
		}
		if !got.Equal(x) {
			t.Fatalf("case %d: %v after %v, last %v, want %v; hours %v, holidays %v", i, got.In(loc), start.In(loc), last.In(loc),
				x.In(loc), h, at.Holidays)
		}
	}
}

func TestLater(t *testing.T) {
	oslo := zone(t, "Europe/Oslo")
	at := func(month, day, hour, minute int) time.Time {
		return time.Date(2026, time.Month(month), day, hour, minute, 0, 0, oslo)
	}
	w := calendar.Working{Holidays: calendar.Holidays{{Year: 2026, Month: 4, Day: 16}: true}}
	for words, want := range map[string]time.Time{
		"tomorrow 10":          at(4, 15, 10, 0),
		"Tomorrow":             at(4, 15, 8, 30),
		"tomorrow at 2 pm":     at(4, 15, 14, 0),
		"in 3 working days":    at(4, 20, 9, 20),
		"3 working days":       at(4, 20, 9, 20),
		"in 3 working days 10": at(4, 20, 10, 0),
		"Monday":               at(4, 20, 8, 30),
		"mon 14.30":            at(4, 20, 14, 30),
		"Tuesday":              at(4, 21, 8, 30),
		"next working day":     at(4, 15, 8, 30),
		"next week":            at(4, 20, 8, 30),
		"in 2 hours":           at(4, 14, 11, 20),
		"in an hour":           at(4, 14, 10, 20),
		"in 20 min":            at(4, 14, 9, 40),
		"in two weeks":         at(4, 28, 9, 20),
		"16:00":                at(4, 14, 16, 0),
		"at 9":                 at(4, 15, 9, 0),
		"today 17":             at(4, 14, 17, 0),
		"5 Dec":                at(12, 5, 8, 30),
		"1 Mar":                time.Date(2027, 3, 1, 8, 30, 0, 0, oslo),
		"5 dec 2026 at 12:15":  at(12, 5, 12, 15),
		"2026-05-04 9":         at(5, 4, 9, 0),
	} {
		if got, err := Later(words, now, oslo, 8*time.Hour+30*time.Minute, w); err != nil || !got.Equal(want) {
			t.Errorf("%q is %v, want %v, %v", words, got.In(oslo), want, err)
		}
	}
	for _, words := range []string{"", "later", "today", "today 9", "25:00", "tomorrow 10:99", "in 0 hours", "1 Apr 2026",
		"in 9999 days", "in -1 days", "31 Feb", "5 Dec 2030", "monday tuesday"} {
		if got, err := Later(words, now, oslo, 8*time.Hour+30*time.Minute, w); err == nil {
			t.Errorf("%q is %v", words, got)
		}
	}
}

func FuzzLater(f *testing.F) {
	for _, s := range []string{"tomorrow 10", "in 3 working days", "Monday", "5 Dec", "99999999999 hours", "at", "in 9999 weeks"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		at, err := Later(s, now, time.UTC, 8*time.Hour, calendar.Working{})
		if err == nil && (!at.After(now) || at.Sub(now) > MaxLater) {
			t.Errorf("%q is %v", s, at)
		}
	})
}

// A day of Tuesday: two items follow on one another over lunch, the third comes up at 15:00,
// and the fourth is done only the next morning.
func TestDay(t *testing.T) {
	oslo := zone(t, "Europe/Oslo")
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 4, day, hour, minute, 0, 0, oslo) }
	hours := UsualCalling()
	list := []Item{{ID: 1, Takes: 2 * time.Hour}, {ID: 2, Takes: time.Hour},
		{ID: 3, From: at(14, 15, 0), Takes: 90 * time.Minute}, {ID: 4, From: at(14, 15, 10), Takes: time.Hour}}
	got, err := Day(list, 2, at(14, 9, 20), hours, oslo)
	if err != nil {
		t.Fatal(err)
	}
	want := []Slot{{at(14, 9, 20), at(14, 11, 20)}, {at(14, 11, 20), at(14, 13, 20)}, {at(14, 15, 0), at(14, 16, 30)},
		{at(14, 16, 30), at(15, 9, 30)}}
	for i := range want {
		if !got[i].From.Equal(want[i].From) || !got[i].To.Equal(want[i].To) {
			t.Errorf("item %d is done from %v to %v, want %v", i+1, got[i].From, got[i].To, want[i])
		}
	}
	if _, err := Day(list, 2, now, calendar.SendingHours{}, oslo); err == nil {
		t.Error("without working hours there is a day")
	}
	list[0].By, list[1].By, list[3].By = at(14, 11, 0), at(14, 13, 20), at(14, 9, 0)
	if late := InTime(list, at(14, 9, 20), hours, oslo); !slices.Equal(late, []int{0, 3}) {
		t.Errorf("late are %v", late)
	}
}
