package engine

import (
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// running makes a sequence of a plan, which everybody in Norway enters, and launches it.
func (w *world) running(name string, p *sequence.Plan) int64 {
	w.t.Helper()
	p.LaunchHold = false
	var id int64
	w.tx(func(tx store.Tx) (err error) {
		id, err = tx.AddSequence(w.ctx, name, p, w.clock.Now())
		return err
	})
	w.must(w.s.SetEntry(w.ctx, id, store.Entry{Rule: ruleOf("XX")}, w.clock.Now()))
	w.must(w.e.Launch(w.ctx, id, 0))
	return id
}

// enters has people enter a running sequence by hand.
func (w *world) enters(q int64, people ...int64) {
	w.t.Helper()
	w.tx(func(tx store.Tx) error {
		r, err := tx.RunningSequence(w.ctx, q)
		if err != nil {
			return err
		}
		return w.e.Enter(w.ctx, tx, r, people...)
	})
}

// plan is a plan whose steps stand one behind the other, by the first exit.
func (w *world) plan(steps ...sequence.Step) *sequence.Plan {
	w.t.Helper()
	p := sequence.NewPlan()
	p.Ground.Other, p.LongestStay = "existing customers", calendar.Span{}
	from, exit := sequence.StepID(0), sequence.Exit("")
	for _, s := range steps {
		id, err := p.Insert(s, from, exit)
		w.must(err)
		if exits := s.Exits(); len(exits) > 0 {
			from, exit = id, exits[0]
		}
	}
	return p
}

// A step changes records in every way that there is, with a line in the history of each
// that says which step it was; what is not there any more is passed over.
func TestAStepChangesRecords(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var audience, purpose, stage int64
	w.tx(func(tx store.Tx) (err error) {
		if _, err = tx.TagNamed(w.ctx, "cold", 0, w.clock.Now()); err != nil {
			return err
		}
		purpose, err = tx.AddPurpose(w.ctx, "Field notes")
		return err
	})
	audience, err := w.e.SaveAudience(w.ctx, store.Audience{Name: "Picked"})
	w.must(err)
	stages, err := w.s.Stages(w.ctx)
	w.must(err)
	stage = stages[1].ID
	kept := func(list ...act.Act) (out []act.Kept) {
		for _, a := range list {
			out = append(out, act.Kept{Act: a})
		}
		return out
	}
	q := w.running("Changes", w.plan(
		&sequence.Change{Common: sequence.Common{Title: "Note it"}, Acts: kept(act.Set{Field: "city",
			Value: " Bergen "},
			act.Set{Field: "title", Value: ""}, act.Set{Field: "gone", Value: "x"}, act.Tag{Name: "warm"},
			act.Untag{Name: "Cold"}, act.Untag{Name: "never there"}, act.Include{Audience: audience},
			act.Give{To: w.rep2}, act.MoveDeal{Stage: stage}, act.Revoke{Purpose: purpose},
			act.Note{Words: "came by the step"})},
		&sequence.Alert{Common: sequence.Common{Title: "Tell"}, Acts: kept(act.Alert{Words: "look at them",
			To: w.rep2})},
		&sequence.Pause{Common: sequence.Common{Title: "Wait"}, For: calendar.Span{N: 1, Unit: calendar.Days}},
		&sequence.Change{Common: sequence.Common{Title: "Undo it"}, Acts: kept(act.Exclude{Audience: audience},
			act.Give{},
			act.MoveDeal{Stage: 99_999})}))
	var people []int64
	for i := range 3 {
		id := w.meet(store.NewPerson{First: fmt.Sprint("P", i), Email: fmt.Sprintf("p%d@n.example", i),
			Title: "Biologist"})
		people = append(people, id)
		w.must(w.e.TagPerson(w.ctx, id, "cold", w.marketer))
		w.must(w.e.Mark(w.ctx, id, person.Mark(person.ConsentMark, purpose), true, w.marketer))
	}
	_, err = w.s.DB().ExecContext(w.ctx, `insert into deal (person_id, name, stage_id, currency, opened_at, moved_at, position)
		select id, 'D', $1, 'EUR', $2, $2, 1 from person where id = any ($3)`, stages[0].ID, w.clock.Now(), people[:2])
	w.must(err)
	w.enters(q, people...)
	w.settle()
	for i, id := range people {
		p, err := w.s.Person(w.ctx, id)
		w.must(err)
		if p.City != "Bergen" || p.Title != "" || p.OwnerID == nil || *p.OwnerID != w.rep2 {
			t.Errorf("person %d: city %q, title %q, owner %v", i, p.City, p.Title, p.Owner)
		}
		tags, err := w.s.TagsOf(w.ctx, []int64{id})
		w.must(err)
		if !slices.Equal(tags[id], []string{"warm"}) {
			t.Errorf("person %d has the tags %v", i, tags[id])
		}
	}
	for what, want := range map[string]int{
		"select count(*) from audience_member where audience_id = " + fmt.Sprint(audience):         3,
		"select count(*) from consent where current and given":                                     0,
		"select count(*) from note where text = 'came by the step' and user_id is null":            3,
		"select count(*) from task where alert and words = 'look at them'":                         3,
		"select count(*) from deal where closed_at is null and stage_id = " + fmt.Sprint(stage):    2,
		"select count(*) from deal_move where user_id is null and stage_id = " + fmt.Sprint(stage): 2,
		"select count(*) from tag where lower(name) = 'never there'":                               0,
		"select count(distinct person_id) from change where how like '%step “Note it”%'":           3,
	} {
		if n := w.count(what); n != want {
			t.Errorf("%d by %s, want %d", n, what, want)
		}
	}
	w.to(25 * time.Hour)
	if n := w.count("select count(*) from audience_member where audience_id = $1", audience); n != 0 {
		t.Errorf("%d are still in the audience", n)
	}
	if n := w.count("select count(*) from person where owner_id = $1", w.rep2); n != 0 {
		t.Errorf("%d still have their owner", n)
	}
	if n := w.count("select count(*) from enrolment where sequence_id = $1 and reason = 'finished'", q); n != 3 {
		t.Errorf("%d of 3 came to the end", n)
	}
}

// Work of steps comes to whom it is for, each with its own outcomes, which lead on and
// are signals; what nobody does in time is missed.
func TestWorkOfSteps(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	days := calendar.Span{N: 2, Unit: calendar.Days}
	task := &sequence.Task{Common: sequence.Common{Title: "Form"}, What: "Send the form", For: w.rep2,
		ToDo: sequence.ToDo{Limit: days}}
	ask := &sequence.Social{Common: sequence.Common{Title: "Ask"}, What: sequence.Connect, Text: "Hello",
		ToDo: sequence.ToDo{Limit: days}}
	write := &sequence.Social{Common: sequence.Common{Title: "Write"}, What: sequence.SocialNote, Text: "Thank you",
		ToDo: sequence.ToDo{Limit: days}}
	q := w.running("Outreach", w.plan(task, ask, write))
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example"})
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@n.example"})
	_, err := w.s.DB().ExecContext(w.ctx, "update person set profile = 'https://network.example/' || id")
	w.must(err)
	w.enters(q, ana, bo)
	w.settle()
	desk := func(user int64) []store.Touch {
		t.Helper()
		list, err := w.s.DeskWork(w.ctx, user)
		w.must(err)
		return list
	}
	list := desk(w.rep2)
	if len(list) != 2 || list[0].Kind != "task" || len(desk(w.rep1)) != 0 {
		t.Fatalf("on the desk: %+v", list)
	}
	if of, err := w.e.WorkOf(w.ctx, &list[0]); err != nil || of.Tells() != "Send the form" {
		t.Errorf("the task tells %v, %v", of, err)
	}
	err = w.e.FinishWork(w.ctx, list[0].ID, w.rep2, sequence.TheyTalked, "")
	if said, ok := plainly.Says(err); !ok || said == "" {
		t.Errorf("an outcome of a call: %v", err)
	}
	w.must(w.e.FinishWork(w.ctx, list[0].ID, w.rep2, sequence.DidIt, "sent"))
	w.must(w.e.FinishWork(w.ctx, list[1].ID, w.rep2, sequence.DidNot, ""))
	if err := w.e.FinishWork(w.ctx, list[1].ID, w.rep2, sequence.DidIt, ""); !errors.Is(err, base.ErrGone) {
		t.Errorf("twice: %v", err)
	}
	w.settle()
	if n := w.count("select count(*) from signal where kind = $1", int(signal.TaskDone)); n != 1 {
		t.Errorf("%d tasks done are signals", n)
	}
	if got := w.way(bo); got.Reason != "finished" { // by “not done”
		t.Errorf("Bo's way: %+v", got)
	}
	list = desk(w.rep1)
	if len(list) != 1 || list[0].Kind != "social" || list[0].Profile == "" {
		t.Fatalf("the social touch: %+v", list)
	}
	w.must(w.e.FinishWork(w.ctx, list[0].ID, w.rep1, sequence.DidIt, ""))
	w.settle()
	if log := w.count("select count(*) from enrolment_log where exit = 'not possible' and reason = $1",
		string(sequence.NotConnected)); log != 1 {
		t.Error("somebody who is not connected is written to")
	}
	// Whoever has accepted is written to; and whom nobody does it for in time is missed.
	cy := w.meet(store.NewPerson{First: "Cy", Email: "cy@n.example"})
	_, err = w.s.DB().ExecContext(w.ctx, "update person set profile = 'https://network.example/cy' where id = $1", cy)
	w.must(err)
	w.must(w.e.Record(w.ctx, store.Signal{Person: cy, Signal: signal.Signal{At: w.clock.Now(), Kind: signal.Accepted}}))
	q2 := w.running("Write", w.plan(&sequence.Social{Common: sequence.Common{Title: "Write"}, What: sequence.SocialNote,
		Text: "Thank you", ToDo: sequence.ToDo{Limit: days}}))
	w.enters(q2, cy)
	w.settle()
	if list := desk(w.rep1); len(list) != 1 || list[0].Person != cy {
		t.Fatalf("Cy is not written to: %+v", list)
	}
	w.to(49 * time.Hour)
	if len(desk(w.rep1)) != 0 || w.count("select count(*) from enrolment_log where exit = 'missed'") != 1 {
		t.Error("what nobody did in time is still on the desk")
	}
}

// Whoever goes on to another sequence enters it where its entry lets them in; where not,
// the log says why, and the way ends all the same.
func TestGoingOn(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	second := w.running("Second", w.plan(&sequence.Task{Common: sequence.Common{Title: "T"}, What: "look"}))
	calls := w.running("Calls", w.plan(&sequence.Call{Common: sequence.Common{Title: "C"}}))
	first := w.running("First", w.plan(&sequence.Sort{Common: sequence.Common{Title: "Sort"},
		Ways: []sequence.Way{{Key: 1, Name: "Norway", Rule: rule.FieldIs(person.Country, "NO")}}},
		&sequence.Task{Common: sequence.Common{Title: "T"}, What: "x", ToDo: sequence.ToDo{NoWait: true}},
		&sequence.GoOn{Common: sequence.Common{Title: "On"}, Sequence: second}))
	byPhone := w.running("By phone", w.plan(
		&sequence.Task{Common: sequence.Common{Title: "T"}, What: "x", ToDo: sequence.ToDo{NoWait: true}},
		&sequence.GoOn{Common: sequence.Common{Title: "On"}, Sequence: calls}))
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example", Country: "NO"})
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@n.example", Country: "NO"})
	cy := w.meet(store.NewPerson{First: "Cy", Email: "cy@n.example", Country: "CA"})
	w.enters(second, bo)
	w.enters(first, ana, bo, cy)
	w.enters(byPhone, ana)
	w.settle()
	reasons := func(q int64, person int64) string {
		var r string
		w.must(w.s.DB().QueryRowContext(w.ctx,
			"select coalesce(max(reason), '–') from enrolment where sequence_id = $1 and person_id = $2", q,
			person).Scan(&r))
		return r
	}
	for _, c := range []struct {
		q, who int64
		want   string
	}{
		{first, ana, "went on"}, {second, ana, ""}, {first, bo, "could not go on: are on it"},
		{first, cy, "finished"}, {second, cy, "–"}, {byPhone, ana, "could not go on: no number"}, {calls, ana, "–"},
	} {
		if got := reasons(c.q, c.who); got != c.want {
			t.Errorf("sequence %d, person %d: %q, want %q", c.q, c.who, got, c.want)
		}
	}
	// One that does not run any more takes nobody.
	w.must(w.e.Hold(w.ctx, second))
	dee := w.meet(store.NewPerson{First: "Dee", Email: "dee@n.example", Country: "NO"})
	w.enters(first, dee)
	w.settle()
	if got := reasons(first, dee); got != "could not go on: does not run" {
		t.Errorf("into one that is held: %q", got)
	}
}

// Points that a step gives are counted by a model that has a rule for them, from that instant on: a check that comes
// next goes by them, and whoever crosses the line by them is handed over once.
func TestPointsOfAStep(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	given := func(n int) *sequence.Change {
		return &sequence.Change{Common: sequence.Common{Title: "Gift"}, Acts: []act.Kept{{Act: act.Points{N: n}}}}
	}
	q := w.running("Gifts", w.plan(given(20),
		&sequence.Check{Common: sequence.Common{Title: "Ready?"},
			Rule: rule.Rule{If: &rule.Condition{Score: true, Op: rule.AtLeast, Value: "15"}}}, given(-9)))
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example"})
	w.enters(q, ana)
	w.settle()
	if got := w.score(ana); got != 0 {
		t.Errorf("%v points of a model that has no rule for them", got)
	}
	m, err := w.s.Model(w.ctx)
	w.must(err)
	m.Rules = append(m.Rules, score.Rule{On: signal.Pattern{Kind: signal.PointsGiven}, Points: 1})
	w.must(w.e.SaveModel(w.ctx, m))
	w.settle()
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@n.example"})
	w.enters(q, bo)
	w.settle()
	if got := w.score(bo); got != 11 {
		t.Errorf("20 given and 9 taken are %v points", got)
	}
	if n := w.count(`
		select count(*) from enrolment_log l join enrolment e on e.id = l.enrolment_id
		where e.person_id = $1 and l.exit = 'yes'`, bo); n != 1 {
		t.Errorf("the check goes by %d of the points", n)
	}
	if n := w.count("select count(*) from handoff where person_id = $1", bo); n != 1 {
		t.Errorf("%d handoffs", n)
	}
	if n := w.count("select count(*) from signal where kind = $1 and worth in (20, -9) and sequence_id = $2 and step > 0",
		int16(signal.PointsGiven), q); n != 4 {
		t.Errorf("%d gifts are kept", n)
	}
}
