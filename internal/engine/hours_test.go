package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/mailbox"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Whatever has moved an email to a later instant, it goes out only while its
// hours are open there: never at night, never on a Sunday.
func TestHoursAreAskedAgain(t *testing.T) {
	for name, moved := range map[string]func(w *world, m store.Mailing){
		"a daily limit": func(w *world, _ store.Mailing) {
			w.must(w.e.SetMailbox(w.ctx, w.marketer, mailbox.Box{Daily: 2}))
		},
		"a long gap": func(w *world, _ store.Mailing) {
			w.must(w.e.SetMailbox(w.ctx, w.marketer, mailbox.Box{Gap: 3600}))
		},
	} {
		w := newWorld(t, mailserver.Options{})
		for i := range 7 {
			w.norwegian(string(rune('A' + i)))
		}
		m := w.newsletter(nil)
		moved(w, m)
		w.must(w.e.LaunchMailing(w.ctx, m.ID))
		for h := range 4 * 12 { // wherever something is due, and besides
			w.to(time.Duration(h) * 6 * time.Hour)
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
	w.must(w.e.Record(w.ctx,
		store.Signal{Person: p, Signal: signal.Signal{At: day0.Add(-time.Hour), Kind: signal.Reply}}))
	if way := w.way(p); way.Ended != nil {
		t.Errorf("it ended: %s", way.Reason)
	}
	w.must(w.e.Receive(w.ctx,
		mail.Received{ID: "a@x", From: "eve@fjord.example", References: []string{w.letters("eve@")[0].MessageID}}))
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
	_, err := w.s.DB().ExecContext(w.ctx, `
			with v as (insert into sequence_version (sequence_id, number, plan, messages, entry, launched_at)
			select sequence_id, 99, '{"start": 0, "steps": []}', messages, entry, launched_at
			from sequence_version
			limit 1
			returning id)
		update enrolment e set version_id = v.id, look = $2 from v where e.person_id = any ($1)`, broken,
		day0.Add(-time.Hour))
	w.must(err)
	good := w.fill("Cy", "cy@x.example")
	if n := len(w.letters("cy@")); n != 1 {
		t.Errorf("who stands beside got %d letters", n)
	}
	if _, _, err := w.e.AdvanceBatch(w.ctx, 100); err != nil {
		t.Fatal(err)
	}
	if n := w.count("select count(*) from enrolment where person_id = any ($1) and look > $2", broken,
		day0); n != len(broken) {
		t.Errorf("%d of %d are put off", n, len(broken))
	}
	if way := w.way(good); strings.Contains(way.Reason, "cannot") || way.Ended != nil {
		t.Errorf("%+v", way)
	}
}

// A hold of everything is taken back for exactly what it held: not what was held
// before, and not what somebody has decided about since.
func TestHoldAllIsTakenBack(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	first := w.seq
	w.reach(&sequence.Email{Message: w.first})
	second := w.seq
	w.reach(&sequence.Email{Message: w.first})
	third := w.seq
	w.must(w.e.Hold(w.ctx, first))
	state := func(id int64) string {
		q, err := w.s.Sequence(w.ctx, id)
		w.must(err)
		return q.State
	}
	list, err := w.s.Running(w.ctx)
	if w.must(err); len(list) != 2 || list[0].ID != second || list[1].ID != third {
		t.Errorf("what would stop: %+v", list)
	}
	hold, n, err := w.e.HoldAll(w.ctx, w.marketer)
	w.must(err)
	if n != 2 || state(second) != "held" || state(third) != "held" {
		t.Errorf("%d held", n)
	}
	w.must(w.e.Resume(w.ctx, third)) // somebody decides about this one, twice
	w.must(w.e.Hold(w.ctx, third))
	if n, err := w.e.TakeBackHold(w.ctx, hold); err != nil || n != 1 {
		t.Errorf("%d run again, %v", n, err)
	}
	if state(first) != "held" || state(second) != "running" || state(third) != "held" {
		t.Errorf("first %s, second %s, third %s", state(first), state(second), state(third))
	}
	if _, err := w.e.TakeBackHold(w.ctx, hold); !errors.Is(err, store.ErrOver) {
		t.Errorf("taken back twice: %v", err)
	}
}

// A sequence ends: whoever is on the way leaves, nothing more goes out, and it
// can be taken off the list; a copy has its plan and nobody in it.
func TestASequenceIsCopiedEndedAndRemoved(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	ana := w.fill("Ana", "ana@fjord.example")
	if err := w.e.RemoveSequence(w.ctx, w.seq, false); !errors.Is(err, store.ErrOver) {
		t.Errorf("one that runs was removed: %v", err)
	}
	made, err := w.e.CopySequence(w.ctx, w.seq)
	w.must(err)
	a, err := w.s.Draft(w.ctx, w.seq)
	w.must(err)
	b, err := w.s.Draft(w.ctx, made)
	w.must(err)
	q, err := w.s.Sequence(w.ctx, made)
	w.must(err)
	if len(a.Plan.V.Steps) != len(b.Plan.V.Steps) || q.Entered != 0 || q.State != "draft" ||
		q.Entry.V.Page != w.page.ID || q.Name != "Copy of Field guide follow-up" {
		t.Errorf("the copy: %+v", q)
	}
	n, err := w.e.EndSequence(w.ctx, w.seq)
	w.must(err)
	if way := w.way(ana); n != 1 || way.Reason != string(sequence.Over) {
		t.Errorf("%d left, %+v", n, way)
	}
	if _, err := w.e.EndSequence(w.ctx, w.seq); !errors.Is(err, store.ErrOver) {
		t.Errorf("ended twice: %v", err)
	}
	w.fill("Ben", "ben@fjord.example")
	w.to(6 * dayLong)
	if len(w.letters("ben@")) != 0 || w.count("select count(*) from enrolment") != 1 {
		t.Error("somebody entered a sequence that has ended")
	}
	uses := func() string {
		list, err := w.s.MessageUse(w.ctx, int64(w.count("select min(id) from message")))
		w.must(err)
		return fmt.Sprint(list)
	}
	if both := fmt.Sprintf("[{sequence %d Copy of Field guide follow-up} {sequence %d Field guide follow-up}]", made,
		w.seq); uses() != both {
		t.Errorf("the message is used by %s, not %s", uses(), both)
	}
	w.must(w.e.RemoveSequence(w.ctx, w.seq, false))
	if one := fmt.Sprintf("[{sequence %d Copy of Field guide follow-up}]", made); uses() != one {
		t.Errorf("with the sequence removed the message is used by %s", uses())
	}
	if list, err := w.s.Sequences(w.ctx); err != nil || len(list) != 1 {
		t.Errorf("%d on the list, %v", len(list), err)
	}
	w.must(w.e.RemoveSequence(w.ctx, w.seq, true))
	if list, err := w.s.Sequences(w.ctx); err != nil || len(list) != 2 {
		t.Errorf("%d on the list after it came back, %v", len(list), err)
	}
}
