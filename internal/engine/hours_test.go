package engine

import (
	"strings"
	"testing"
	"time"

	"ombak/internal/core/mailbox"
	"ombak/internal/core/signal"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Whatever has moved an email to a later instant, it goes out only while its
// hours are open there: never at night, never on a Sunday.
func TestHoursAreAskedAgain(t *testing.T) {
	for name, moved := range map[string]func(w *world, m store.Mailing){
		"a daily limit": func(w *world, _ store.Mailing) { w.must(w.e.SetMailbox(w.ctx, w.marketer, mailbox.Box{Daily: 2})) },
		"a long gap":    func(w *world, _ store.Mailing) { w.must(w.e.SetMailbox(w.ctx, w.marketer, mailbox.Box{Gap: 3600})) },
	} {
		w := newWorld(t, mailserver.Options{})
		for i := range 7 {
			w.norwegian(string(rune('A' + i)))
		}
		m := w.newsletter(nil)
		moved(w, m)
		w.must(w.e.LaunchMailing(w.ctx, m.ID))
		for h := range 24 * 12 {
			w.to(time.Duration(h) * time.Hour)
		}
		letters := w.mail.Letters("", 100)
		if len(letters) != 7 {
			t.Errorf("%s: %d went out", name, len(letters))
		}
		for _, l := range letters {
			at := l.At.In(mustZone(t, "Europe/Oslo"))
			if at.Weekday() == time.Saturday || at.Weekday() == time.Sunday || at.Hour() < 8 || at.Hour() >= 17 {
				t.Errorf("%s: one went out on %s", name, at.Format("Monday 15:04"))
			}
		}
	}
}

// A hold that ends on a Saturday sends nothing before Monday.
func TestAHoldThatEndsAtNight(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.norwegian("Ana")
	m := w.newsletter(nil)
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	w.must(w.e.HoldMailing(w.ctx, m.ID, true))
	w.to(4*dayLong + 12*time.Hour) // Saturday evening
	w.must(w.e.HoldMailing(w.ctx, m.ID, false))
	w.settle()
	if n := len(w.mail.Letters("", 10)); n != 0 {
		t.Errorf("%d went out on a Saturday", n)
	}
	w.to(6*dayLong + time.Hour)
	if n := len(w.mail.Letters("", 10)); n != 1 {
		t.Errorf("%d by Monday", n)
	}
}

// What happened before somebody entered ends nothing that came after.
func TestAnAnswerOlderThanTheWay(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Eve", "eve@fjord.example")
	w.must(w.e.Record(w.ctx, store.Signal{Person: p, Signal: signal.Signal{At: day0.Add(-time.Hour), Kind: signal.Reply}}))
	if way := w.way(p); way.Ended != nil {
		t.Errorf("it ended: %s", way.Reason)
	}
	w.must(w.e.Receive(w.ctx, mail.Received{ID: "a@x", From: "eve@fjord.example", References: []string{w.letters("eve@")[0].MessageID}}))
	if way := w.way(p); way.Reason != "answered" {
		t.Errorf("and after: %q", way.Reason)
	}
}

// Some whose version cannot run are put off together, and nobody else with them.
func TestVersionsThatCannotRun(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	var broken []int64
	for _, name := range []string{"a", "b", "c", "d", "e", "f", "g", "h"} {
		broken = append(broken, w.fill("Bo", name+"@x.example"))
	}
	_, err := w.s.DB().ExecContext(w.ctx, `with v as (insert into sequence_version (sequence_id, number, plan, messages, entry, launched_at)
			select sequence_id, 99, '{"start": 0, "steps": []}', messages, entry, launched_at from sequence_version limit 1 returning id)
		update enrolment e set version_id = v.id, look = $2 from v where e.person_id = any ($1)`, broken, day0.Add(-time.Hour))
	w.must(err)
	good := w.fill("Cy", "cy@x.example")
	if n := len(w.letters("cy@")); n != 1 {
		t.Errorf("who stands beside got %d letters", n)
	}
	if _, _, err := w.e.AdvanceBatch(w.ctx, 100); err != nil {
		t.Fatal(err)
	}
	if n := w.count("select count(*) from enrolment where person_id = any ($1) and look > $2", broken, day0); n != len(broken) {
		t.Errorf("%d of %d are put off", n, len(broken))
	}
	if way := w.way(good); strings.Contains(way.Reason, "cannot") || way.Ended != nil {
		t.Errorf("%+v", way)
	}
}
