package store_test

import (
	"testing"
	"time"

	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// Every figure has its people, by key and counted, and every address of one
// comes back as it was.
func TestPeopleBehindFigures(t *testing.T) {
	k := open(t)
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	k.meet(store.NewPerson{First: "Ben", Email: "ben@fjord.example"})
	run := k.run
	k.must(k.EnsureMonths(k.ctx, at, at))
	var seq, version int64
	k.tx(func(tx store.Tx) (err error) {
		p := sequence.NewPlan()
		if seq, err = tx.AddSequence(k.ctx, "S", p, at); err != nil {
			return err
		}
		version, err = tx.AddVersion(k.ctx,
			store.Version{Sequence: seq, Plan: store.JSON[*sequence.Plan]{V: p}, Launched: at}, 0)
		return err
	})
	run("insert into enrolment (sequence_id, version_id, person_id, step, entered_at, reached_at) values ($1, $2, "+
		"$3, 7, $4, $4)", seq, version, ana, at)
	run("insert into enrolment_log (enrolment_id, version_id, step, at, exit, reason) values (1, $1, 5, $2, 'next', "+
		"''), (1, $1, 7, $2, '', 'answered')", version, at)
	run(`insert into touch (enrolment_id, sequence_id, version_id, person_id, step, kind, state, made_at)
		values (1, $1, $2, $3, 5, 'email', 'sent', $4)`, seq, version, ana, at)
	k.tx(func(tx store.Tx) error {
		return tx.AddSignals(k.ctx,
			[]store.Signal{{Person: ana, Touch: 1,
				Signal: signal.Signal{At: at, Kind: signal.Open, Place: signal.Place{Sequence: seq, Step: 5}}}})
	})
	then, before := store.BetweenTimes(at, at.Add(time.Hour)), store.BetweenTimes(at.Add(-time.Hour), at)
	for b, want := range map[store.Behind]int64{
		{Of: "sequence", ID: seq, Which: "entered"}: 1, {Of: "sequence", ID: seq, Which: "way"}: 1,
		{Of: "sequence", ID: seq, Which: "ended"}:  0,
		{Of: "step", ID: seq, N: 7, Which: "here"}: 1, {Of: "step", ID: seq, N: 7, Which: "left"}: 1,
		{Of: "step", ID: seq, N: 5, Which: "passed"}: 1,
		{Of: "step", ID: seq, N: 5, Which: "sent"}:   1, {Of: "step", ID: seq, N: 5, Which: "opened"}: 1,
		{Of: "step", ID: seq, N: 5, Which: "clicked"}:   0,
		{Of: "step", ID: seq, N: 5, Which: "exit next"}: 1, {Of: "step", ID: seq, N: 5, Which: "exit yes"}: 0,
		{Of: "step", ID: seq, N: 5, Which: "exit next", In: then}: 1,
		{Of: "step", ID: seq, N: 5, Which: "after next handed"}:   0,
		{Of: "step", ID: seq, N: 5, Which: "passed", In: before}:  0,
		{Of: "step", ID: seq, N: 5, Which: "opened", In: then}:    1,
		{Of: "step", ID: seq, N: 5, Which: "sent", In: before}:    0,
		{Of: "email", ID: 1, Which: "clicked"}:                    0, {Of: "email", ID: 1, N: 2, Which: "clicked"}: 0,
		{Of: "email", ID: 1, Which: "left no consent"}: 0, {}: 2,
	} {
		if got := store.ParseBehind(b.String()); got != b {
			t.Errorf("%+v comes back as %+v", b, got)
		}
		n, err := k.CountPeople(k.ctx, store.PeopleQuery{Behind: b, Now: at})
		k.must(err)
		list, _, err := k.People(k.ctx, store.PeopleQuery{Behind: b, Order: store.ByName, Limit: 10, Now: at})
		k.must(err)
		if n != want || len(list) != int(want) {
			t.Errorf("%+v: %d counted, %d listed, want %d", b, n, len(list), want)
		}
	}
	for _, s := range []string{"step.1.1.x", "x.1.1.way", "step.1.1", "step.x.1.here", "email.1.0.left x' or true",
		"step.1.99999999999.here", "sequence.1.0.way'", "step.1.5.exit",
		"step.1.5.exit x'--", "step.1.5.passed@2-1", "step.1.5.passed@1", "step.1.5.passed@1-99999999999999",
		"sequence.1.0.way@1-2"} {
		if b := store.ParseBehind(s); b != (store.Behind{}) {
			t.Errorf("%q is read as %+v", s, b)
		}
	}
}
