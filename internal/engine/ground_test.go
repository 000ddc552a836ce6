package engine

import (
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// reach makes and launches a sequence on consent to purpose 1 that everybody in
// Norway enters.
func (w *world) reach(steps ...sequence.Step) *sequence.Plan {
	w.t.Helper()
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Purpose = false, 1
	for i := len(steps) - 1; i >= 0; i-- {
		_, err := p.Insert(steps[i], 0, "")
		w.must(err)
	}
	w.tx(func(tx store.Tx) (err error) {
		w.seq, err = tx.AddSequence(w.ctx, "On consent", p, day0)
		return err
	})
	r := rule.FieldIs(person.Country, "NO")
	w.must(w.s.SetEntry(w.ctx, w.seq, store.Entry{Rule: &r}, day0))
	w.launch()
	return p
}

// silent is somebody in Norway of whom nobody knows that they agreed to anything.
func (w *world) silent(first string) (id int64) {
	w.t.Helper()
	w.tx(func(tx store.Tx) (err error) {
		id, _, err = tx.MeetPerson(w.ctx, store.NewPerson{First: first, Email: first + "@fjord.example", Country: "NO"},
			w.clock.Now())
		return err
	})
	return id
}

// A sequence reaches those who agreed, says of everybody else why not, and
// writes with each touch on what ground it went out.
func TestASequenceAsksForConsent(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	yes, silent, no, out := w.silent("yes"), w.silent("silent"), w.silent("no"), w.silent("out")
	w.agrees(yes, true)
	w.agrees(no, true)
	w.agrees(no, false)
	w.agrees(out, true)
	w.must(w.e.Record(w.ctx, store.Signal{Person: out, Signal: signal.Signal{At: day0, Kind: signal.OptOut}}))
	p := w.reach(&sequence.Email{Message: w.first})
	r := rule.FieldIs(person.Country, "NO")
	e, err := w.s.WhoEnters(w.ctx, &store.Entry{Rule: &r}, w.seq, p.Ways(), store.PeopleQuery{Now: day0})
	w.must(err)
	why := map[string]int64{}
	for _, n := range e.Not {
		why[n.Why] = n.N
	}
	if e.Enter != 1 || e.Bare != 0 || why[string(contact.NoConsent)] != 1 || why[string(contact.TookBack)] != 1 ||
		why[string(contact.OptedOut)] != 1 {
		t.Errorf("who enters: %+v", e)
	}
	p.Ground = contact.Ground{Other: "existing customers"}
	if e, err = w.s.WhoEnters(w.ctx, &store.Entry{Rule: &r}, w.seq, p.Ways(), store.PeopleQuery{Now: day0}); err != nil || e.Enter != 3 ||
		e.Bare != 2 {
		t.Errorf("on another ground: %+v, %v", e, err)
	}
	w.settle()
	if n := w.count("select count(*) from enrolment where sequence_id = $1", w.seq); n != 1 {
		t.Errorf("%d entered", n)
	}
	if len(w.letters("yes@")) != 1 || len(w.letters("silent@"))+len(w.letters("no@"))+len(w.letters("out@")) > 0 {
		t.Error("somebody who did not agree was written to, or somebody who did was not")
	}
	if n := w.count(`
		select count(*) from touch where person_id = $1 and purpose_id = 1 and ground = '' and not request`,
		yes); n != 1 {
		t.Error("the touch does not say on what ground it went out")
	}
	w.agrees(silent, true)
	w.settle()
	if len(w.letters("silent@")) != 1 {
		t.Error("somebody who agrees later does not enter")
	}
}

// A single email can ask a consent of its own, whatever the ground of its sequence: who did
// not agree, or took that back, passes it over and goes on.
func TestAnEmailAsksForItsOwnConsent(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	yes, silent, back := w.silent("yes"), w.silent("silent"), w.silent("back")
	w.agrees(yes, true)
	w.agrees(back, true)
	w.agrees(back, false)
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	for _, s := range []sequence.Step{&sequence.Email{Message: w.second}, &sequence.Email{Message: w.first, Purpose: 1}} {
		_, err := p.Insert(s, 0, "")
		w.must(err)
	}
	q := w.running("Two grounds", p)
	w.enters(q, yes, silent, back)
	w.settle()
	for who, want := range map[string]int{"yes@": 2, "silent@": 1, "back@": 1} {
		if n := len(w.letters(who)); n != want {
			t.Errorf("%s got %d letters, want %d", who, n, want)
		}
	}
	if n := w.count("select count(*) from touch where purpose_id = 1 and ground = '' and person_id = $1", yes); n != 1 {
		t.Error("the touch does not say on what ground it went out")
	}
	for id, why := range map[int64]contact.Reason{silent: contact.NoConsent, back: contact.TookBack} {
		if n := w.count("select count(*) from enrolment_log l join enrolment e on e.id = l.enrolment_id "+
			"where e.person_id = $1 and l.reason = $2", id, string(sequence.PassedOver(why))); n != 1 {
			t.Errorf("the log does not say that they passed it over: %s", why)
		}
	}
}

// Somebody takes their consent back while an email is ready and waits for its
// server: they leave at that instant, and it does not go out.
func TestWhoTakesConsentBackLeaves(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.silent("ana")
	w.agrees(ana, true)
	w.reach(&sequence.Email{Message: w.first}, &sequence.Pause{For: calendar.Span{N: 2, Unit: calendar.Days}},
		&sequence.Email{Message: w.second})
	w.settle()
	w.clock.set(day0.Add(49 * time.Hour))
	_, _, err := w.e.AdvanceBatch(w.ctx, 10) // the second email is ready
	w.must(err)
	if n := w.count("select count(*) from touch where person_id = $1 and state = 'ready'", ana); n != 1 {
		t.Fatal("no email is ready")
	}
	w.agrees(ana, false)
	if sent, err := w.e.SendBatch(w.ctx, 10); err != nil || sent != 0 {
		t.Errorf("%d went out, %v", sent, err)
	}
	w.clock.set(day0.Add(60 * time.Hour))
	w.settle()
	if n := w.count("select count(*) from enrolment where person_id = $1 and reason = $2 and ended_at = $3", ana,
		sequence.TookBack, day0.Add(49*time.Hour)); n != 1 {
		t.Error("they did not leave at that instant")
	}
	if len(w.letters("ana@")) != 1 {
		t.Errorf("%d letters", len(w.letters("ana@")))
	}
}

// What answers somebody's own request goes to them without a consent, and what
// follows it does not: the log says why.
func TestARequestIsAGround(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.silent("ana")
	p := w.reach(&sequence.Email{Message: w.first, Request: true}, &sequence.Email{Message: w.second}, &sequence.Call{})
	w.settle()
	if len(w.letters("ana@")) != 1 ||
		w.count("select count(*) from touch where person_id = $1 and request and purpose_id is null", ana) != 1 {
		t.Errorf("what was asked for: %d letters", len(w.letters("ana@")))
	}
	if n := w.count("select count(*) from enrolment_log l join enrolment e on e.id = l.enrolment_id where "+
		"e.person_id = $1 and l.reason = any ($2)",
		ana, []string{"passed over: no consent", "passed over: no number"}); n != 2 {
		t.Errorf("%d touches were passed over, of a plan with %d steps", n, len(p.Steps))
	}
	// Whoever must not be contacted still gets what they asked for, and leaves after.
	ben := w.silent("ben")
	w.tx(func(tx store.Tx) error {
		_, err := tx.ExecContext(w.ctx, "update person set do_not_contact = true where id = $1", ben)
		return err
	})
	w.settle()
	if len(w.letters("ben@")) != 1 ||
		w.count("select count(*) from enrolment where person_id = $1 and reason = 'do not contact'", ben) != 1 {
		t.Error("do not contact and one’s own request")
	}
}

// An email that was made before somebody may not get it any more is passed over
// when it would go out, whatever made it so.
func TestTheLastLookAsksTheSameRule(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.agrees(w.silent("ana"), true)
	w.reach(&sequence.Email{Message: w.first}, &sequence.Pause{For: calendar.Span{N: 5, Unit: calendar.Days}})
	_, _, err := w.e.EnterByRules(w.ctx)
	w.must(err)
	_, _, err = w.e.AdvanceBatch(w.ctx, 10)
	w.must(err)
	_, err = w.s.DB().ExecContext(w.ctx, "delete from consent")
	w.must(err)
	w.settle()
	if len(w.letters("ana@")) != 0 ||
		w.count("select count(*) from enrolment_log where exit = 'next' and reason = 'passed over: no consent'") != 1 {
		t.Error("an email went out without a ground, or its way did not go on")
	}
}

// A worker that comes late takes what happened in the order of its instants:
// the watch was over before the answer came, so it is passed, and the email
// that would have followed is not begun.
func TestAnAnswerWhileNobodyWorked(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	ana := w.fill("Ana", "ana@fjord.example")
	w.clock.set(day0.Add(6 * dayLong)) // the watch ended on the fifth day, and nobody has looked since
	w.must(w.e.Record(w.ctx, store.Signal{Person: ana, Signal: signal.Signal{At: w.clock.Now(), Kind: signal.Reply}}))
	logs, err := w.s.PersonLogs(w.ctx, ana)
	w.must(err)
	way := w.way(ana)
	if len(logs) != 3 || logs[0].Exit != "" || logs[0].Reason != string(sequence.Finished) ||
		logs[1].Exit != string(sequence.NotInTime) ||
		!logs[1].At.Equal(day0.Add(5*dayLong)) || !way.Ended.Equal(day0.Add(5*dayLong)) {
		t.Errorf("%+v, %+v", logs, way)
	}
}
