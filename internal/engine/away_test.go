package engine

import (
	"testing"
	"time"

	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// TestWhoIsAwayGetsTheirsLater: an automatic answer stops nothing; the next
// email waits until the day that it names.
func TestWhoIsAwayGetsTheirsLater(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, bo := w.norwegian("Ana"), w.norwegian("Bo")
	m := w.newsletter(func(m *store.Mailing) { m.Plan.V.At = day0.Add(48 * time.Hour) })
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	w.settle()
	back := day0.AddDate(0, 0, 10)
	w.must(w.e.Receive(w.ctx,
		mail.Received{ID: "away@x", From: "ana@n.example", Kind: mail.Automatic, Subject: "Out of office",
			Said: "I am back on " + back.Format("2 January 2006") + "."}))
	w.must(w.e.Receive(w.ctx,
		mail.Received{ID: "away2@x", From: "bo@n.example", Kind: mail.Automatic, Text: "I am away."}))
	if n := w.count("select count(*) from person where away_until is not null or held_at is not null"); n != 0 {
		t.Error("what names nobody but by an address did something")
	}
	if n := w.sorted(true); n != 2 {
		t.Errorf("%d letters to sort", n)
	}
	for id, want := range map[int64]time.Time{ana: time.Date(back.Year(), back.Month(), back.Day(), 9, 0, 0, 0,
		mustZone(t, "Europe/Oslo")), bo: day0.Add(3 * 24 * time.Hour)} {
		p, err := w.s.Person(w.ctx, id)
		w.must(err)
		if p.Away == nil || p.Away.Before(want.Add(-time.Hour)) || p.Away.After(want.Add(72*time.Hour)) || id == ana &&
			!p.Away.Equal(want) {
			t.Errorf("%s is away until %v, not %v", p.First, p.Away, want)
		}
	}
	w.to(8 * dayLong)
	if l := w.mail.Letters("", 10); len(l) != 1 || l[0].To != "bo@n.example" {
		t.Fatalf("after eight days %d letters", len(l))
	}
	w.to(11 * dayLong)
	if l := w.letters("ana@"); len(l) != 1 {
		t.Errorf("back, she got %d letters", len(l))
	}
	if n := w.count("select count(*) from touch where state = 'withdrawn'"); n != 0 {
		t.Error("being away stopped something")
	}
}

func mustZone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

// TestReportsAreToldApart: who complains gets nothing more; an address that
// takes nothing is marked; a letter that is late marks nobody.
func TestReportsAreToldApart(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, bo, cy := w.norwegian("Ana"), w.norwegian("Bo"), w.norwegian("Cy")
	w.must(w.e.Receive(w.ctx,
		mail.Received{ID: "1@x", From: "abuse@provider.example", Kind: mail.Complaint,
			Against: []string{"ana@n.example"}}))
	w.must(w.e.Receive(w.ctx,
		mail.Received{ID: "2@x", From: "mailer-daemon@provider.example", Kind: mail.Bounce,
			About: []mail.Recipient{{Address: "x@n.example", Original: "bo@n.example", Action: "failed",
				Status: "5.1.1"}}}))
	w.must(w.e.Receive(w.ctx,
		mail.Received{ID: "3@x", From: "mailer-daemon@provider.example", Kind: mail.NotNow,
			About: []mail.Recipient{{Address: "cy@n.example", Action: "delayed", Status: "4.0.0"}}}))
	w.must(w.e.Receive(w.ctx, mail.Received{ID: "4@x", From: "cy@n.example", Kind: mail.Notice}))
	// They name nobody but by an address that anybody knows: nothing happens until somebody has looked.
	if n := w.count("select count(*) from person where opted_out_at is not null or bounced_at is not null or held_at " +
		"is not null"); n != 0 {
		t.Error("a report that anybody could have written did something")
	}
	if n := w.sorted(true); n != 2 {
		t.Errorf("%d letters to sort", n)
	}
	for id, want := range map[int64][2]bool{ana: {true, false}, bo: {false, true}, cy: {false, false}} {
		p, err := w.s.Person(w.ctx, id)
		w.must(err)
		if got := [2]bool{p.OptedOut != nil, p.Bounced != nil}; got != want {
			t.Errorf("%s: opted out, bounced: %v, want %v", p.First, got, want)
		}
	}
	if n := w.count("select count(*) from signal where person_id = $1", cy); n != 0 {
		t.Errorf("a late letter and a notice made %d signals", n)
	}
	if n := w.count("select count(*) from incoming where person_id = $1", cy); n != 1 {
		t.Errorf("the report about Cy is kept %d times", n)
	}
}
