package booking

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

// now is a Tuesday, 09:20 in UTC.
var now = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

func at(day, hour, minute int) time.Time {
	return time.Date(2026, 4, day, hour, minute, 0, 0, time.UTC)
}

func TestSlots(t *testing.T) {
	plan := Plan{Title: "Talk", Minutes: 30, Step: 30, Notice: 2, Horizon: 1}
	with := func(f func(*Plan)) *Plan { p := plan; f(&p); return &p }
	hours := calendar.OfficeHours(9*60, 13*60)
	for _, c := range []struct {
		name string
		f    Free
		want string
	}{
		{"two hours from now until tomorrow at this time", Free{Plan: &plan}, "14 11:30, 14 12:00, 14 12:30, 15 09:00"},
		{"a meeting takes its time", Free{Plan: &plan, Met: []Span{{at(14, 12, 0), at(14, 12, 30)}}},
			"14 11:30, 14 12:30, 15 09:00"},
		{"and the buffer around it", Free{Plan: with(func(p *Plan) { p.Buffer = 15 }),
			Met: []Span{{at(14, 12, 0), at(14, 12, 30)}}}, "15 09:00"},
		{"what keeps them busy has no buffer", Free{Plan: with(func(p *Plan) { p.Buffer = 15 }),
			Busy: []Span{{at(14, 12, 0), at(14, 12, 30)}}}, "14 11:30, 14 12:30, 15 09:00"},
		{"busy from before to after", Free{Plan: &plan, Busy: []Span{{at(1, 0, 0), at(14, 12, 29)}}},
			"14 12:30, 15 09:00"},
		{"busy for a moment only is busy", Free{Plan: &plan, Busy: []Span{{at(14, 11, 45), at(14, 11, 46)}}},
			"14 12:00, 14 12:30, 15 09:00"},
		{"busy for no time is not", Free{Plan: &plan, Busy: []Span{{at(14, 11, 45), at(14, 11, 45)}}},
			"14 11:30, 14 12:00, 14 12:30, 15 09:00"},
		{"a long meeting must end in time", Free{Plan: with(func(p *Plan) { p.Minutes = 90 })}, "14 11:30, 15 09:00"},
		{"one a day, and today has it", Free{Plan: with(func(p *Plan) { p.Most = 1 }),
			Met: []Span{{at(14, 9, 0), at(14, 9, 30)}}}, "15 09:00"},
		{"where it is later, today is over", Free{Plan: &plan, Zone: zone(t, "Asia/Tokyo")}, "15 00:00, 15 00:30, 15 01:00, " +
			"15 01:30, 15 02:00, 15 02:30, 15 03:00, 15 03:30"},
		{"on a weekend nothing", Free{Plan: &plan, Now: at(17, 12, 0)}, ""},
	} {
		if c.f.Zone == nil {
			c.f.Zone = time.UTC
		}
		if c.f.Now.IsZero() {
			c.f.Now = now
		}
		c.f.Hours = hours
		var got []string
		for _, s := range c.f.Slots() {
			got = append(got, s.UTC().Format("2 15:04"))
			if !c.f.Is(s) || c.f.Is(s.Add(time.Minute)) {
				t.Errorf("%s: %v is a slot, and a minute later is none: %v", c.name, s, c.f.Is(s))
			}
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s: %s\nwant %s", c.name, strings.Join(got, ", "), c.want)
		}
	}
}

// plainSlots looks at every minute: is it the first time the clock shows it, does a slot begin
// there, and is every minute of the meeting free and within the same stretch of hours?
func plainSlots(f *Free) (out []time.Time) {
	buffer := time.Duration(f.Plan.Buffer) * time.Minute
	shown := map[string]bool{}
	for t := f.Now.Truncate(24 * time.Hour).Add(-24 * time.Hour); !t.After(f.Now.AddDate(0, 0, f.Plan.Horizon)); t = t.Add(time.Minute) {
		wall := t.In(f.Zone)
		key := wall.Format("2006-01-02 15:04")
		again := shown[key]
		shown[key] = true
		if again || t.Before(f.Now.Add(time.Duration(f.Plan.Notice)*time.Hour)) {
			continue
		}
		met := 0
		for _, m := range f.Met {
			if m.From.In(f.Zone).Format(time.DateOnly) == wall.Format(time.DateOnly) {
				met++
			}
		}
		if f.Plan.Most > 0 && met >= f.Plan.Most {
			continue
		}
		for _, in := range f.Hours.Days[wall.Weekday()] {
			m := wall.Hour()*60 + wall.Minute()
			if m < in.From || (m-in.From)%f.Plan.Step != 0 {
				continue
			}
			free := true
			for n := range f.Plan.Minutes {
				x := t.Add(time.Duration(n) * time.Minute)
				w := x.In(f.Zone)
				at := w.Hour()*60 + w.Minute()
				free = free && w.Day() == wall.Day() && at >= in.From && at < in.To
				for _, s := range f.Met {
					free = free && (x.Add(time.Minute).Compare(s.From.Add(-buffer)) <= 0 || !x.Before(s.To.Add(buffer)))
				}
				for _, s := range f.Busy {
					free = free && (x.Add(time.Minute).Compare(s.From) <= 0 || !x.Before(s.To))
				}
			}
			if free {
				out = append(out, t)
			}
		}
	}
	return out
}

// The slots are those that a look at every minute finds, on generated plans, hours, meetings and
// busy times, on the days on which the clock changes too.
func TestSlotsAgainstEveryMinute(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 6))
	zones := []*time.Location{time.UTC, zone(t, "Europe/Oslo"), zone(t, "America/New_York"), zone(t, "Australia/Lord_Howe")}
	starts := []time.Time{now, time.Date(2026, 3, 28, 3, 7, 0, 0, time.UTC), time.Date(2026, 10, 24, 15, 0, 0, 0, time.UTC),
		time.Date(2026, 11, 1, 1, 0, 0, 0, time.UTC), time.Date(2026, 4, 4, 12, 0, 0, 0, time.UTC)}
	found := 0
	for i := range 400 {
		f := Free{Zone: zones[rnd.IntN(len(zones))], Now: starts[rnd.IntN(len(starts))].Add(time.Duration(rnd.IntN(300)) * time.Minute),
			Plan: &Plan{Minutes: []int{5, 30, 45, 90}[rnd.IntN(4)], Step: []int{15, 30, 60}[rnd.IntN(3)], Buffer: rnd.IntN(2) * 10,
				Notice: rnd.IntN(3), Horizon: 1 + rnd.IntN(3), Most: rnd.IntN(3)}}
		for d := range f.Hours.Days {
			from := 15 * rnd.IntN(20)
			f.Hours.Days[d] = []calendar.Interval{{From: from, To: from + 15*(1+rnd.IntN(16))}, {From: 12 * 60, To: 12*60 + 15*rnd.IntN(20) + 1}}
			f.Hours.Days[d] = f.Hours.Days[d][:rnd.IntN(3)]
			if len(f.Hours.Days[d]) == 2 && f.Hours.Days[d][0].To > 12*60 {
				f.Hours.Days[d] = f.Hours.Days[d][:1]
			}
		}
		span := func() Span {
			from := f.Now.Truncate(5 * time.Minute).Add(time.Duration(rnd.IntN(60*72)) * time.Minute)
			return Span{from, from.Add(time.Duration(rnd.IntN(120)) * time.Minute)}
		}
		for range rnd.IntN(6) {
			f.Busy = append(f.Busy, span())
		}
		for range rnd.IntN(4) {
			s := span()
			f.Met = append(f.Met, Span{s.From, s.To.Add(time.Minute)})
		}
		got, want := f.Slots(), plainSlots(&f)
		found += len(want)
		if !slices.EqualFunc(got, want, time.Time.Equal) {
			t.Fatalf("case %d in %v at %v, %+v, %v:\n%v\nevery minute:\n%v", i, f.Zone, f.Now, *f.Plan, f.Hours.Days, got, want)
		}
	}
	if found < 2000 {
		t.Errorf("only %d slots were found", found)
	}
}

func TestPlansAreChecked(t *testing.T) {
	p := Usual()
	if err := p.Check(); err != nil {
		t.Errorf("the usual one: %v", err)
	}
	for name, change := range map[string]func(*Plan){
		"no title": func(p *Plan) { p.Title = "  " }, "long": func(p *Plan) { p.About = strings.Repeat("a", 2001) },
		"short": func(p *Plan) { p.Minutes = 4 }, "buffer": func(p *Plan) { p.Buffer = -1 }, "step": func(p *Plan) { p.Step = 0 },
		"notice": func(p *Plan) { p.Notice = 10000 }, "horizon": func(p *Plan) { p.Horizon = 0 }, "most": func(p *Plan) { p.Most = 51 },
	} {
		p := Usual()
		if change(&p); p.Check() == nil {
			t.Errorf("%s: is fine", name)
		}
	}
}

func TestMovesOfBookings(t *testing.T) {
	for _, c := range []struct {
		from, to State
		may      bool
	}{{Asked, Booked, true}, {Booked, Booked, true}, {Booked, Held, true}, {Held, Missed, true}, {Missed, Booked, true},
		{Cancelled, Booked, false}, {Asked, Held, false}, {Held, Cancelled, false}} {
		if c.from.May(c.to) != c.may {
			t.Errorf("from %s to %s: %v", c.from, c.to, !c.may)
		}
	}
	if len(States()) != 5 {
		t.Error("a state is missing")
	}
}
