package engine

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"ombak/internal/core/act"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine/people"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// viewed has somebody view a page now.
func (w *world) viewed(who ...int64) {
	w.t.Helper()
	for _, p := range who {
		w.must(w.e.Record(w.ctx, store.Signal{Person: p,
			Signal: signal.Signal{At: w.clock.Now(), Kind: signal.PageView}}))
	}
}

// A draft is kept beside what counts, of two who change it the second is told, and what takes over counts for
// everybody without handing anybody over: whom it lifts over the line is listed, and handed over day by day where
// somebody says so.
func TestADraftTakesOver(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var all []int64
	for _, name := range []string{"Ana", "Ben", "Cyn", "Dan", "Eve"} {
		all = append(all, w.caller(name, "NO", w.rep1))
	}
	w.viewed(all...) // 10 of 15
	w.settle()
	m, err := w.s.Model(w.ctx)
	w.must(err)
	draft := m.Model.Clone()
	draft.Rules[0].Points = 20
	draft.Rules = append(draft.Rules, score.Rule{Points: 2, If: rule.FieldIs(person.Country, "NO")})
	draft.Bands = []rule.Band{{Name: "low"}, {Name: "high", From: 21}}
	w.must(w.e.KeepDraft(w.ctx, 0, draft, m.DraftChanges, w.marketer))
	if err := w.e.KeepDraft(w.ctx, 0, draft, m.DraftChanges, w.marketer); !errors.Is(err, people.ErrDraftMoved) {
		t.Errorf("a second one over the first: %v", err)
	}
	w.settle()
	if n := w.count("select count(*) from standing where score = 10"); n != 5 {
		t.Errorf("a draft counts already: %d still have 10", n)
	}
	m, err = w.s.Model(w.ctx)
	w.must(err)
	if m.Draft == nil || m.Draft.Rules[4].ID != 5 || m.Version != 1 {
		t.Fatalf("the draft is %+v", m.Draft)
	}

	// What it would change, told before.
	batch, err := w.e.PreviewDraft(w.ctx, 0, w.marketer)
	w.must(err)
	w.must(w.e.RunBatch(w.ctx, batch))
	b, err := w.s.Batch(w.ctx, batch)
	w.must(err)
	p := b.Detail.V.Preview
	slices.Sort(p.Up.IDs)
	if b.State != "done" || p.People != 5 || p.Other != 5 || p.Up.N != 5 || p.Down.N != 0 || !slices.Equal(p.Up.IDs, all) ||
		!slices.Equal(p.Now, []int64{5, 0}) || !slices.Equal(p.Then, []int64{0, 5}) || p.Ready != [2]int64{0, 5} ||
		len(p.Reps) != 1 || p.Reps[0].Rep != w.rep1 || p.Reps[0].N != 5 {
		t.Errorf("it would change %+v (%s)", p, b.State)
	}

	if _, err := w.e.TakeOver(w.ctx, 0, m.DraftChanges-1, "", w.marketer); !errors.Is(err, people.ErrDraftMoved) {
		t.Errorf("an old draft takes over: %v", err)
	}
	version, err := w.e.TakeOver(w.ctx, 0, m.DraftChanges, "agreed", w.marketer)
	w.must(err)
	w.settle()
	if n := w.count("select count(*) from standing where score = 22"); version != 2 || n != 5 {
		t.Errorf("version %d counts 22 for %d", version, n)
	}
	if n := w.count("select count(*) from handoff"); n != 0 {
		t.Errorf("the change itself hands over %d", n)
	}
	if n, _, err := w.s.LiftedWaiting(w.ctx, m.ID); err != nil || n != 5 {
		t.Fatalf("%d are over the line by the change: %v", n, err)
	}
	versions, err := w.s.ModelVersions(w.ctx, m.ID, 10)
	w.must(err)
	if len(versions) != 2 || versions[0].Note != "agreed" || versions[0].By != "Ines Radu" || versions[1].Number != 1 {
		t.Errorf("the versions are %+v", versions)
	}

	// Two a day. Who falls below the line before their turn stays; who is counted twice is handed over once.
	n, err := w.e.HandLifted(w.ctx, 0, 2)
	w.must(err)
	if n != 5 {
		t.Errorf("%d have a day", n)
	}
	var per []int
	for range 10 {
		w.settle()
		per = append(per, w.count("select count(*) from handoff"))
		w.clock.set(w.clock.Now().Add(24 * time.Hour))
	}
	if per[0] > 2 || per[9] != 5 || w.count("select count(distinct person_id) from handoff where made_by = 'change'") != 5 {
		t.Errorf("handed over by the day: %v", per)
	}
	for i := 1; i < len(per); i++ {
		if per[i]-per[i-1] > 2 {
			t.Errorf("more than two on a day: %v", per)
		}
	}

	// What was before can be the draft again.
	m, err = w.s.Model(w.ctx)
	w.must(err)
	w.must(w.e.DraftFrom(w.ctx, 0, 1, m.DraftChanges, w.marketer))
	m, err = w.s.Model(w.ctx)
	w.must(err)
	if m.Draft == nil || m.Draft.Rules[0].Points != 10 || len(m.Draft.Rules) != 4 || m.Draft.LastID != 5 {
		t.Errorf("the draft from version 1 is %+v", m.Draft)
	}
	w.must(w.e.DropDraft(w.ctx, 0, m.DraftChanges, w.marketer))
	if m, err = w.s.Model(w.ctx); err != nil || m.Draft != nil || m.Rules[0].Points != 20 {
		t.Errorf("dropped: %+v, %v", m, err)
	}
}

// The ready line can ask for a fit: who comes to be the right kind of person crosses it then.
func TestTheLineAsksForAFit(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "CA"})
	m, err := w.s.Model(w.ctx)
	w.must(err)
	m.Fit, m.FitLine = rule.Fit{{If: rule.FieldIs(person.Country, "NO"), Points: 40}}, 50
	w.must(w.e.SaveModel(w.ctx, m))
	w.viewed(ana, ana)
	w.settle()
	if n := w.count("select count(*) from handoff"); n != 0 {
		t.Fatalf("handed over with a fit of 0: %d", n)
	}
	w.must(w.e.ChangePerson(w.ctx, ana, person.Values{person.Country: "Norway"}, w.marketer))
	w.settle()
	if n := w.count("select count(*) from handoff where person_id = $1", ana); n != 1 {
		t.Errorf("with a fit of 100 they are handed over %d times", n)
	}
	for _, bad := range []score.Model{{Name: "x", FitLine: 50}, {Name: "x", Line: 5, Ceiling: 4},
		{Name: "x", Rules: []score.Rule{{Points: 3}}}, {Name: "x", CoolOff: 400}, {}} {
		if err := w.e.KeepDraft(w.ctx, 0, bad, 0, w.marketer); err == nil {
			t.Errorf("%+v was kept", bad)
		}
	}
}

// Where a model gives points for what is on the record, somebody new has them before they do anything; and a first
// model counts what was done before it.
func TestPointsForTheRecord(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	_, err := w.s.DB().ExecContext(w.ctx, "delete from score_model")
	w.must(err)
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "NO"})
	w.viewed(ana)
	w.must(w.e.KeepDraft(w.ctx, 0, score.Model{Name: "First", Line: 5, Rules: []score.Rule{
		{On: signal.Pattern{Kind: signal.PageView}, Points: 10},
		{Points: 3, If: rule.FieldIs(person.Country, "NO")}}}, 0, w.marketer))
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@fjord.example", Country: "NO"})
	w.settle()
	at := func(p int64) float64 {
		m, err := w.s.Model(w.ctx)
		w.must(err)
		list, err := w.s.Standings(w.ctx, m.ID, []int64{p})
		w.must(err)
		if len(list) != 1 {
			t.Fatalf("%d has %d scores", p, len(list))
		}
		return list[0].Score
	}
	if a, b := at(ana), at(bo); a != 13 || b != 3 {
		t.Errorf("they have %v and %v", a, b)
	}
	if n := w.count("select count(*) from handoff"); n != 0 {
		t.Errorf("a first model hands over %d", n)
	}
}

// What follows from a level is done once, when somebody comes to it from below: from the ready line with the handoff,
// from a band by the score alone, and by a change of the model from none.
func TestWhatFollowsFromAScore(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.caller("Ana", "NO", w.rep1)
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@x.example"})
	m, err := w.s.Model(w.ctx)
	w.must(err)
	m.Bands = []rule.Band{{Name: "low"}, {Name: "warm", From: 10}}
	m.Follows = []score.Follow{{Acts: []act.Kept{{Act: act.Tag{Name: "ready"}}}},
		{Band: "warm", Acts: []act.Kept{{Act: act.Tag{Name: "warm"}}, {Act: act.Alert{Words: "warm now"}}}},
		{At: 25, Acts: []act.Kept{{Act: act.Untag{Name: "warm"}}}}}
	w.must(w.e.SaveModel(w.ctx, m))
	tags := func(p int64) []string {
		list, err := w.s.PersonTags(w.ctx, p)
		w.must(err)
		var out []string
		for _, x := range list {
			out = append(out, x.Name)
		}
		slices.Sort(out)
		return out
	}
	is := func(when string, p int64, want ...string) {
		t.Helper()
		w.settle()
		if got := tags(p); !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", when, got, want)
		}
	}
	is("at first", ana)
	w.viewed(ana) // 10
	is("come to the band", ana, "warm")
	w.viewed(ana) // 20, over the line of 15
	is("over the line", ana, "ready", "warm")
	w.viewed(ana) // 30
	is("come to 25", ana, "ready")
	if n := w.count("select count(*) from task where alert and person_id = $1", ana); n != 1 {
		t.Errorf("they were told %d times", n)
	}
	if n := w.count("select count(*) from handoff where person_id = $1", ana); n != 1 {
		t.Errorf("handed over %d times", n)
	}
	// Whoever is lifted by a change comes to no level by it; by what they do next, to the next.
	w.viewed(bo)
	is("Bo, come to the band", bo, "warm")
	m, err = w.s.Model(w.ctx)
	w.must(err)
	m.Rules[0].Points = 20
	w.must(w.e.SaveModel(w.ctx, m))
	is("Bo, by the change", bo, "warm")
	w.viewed(bo) // 40: from 20 by the new points, which lies over the line
	is("Bo, come to 25", bo)
	// Points run out, and coming to the band again is coming to it.
	w.to(40 * dayLong)
	w.viewed(bo)
	is("Bo, again", bo, "ready", "warm")
	for _, bad := range []score.Follow{{}, {Band: "none", Acts: m.Follows[0].Acts}, {At: -3, Acts: m.Follows[0].Acts},
		{Acts: []act.Kept{{Act: act.Points{N: 3}}}}, {Acts: []act.Kept{{}}}} {
		m.Follows = []score.Follow{bad}
		if w.e.SaveModel(w.ctx, m) == nil {
			t.Errorf("%+v was kept", bad)
		}
	}
}

// How the rules work is counted for everybody, as work that can be watched; another version ends it.
func TestHowTheRulesWork(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var all []int64
	for _, name := range []string{"Ana", "Ben", "Cyn"} {
		all = append(all, w.caller(name, "NO", w.rep1))
	}
	w.viewed(all...)
	w.viewed(all[0])
	m, err := w.s.Model(w.ctx)
	w.must(err)
	m.Bands = []rule.Band{{Name: "low"}, {Name: "high", From: 15}}
	w.must(w.e.SaveModel(w.ctx, m))
	w.settle()
	batch, err := w.e.Tally(w.ctx, 0, w.marketer)
	w.must(err)
	w.must(w.e.RunBatch(w.ctx, batch))
	b, err := w.s.Tallied(w.ctx, m.ID)
	w.must(err)
	x := b.Detail.V.Tally
	last := x.Weeks[len(x.Weeks)-1]
	if b.State != "done" || x.People != 3 || x.With != 3 ||
		x.Rules[0] != (score.RuleTally{ID: 1, People: 3, Points: 40, Ever: 3}) || x.Rules[1].Ever != 0 || last.Up != 1 ||
		last.Down != 0 || !slices.Equal(last.Bands, []int64{2, 1}) || !slices.Equal(x.Weeks[0].Bands, []int64{3, 0}) {
		t.Errorf("%s: %+v", b.State, x)
	}
	below, err := w.s.JustBelow(w.ctx, m.ID, 15, 5)
	w.must(err)
	if len(below) != 2 || below[0].Score != 10 {
		t.Errorf("just below the line are %+v", below)
	}
	batch, err = w.e.Tally(w.ctx, 0, w.marketer)
	w.must(err)
	m, err = w.s.Model(w.ctx)
	w.must(err)
	w.must(w.e.SaveModel(w.ctx, m))
	w.must(w.e.RunBatch(w.ctx, batch))
	if b, err = w.s.Batch(w.ctx, batch); err != nil || b.State != "stopped" {
		t.Errorf("under another version it is %s, %v", b.State, err)
	}
}

// Whoever comes to a level is written to, once and for all, where they agreed to the purpose, in their hours, by a
// sequence of its own that everybody sees; and is handed over from another level than the line, where they can be
// reached.
func TestWrittenToByScore(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ws := w.e.Workspace()
	ws.Zone, ws.NoHold = "UTC", true
	w.must(w.e.SetWorkspace(w.ctx, ws))
	ana, bo, cyn := w.caller("Ana", "NO", w.rep1), w.caller("Bo", "NO", w.rep1), w.caller("Cyn", "NO", w.rep1)
	w.agrees(ana, true)
	w.agrees(cyn, true)
	_, err := w.s.DB().ExecContext(w.ctx, "update person set do_not_contact = true where id = $1", cyn)
	w.must(err)
	purposes, err := w.s.Purposes(w.ctx)
	w.must(err)
	m, err := w.s.Model(w.ctx)
	w.must(err)
	write := act.Write{Message: w.first, Purpose: purposes[0].ID}
	draft := m.Clone()
	draft.Line = 100
	draft.Follows = []score.Follow{{At: 10, Acts: []act.Kept{{Act: write}}}, {At: 20, Acts: []act.Kept{{Act: act.HandOver{}}}}}
	w.must(w.e.KeepDraft(w.ctx, 0, draft, m.DraftChanges, w.marketer))
	if _, err := w.s.WriterOf(w.ctx, write.Message, write.Purpose); !store.IsNotFound(err) {
		t.Errorf("a draft has something to write by: %v", err)
	}
	m, err = w.s.Model(w.ctx)
	w.must(err)
	w.takesOver(m)
	q, err := w.s.WriterOf(w.ctx, write.Message, write.Purpose)
	w.must(err)
	if x, err := w.s.Sequence(w.ctx, q); err != nil || x.State != "running" || x.Name != "“Guide”, by score" {
		t.Errorf("it is written by %+v, %v", x, err)
	}
	w.viewed(ana, bo, cyn)
	w.settle()
	w.to(w.clock.Now().Sub(day0) + dayLong)
	got := func() (out []int) {
		for _, p := range []string{"ana", "bo", "cyn"} {
			n := 0
			for _, l := range w.mail.Letters("", 100) {
				if strings.HasPrefix(l.To, p) {
					n++
				}
			}
			out = append(out, n)
		}
		return out
	}
	if n := got(); !slices.Equal(n, []int{1, 0, 0}) {
		t.Errorf("they got %v emails", n)
	}
	w.viewed(ana, cyn) // 20: from here they are handed over, but for whom nobody may reach
	w.settle()
	if n := w.count("select count(*) from handoff where person_id = $1 and model_id = 1", ana); n != 1 {
		t.Errorf("handed over %d times", n)
	}
	if n := w.count("select count(*) from handoff"); n != 1 {
		t.Errorf("%d are handed over", n)
	}
	w.to(w.clock.Now().Sub(day0) + 40*dayLong) // their points are gone
	w.viewed(ana)
	w.settle()
	w.to(w.clock.Now().Sub(day0) + 2*dayLong)
	if n := got(); !slices.Equal(n, []int{1, 0, 0}) {
		t.Errorf("coming to it again, they got %v emails", n)
	}
	// The same again makes no other; what cannot be written is said, and leaves nothing behind.
	w.must(w.e.ReadyWriter(w.ctx, write, w.marketer))
	before := w.count("select count(*) from sequence where removed_at is null")
	m, err = w.s.Model(w.ctx)
	w.must(err)
	draft = m.Clone()
	draft.Follows[0].Acts = []act.Kept{{Act: act.Write{Message: 999, Purpose: purposes[0].ID}}}
	w.must(w.e.KeepDraft(w.ctx, 0, draft, m.DraftChanges, w.marketer))
	m, err = w.s.Model(w.ctx)
	w.must(err)
	if _, err := w.e.TakeOver(w.ctx, 0, m.DraftChanges, "", w.marketer); err == nil || !strings.Contains(err.Error(), "not there") {
		t.Errorf("a message that is not there: %v", err)
	}
	if n := w.count("select count(*) from sequence where removed_at is null"); n != before {
		t.Errorf("%d sequences are left", n-before)
	}
	// One that was ended is made anew by the next version.
	_, err = w.e.EndSequence(w.ctx, q)
	w.must(err)
	w.must(w.e.ReadyWriter(w.ctx, write, w.marketer))
	if again, err := w.s.WriterOf(w.ctx, write.Message, write.Purpose); err != nil || again == q {
		t.Errorf("it is written by %d again, %v", again, err)
	}
	// Several who take over at the same moment make one.
	write.Message = w.second
	var all errgroup.Group
	for range 4 {
		all.Go(func() error { return w.e.ReadyWriter(w.ctx, write, w.marketer) })
	}
	w.must(all.Wait())
	if n := w.count("select count(*) from sequence where writes_message = $1 and state = 'running'", w.second); n != 1 {
		t.Errorf("%d sequences write the same", n)
	}
	draft.Follows = []score.Follow{{Acts: []act.Kept{{Act: act.HandOver{}}}}}
	if err := w.e.KeepDraft(w.ctx, 0, draft, m.DraftChanges, w.marketer); err == nil {
		t.Error("the line hands over twice")
	}
}
