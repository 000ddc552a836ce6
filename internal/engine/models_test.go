package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/people"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// does has somebody do something now.
func (w *world) does(k signal.Kind, who ...int64) {
	w.t.Helper()
	for _, p := range who {
		w.must(w.e.Record(w.ctx, store.Signal{Person: p, Signal: signal.Signal{At: w.clock.Now(), Kind: k}}))
	}
}

// loans begins a second model that counts: ten points for a download, for five days, and a line of ten.
func (w *world) loans() store.Model {
	w.t.Helper()
	id, err := w.e.AddModel(w.ctx, " Loans ", 0, w.marketer)
	w.must(err)
	m, err := w.s.ModelOf(w.ctx, id)
	w.must(err)
	draft := m.Draft.Clone()
	draft.Line, draft.CoolOff = 10, 9
	draft.Bands = []rule.Band{{Name: "far"}, {Name: "near", From: 10}}
	draft.Rules = []score.Rule{{On: signal.Pattern{Kind: signal.Download}, Points: 10, Lasts: 5},
		{On: signal.Pattern{Kind: signal.Open}, Points: 2, Lasts: 5}}
	draft.Fit = rule.Fit{{If: rule.FieldIs(person.Country, "NO"), Points: 3}}
	w.must(w.e.KeepDraft(w.ctx, id, draft, m.DraftChanges, w.marketer))
	m, err = w.s.ModelOf(w.ctx, id)
	w.must(err)
	return m
}

func (w *world) takesOver(m store.Model) store.Model {
	w.t.Helper()
	_, err := w.e.TakeOver(w.ctx, m.ID, m.DraftChanges, "", w.marketer)
	w.must(err)
	w.settle()
	m, err = w.s.ModelOf(w.ctx, m.ID)
	w.must(err)
	return m
}

// Each product has a model of its own, with its own points, line and drafts: whoever crosses one of the lines is handed
// over with the reasons of that one, to whom a territory that asks for its score says, and audiences and checks ask for
// each by itself, and for what a single rule gives.
func TestSeveralModels(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, bo := w.caller("Ana", "NO", 0), w.caller("Bo", "CA", 0)
	w.does(signal.Download, bo) // before there is a model for it
	m := w.loans()
	if m.Name != "Loans" || m.Version != 0 || w.count("select count(*) from standing where model_id = $1", m.ID) != 0 {
		t.Fatalf("it counts already: %+v", m)
	}
	// What it would change is told of everybody, though nobody has a score by it yet.
	batch, err := w.e.PreviewDraft(w.ctx, m.ID, w.marketer)
	w.must(err)
	w.must(w.e.RunBatch(w.ctx, batch))
	b, err := w.s.Previewed(w.ctx, m.ID)
	w.must(err)
	if p := b.Detail.V.Preview; p.People != 2 || p.Up.N != 1 || p.Up.IDs[0] != bo || b.Total != 2 {
		t.Errorf("it would change %+v", p)
	}
	if _, err := w.s.Previewed(w.ctx, 1); !store.IsNotFound(err) {
		t.Errorf("the first model has its preview: %v", err)
	}
	m = w.takesOver(m)
	if n := w.count("select count(*) from handoff"); n != 0 || m.Version != 1 {
		t.Errorf("version %d hands over %d by itself", m.Version, n)
	}
	if n, _, err := w.s.LiftedWaiting(w.ctx, m.ID); err != nil || n != 1 {
		t.Errorf("over its line by the change are %d, %v", n, err)
	}

	// What asks for it.
	near := rule.Begin("about band", must(w.s.Catalogue(w.ctx)))
	near.Choose(must(w.s.Catalogue(w.ctx)), fmt.Sprintf("%d/near", m.ID))
	downloads := rule.Condition{Score: true, Model: m.ID, Rule: 1, Op: rule.AtLeast, N: 10}
	fit := rule.Condition{About: rule.ByFit, Model: m.ID, Op: rule.AtLeast, N: 100}
	asks := map[string]int64{}
	for name, c := range map[string]rule.Condition{"near": near, "downloads": downloads, "fit": fit,
		"first": {Score: true, Op: rule.AtLeast, N: 10}} {
		asks[name] = w.audience(name, rule.Rule{If: &c})
	}
	_, _, err = w.e.KeepTerritory(w.ctx, store.Territory{Name: "Loans", User: w.rep2,
		Rule: store.JSON[rule.Rule]{V: rule.Rule{If: &rule.Condition{Score: true, Model: m.ID, Op: rule.AtLeast,
			N: 10}}}}, nil, w.marketer)
	w.must(err)

	// They cross its line, and only its.
	w.does(signal.Open, ana)
	w.does(signal.Download, ana)
	w.settle()
	h := w.handoffOf(ana)
	if h.Model != m.ID || h.Brief.V.Model != "Loans" || h.Brief.V.Line != 10 || h.Brief.V.Score != 12 ||
		len(h.Brief.V.Reasons) != 2 || h.Brief.V.Reasons[0].Points != 10 || *h.Rep != w.rep2 {
		t.Errorf("handed over: %+v", h)
	}
	if x, err := w.e.Explain(w.ctx, ana, 0, w.clock.Now()); err != nil || x.Sum != 1 || x.Model.Name != "Engagement" {
		t.Errorf("by the first they have %g, %v", x.Sum, err)
	}
	if x, err := w.e.Explain(w.ctx, ana, m.ID, w.clock.Now()); err != nil || x.Sum != 12 || len(x.Lines) != 2 {
		t.Errorf("by the second they have %g, %v", x.Sum, err)
	}
	in := func(when string, want map[string][]int64) {
		t.Helper()
		w.settle()
		for name, id := range asks {
			if got := w.in(id); !slices.Equal(got, want[name]) {
				t.Errorf("%s, %s: %v, want %v", when, name, got, want[name])
			}
		}
	}
	in("after it", map[string][]int64{"near": {ana, bo}, "downloads": {ana, bo}, "fit": {ana}})
	w.does(signal.PageView, bo) // ten by the first
	in("and a look", map[string][]int64{"near": {ana, bo}, "downloads": {ana, bo}, "fit": {ana}, "first": {bo}})
	w.to(6 * dayLong) // its points have run out, those of the first not
	in("after six days", map[string][]int64{"fit": {ana}, "first": {bo}})

	// A draft of the one is none of the other, and one model's version leaves the other's scores alone.
	first, err := w.s.Model(w.ctx)
	w.must(err)
	w.must(w.e.KeepDraft(w.ctx, 0, first.Clone(), first.DraftChanges, w.marketer))
	if m, err = w.s.ModelOf(w.ctx, m.ID); err != nil || m.Draft != nil {
		t.Errorf("the draft of the first is the second's: %+v, %v", m.Draft, err)
	}

	// Names, and how many.
	for name, is := range map[string]error{"loans": people.ErrModelName, " ": people.ErrModelName,
		strings.Repeat("x", 81): people.ErrModelName} {
		if _, err := w.e.AddModel(w.ctx, name, 0, w.marketer); !errors.Is(err, is) {
			t.Errorf("%q: %v", name, err)
		}
	}
	if err := w.e.RenameModel(w.ctx, m.ID, "engagement"); !errors.Is(err, people.ErrModelName) {
		t.Errorf("called as the first: %v", err)
	}
	w.must(w.e.RenameModel(w.ctx, m.ID, "Buoy loans"))
	if cat := must(w.s.Catalogue(w.ctx)); len(cat.Models) != 2 || cat.Models[1].Name != "Buoy loans" ||
		len(cat.Models[1].Rules) != 2 || cat.Models[1].Rules[0].Name != "download" {
		t.Errorf("there is to ask for %+v", cat.Models)
	}
	like, err := w.e.AddModel(w.ctx, "Like loans", m.ID, w.marketer)
	w.must(err)
	if x, err := w.s.ModelOf(w.ctx, like); err != nil || x.Draft == nil || len(x.Draft.Rules) != 2 || x.Draft.Name != "Like loans" {
		t.Errorf("like it: %+v, %v", x.Draft, err)
	}
	for i := range people.MaxModels {
		_, err = w.e.AddModel(w.ctx, fmt.Sprint("m", i), 0, w.marketer)
	}
	if !errors.Is(err, people.ErrManyModels) {
		t.Errorf("too many: %v", err)
	}

	// It goes once nothing asks for it, with all that was kept of it; the first stays.
	if err := w.e.RemoveModel(w.ctx, m.ID); !errors.Is(err, people.ErrInUse) || !strings.Contains(err.Error(), "territory") ||
		!strings.Contains(err.Error(), "downloads") {
		t.Errorf("in use: %v", err)
	}
	if err := w.e.RemoveModel(w.ctx, first.ID); !errors.Is(err, people.ErrFirstModel) {
		t.Errorf("the first: %v", err)
	}
	for _, id := range asks {
		w.must(w.e.RemoveAudience(w.ctx, id))
	}
	list, err := w.s.Territories(w.ctx)
	w.must(err)
	w.must(w.e.RemoveTerritory(w.ctx, list[0].ID, false, w.marketer))
	w.must(w.e.RemoveModel(w.ctx, m.ID))
	w.does(signal.Download, bo)
	w.settle()
	w.must(w.e.Tidy(w.ctx))
	if n := w.count("select count(*) from standing where model_id = $1", m.ID); n != 0 {
		t.Errorf("%d scores lie by a model that is gone", n)
	}
	if _, err := w.s.ModelOf(w.ctx, m.ID); !store.IsNotFound(err) || w.handoffOf(ana).Model != m.ID {
		t.Errorf("it is there: %v", err)
	}
	if err := w.e.RemoveModel(w.ctx, m.ID); !errors.Is(err, people.ErrNoModel) {
		t.Errorf("once more: %v", err)
	}
}

// must is for what a test needs and cannot go on without.
func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// A check of a sequence asks for the score by the model it names, and for the points of one rule, at the instant at
// which it is reached, however late a worker looks.
func TestAChecksModel(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	m := w.takesOver(w.loans())
	plan := sequence.NewPlan()
	plan.LaunchHold, plan.Ground.Other = false, "existing customers"
	wait, err := plan.Insert(&sequence.Pause{For: calendar.Span{N: 2, Unit: calendar.Days}}, 0, "")
	w.must(err)
	check := func(at sequence.StepID, x sequence.Exit, c rule.Condition) sequence.StepID {
		id, err := plan.Insert(&sequence.Check{Rule: rule.Rule{If: &c}}, at, x)
		w.must(err)
		return id
	}
	whole := check(wait, sequence.Next, rule.Condition{Score: true, Model: m.ID, Op: rule.AtLeast, N: 12})
	one := check(whole, sequence.Yes, rule.Condition{Score: true, Model: m.ID, Rule: 2, Op: rule.AtLeast, N: 4})
	_, err = plan.Insert(&sequence.Change{Acts: []act.Kept{{Act: act.Tag{Name: "both"}}}}, one, sequence.Yes)
	w.must(err)
	q := w.running("By its score", plan)
	ana, bo, cyn := w.caller("Ana", "NO", w.rep1), w.caller("Bo", "NO", w.rep1), w.caller("Cyn", "NO", w.rep1)
	w.enters(q, ana, bo, cyn)
	w.settle()
	w.does(signal.Download, ana, bo)
	w.does(signal.Open, ana, bo)
	w.does(signal.Open, ana)
	w.does(signal.PageView, cyn) // which is none of this model's
	w.settle()
	w.clock.set(w.clock.Now().Add(9 * dayLong)) // by now the points are gone; they were not after two days
	w.settle()
	exits := func(p int64) (out []sequence.Exit) {
		for _, s := range []sequence.StepID{whole, one} {
			var x string
			err := w.s.DB().QueryRowContext(w.ctx, `
				select l.exit
				from enrolment_log l
				join enrolment e on e.id = l.enrolment_id
				where e.sequence_id = $1 and e.person_id = $2 and l.step = $3`, q, p, s).Scan(&x)
			if err == nil {
				out = append(out, sequence.Exit(x))
			}
		}
		return out
	}
	for p, want := range map[int64][]sequence.Exit{ana: {sequence.Yes, sequence.Yes}, bo: {sequence.Yes, sequence.No},
		cyn: {sequence.No}} {
		if got := exits(p); !slices.Equal(got, want) {
			t.Errorf("person %d went by %v, want %v", p, got, want)
		}
	}
	if n := w.count("select count(*) from person_tag"); n != 1 {
		t.Errorf("%d are tagged", n)
	}
}
