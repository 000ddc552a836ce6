package mailing

import (
	"encoding/json"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
)

var now = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC) // a Tuesday

// TestTheFirstReasonThatApplies gives somebody one more reason after another,
// from the last to the first.
func TestTheFirstReasonThatApplies(t *testing.T) {
	p := NewPlan()
	f := Facts{LastMail: now.Add(-4 * 24 * time.Hour)}
	f.Email, f.Consents = true, contact.Consents{{Purpose: 1, Is: contact.Agreed}}
	if why := p.Why(f, 1, now); why != "" {
		t.Fatalf("somebody who agreed is left out: %s", why)
	}
	steps := []func(){func() {
		f.LastMail = now.Add(-72*time.Hour + time.Microsecond)
	}, func() { f.OpenDeal = true }, func() { f.Consents = nil },
		func() { f.Consents = contact.Consents{{Purpose: 1, Is: contact.Withdrawn}} },
		func() {
			f.Bounced = true
		}, func() {
			f.OptedOut = true
		}, func() { f.DoNotContact = true }, func() { f.Email = false }, func() { f.Excluded = true }}
	order := []Reason{Excluded, contact.NoAddress, contact.DoNotContact, contact.OptedOut, contact.Bounced,
		contact.TookBack,
		contact.NoConsent, OpenDeal, InRest}
	for i, step := range steps {
		step()
		if why, want := p.Why(f, 1, now), order[len(order)-1-i]; why != want {
			t.Errorf("step %d: %q, want %q", i, why, want)
		}
	}
	f = Facts{OpenDeal: true, LastMail: now}
	f.Email, f.Consents = true, contact.Consents{{Purpose: 1, Is: contact.Agreed}}
	p.WithDeals, p.Rest = true, 0
	if why := p.Why(f, 1, now); why != "" {
		t.Errorf("with deals and without rest: %s", why)
	}
	// Three days are over at the instant, not after it.
	p.Rest = 3
	f.LastMail = now.Add(-72 * time.Hour)
	if why := p.Why(f, 1, now); why != "" {
		t.Errorf("at the end of the rest: %s", why)
	}
}

func TestWhenItMayGoOut(t *testing.T) {
	p := NewPlan()
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	anchorage, err := time.LoadLocation("America/Anchorage")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		at   time.Time
		zone *time.Location
		want string
	}{
		{time.Time{}, oslo, "2026-04-14T09:20:00Z"}, // 11:20 there
		// one in the morning there: at eight
		{time.Time{}, anchorage, "2026-04-14T16:00:00Z"},
		{time.Date(2026, 4, 18, 12, 0, 0, 0, time.UTC), oslo, "2026-04-20T06:00:00Z"}, // a Saturday: Monday at eight
		{now.Add(-time.Hour), oslo, "2026-04-14T09:20:00Z"},                           // a date that is past
	} {
		p.At = c.at
		got, err := p.When(now, c.zone, nil)
		if err != nil || got.UTC().Format(time.RFC3339) != c.want {
			t.Errorf("not before %v in %s: %v, %v", c.at, c.zone, got.UTC(), err)
		}
	}
	p.Hours = calendar.SendingHours{}
	if p.Check() == nil {
		t.Error("no hours at all were taken")
	}
	p = NewPlan()
	for _, f := range []func(){func() {
		p.Rest = -1
	}, func() { p.Rest = 400 }, func() { p = NewPlan(); p.Tags.Source = string(make([]byte, 101)) }} {
		f()
		if p.Check() == nil {
			t.Errorf("%+v was taken", p)
		}
	}
}

func TestForecast(t *testing.T) {
	next := func(d string) string {
		x, err := time.Parse(time.DateOnly, d)
		if err != nil {
			t.Fatal(err)
		}
		for x = x.AddDate(0, 0, 1); x.Weekday() == time.Saturday || x.Weekday() == time.Sunday; {
			x = x.AddDate(0, 0, 1)
		}
		return x.Format(time.DateOnly)
	}
	say := func(l []Day, err error) (out string) {
		for _, d := range l {
			out += d.Date[8:] + ":" + string(rune('0'+d.N)) + " "
		}
		if err != nil {
			out += "…"
		}
		return out
	}
	due := map[string]int{"2026-04-16": 5, "2026-04-17": 2}
	for limit, want := range map[int]string{0: "16:5 17:2 ", 3: "16:3 17:3 20:1 ", 9: "16:5 17:2 "} {
		if got := say(Forecast(due, limit, next)); got != want {
			t.Errorf("%d a day: %s", limit, got)
		}
	}
	// due on a Saturday
	if got := say(Forecast(map[string]int{"2026-04-17": 1, "2026-04-18": 2}, 9, next)); got != "17:1 20:2 " {
		t.Errorf("what is due on a day that is passed over: %s", got)
	}
	if l, err := Forecast(nil, 1, next); l != nil || err != nil {
		t.Errorf("nothing to send: %v, %v", l, err)
	}
	if _, err := Forecast(map[string]int{"2026-04-16": 5000}, 1, next); err == nil {
		t.Error("a forecast of years was not refused")
	}
}

func TestTags(t *testing.T) {
	tags := Tags{Source: "ombak", Medium: "email", Campaign: "oxygen spring"}
	for in, want := range map[string]string{
		"https://karang.example/a?x=1#b": "https://karang.example/a?utm_campaign=oxygen+spring&" +
			"utm_medium=email&utm_source=ombak&x=1#b",
		"https://karang.example/?utm_source=own": "https://karang.example/?utm_campaign=oxygen+spring&" +
			"utm_medium=email&utm_source=own",
		"/p/alarms": "/p/alarms?utm_campaign=oxygen+spring&utm_medium=email&" +
			"utm_source=ombak",
		"mailto:a@b.example": "mailto:a@b.example", "tel:+44": "tel:+44", "http://[": "http://[",
	} {
		if got := tags.Tagged(in); got != want {
			t.Errorf("%s became %s", in, got)
		}
	}
	if got := (Tags{}).Tagged("https://a.example/?b"); got != "https://a.example/?b" {
		t.Errorf("without tags: %s", got)
	}
}

// What a link does is kept beside its number, as it was written before acts were types.
func TestLinkActsAreKept(t *testing.T) {
	for text, want := range map[string]LinkAct{
		`{"link":2,"do":"tag","what":"keen"}`:   {2, act.Tag{Name: "keen"}},
		`{"link":1,"do":"audience","what":"4"}`: {1, act.Include{Audience: 4}},
	} {
		var got LinkAct
		if err := json.Unmarshal([]byte(text), &got); err != nil || got != want {
			t.Errorf("%s is read as %+v, %v", text, got, err)
		}
		if back, err := json.Marshal(want); err != nil || string(back) != text {
			t.Errorf("%+v is written %s, %v", want, back, err)
		}
	}
	for _, text := range []string{`{"link":"x","do":"tag"}`, `{"link":1,"do":"sing"}`, `[]`} {
		var got LinkAct
		if err := json.Unmarshal([]byte(text), &got); err == nil {
			t.Errorf("%s is read as %+v", text, got)
		}
	}
}

// Each reason there is stands once, in the order in which they are asked.
func TestReasons(t *testing.T) {
	list := Reasons()
	seen := map[Reason]bool{}
	for _, why := range list {
		if why == "" || seen[why] {
			t.Errorf("%q is no reason, or there twice", why)
		}
		seen[why] = true
	}
	if list[0] != Excluded || list[len(list)-1] != InRest || !seen[contact.OptedOut] {
		t.Errorf("in the order %q", list)
	}
}
