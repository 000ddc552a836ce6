package sequence

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"

	"ombak/internal/core/signal"
)

// lot is a kind of step that nothing but this file knows: it has as many exits as it
// is told, and sends people on by how many pages they have looked at.
type lot struct {
	Common
	Ways int `json:"ways"`
}

var kindLot = &Kind{Word: "lot", Does: "parts people", Icon: "scales"}

func (*lot) Kind() *Kind { return kindLot }
func (s *lot) Exits() (out []Exit) {
	for i := range s.Ways {
		out = append(out, Exit(fmt.Sprint(i)))
	}
	return out
}
func (s *lot) Answer(e Exit) string           { return "Page " + string(e) }
func (s *lot) Says(Names) string              { return fmt.Sprintf("%d ways", s.Ways) }
func (s *lot) takes() (before, after float64) { return 0, 0 }
func (s *lot) needs() Need                    { return NeedSignals }
func (s *lot) check(_ *Plan, report func(string)) {
	if s.Ways < 1 {
		report("parts nobody")
	}
}
func (s *lot) advance(r *run) verdict {
	n := 0
	for n < s.Ways-1 {
		if _, ok := r.f.Nth(&signal.Pattern{Kind: signal.PageView}, n+1, r.st.Entered, r.now); !ok {
			break
		}
		n++
	}
	return verdict{exit: n, at: r.st.Reached}
}

// A new kind of step, with any number of exits, is drawn, kept, checked and walked by
// what is there.
func TestAKindOfStepIsAllItsOwn(t *testing.T) {
	before := kinds
	defer func() { kinds = before }()
	Register(60, kindLot, func() Step { return &lot{Common: Common{Title: "Lot"}, Ways: 5} })
	if !slices.Contains(Kinds(), kindLot) || slices.Contains(Kinds(), nil) {
		t.Fatalf("the kinds are %v", Kinds())
	}
	p, _, _, _, _, _, _ := guide(t)
	id, err := p.Add("lot", 0, "")
	if err != nil || len(p.Step(id).About().To) != 5 {
		t.Fatalf("added with %v, %v", p.Step(id), err)
	}
	if _, err := p.Add("pause", id, "4"); err != nil {
		t.Error(err)
	}
	body, err := json.Marshal(p)
	if err != nil {
		t.Fatal(err)
	}
	var back Plan
	if err := json.Unmarshal(body, &back); err != nil || back.Step(id).(*lot).Ways != 5 {
		t.Fatalf("read back: %v", err)
	}
	if drawn := p.Step(id).(*lot); drawn.Says(Names{}) != "5 ways" || p.Days()[p.Start] != 0 {
		t.Error("it says and takes what it does not")
	}
	pr := compile(t, &back)
	if pr.Needs(id)&(NeedSignals|NeedTouch) != NeedSignals|NeedTouch {
		t.Error("what it and those behind it need is not asked for")
	}
	for looked := range 7 {
		f, st, d := someone(), pr.Enter(day0), Decision{}
		for range looked {
			f.signals = append(f.signals, signal.Signal{At: day0, Kind: signal.PageView})
		}
		pr.Advance(&st, f, day0, &d)
		if want := Exit(fmt.Sprint(min(looked, 4))); d.Logs[0].Exit != want || d.Logs[0].Step != id {
			t.Errorf("%d pages: %+v, want exit %s", looked, d.Logs, want)
		}
	}
	_, next, err := ChangeStep{&lot{Common{ID: id, Title: "Fewer"}, 5}}.Apply(p)
	if err != nil || next != id || len(p.Step(id).About().To) != 5 {
		t.Errorf("changed: %d, %v", next, err)
	}
	if what, _, err := (RemoveStep{id}).Apply(p); err != nil || what != "remove “Fewer”" || p.Step(id) != nil {
		t.Errorf("removed: %q, %v", what, err)
	}
}

// Every kind has all that the rest of the house asks it for.
func TestKindsAreWhole(t *testing.T) {
	words := map[string]bool{}
	for _, k := range Kinds() {
		s := k.make()
		if k.Key == "" || words["key "+k.Key] || k.Sort == "" {
			t.Errorf("%s is offered by the key %q among %q", k.Word, k.Key, k.Sort)
		}
		words["key "+k.Key] = true
		if k.Word == "" || k.Does == "" || k.Icon == "" || words[k.Word] || s.Kind() != k || s.About().Title == "" {
			t.Errorf("the kind %q is not whole", k.Word)
		}
		words[k.Word] = true
		exits := map[Exit]bool{}
		for _, e := range s.Exits() {
			if exits[e] || e == "" || len(s.Exits()) > 1 && s.Answer(e) == "" {
				t.Errorf("%s: the exit %q says nothing, or is there twice", k.Word, e)
			}
			exits[e] = true
		}
		for e, with := range k.With {
			if !exits[e] || !exits[with] {
				t.Errorf("%s: %q goes with %q, and one of them is no exit", k.Word, e, with)
			}
		}
		if t1, ok := s.(reaching); ok && (t1.does() == nil || len(k.Results) == 0) {
			t.Errorf("%s reaches people, and nothing does it or counts it", k.Word)
		}
		if w, ok := s.(Work); ok && len(w.Outcomes()) == 0 {
			t.Errorf("nothing can come of a %s", k.Word)
		}
		if got := CloneStep(s); got.Kind() != k || got.About().Title != s.About().Title {
			t.Errorf("%s copied is %+v", k.Word, got)
		}
	}
}

// An edit that cannot be made says so, and one that can keeps the rest.
func TestEdits(t *testing.T) {
	p, email, watch, _, _, _, _ := guide(t)
	for name, e := range map[string]Edit{
		"a kind that is not there":      InsertStep{Kind: "rocket", From: email, Exits: []Exit{Next}},
		"an exit that is not there":     InsertStep{Kind: "pause", From: watch, Exits: []Exit{"sideways"}},
		"no exit at all":                InsertStep{Kind: "pause", From: watch},
		"a step that is not there":      RemoveStep{999},
		"an end alone":                  RemoveStep{p.Step(watch).About().To[NotInTime]},
		"a change of what is gone":      ChangeStep{&Pause{Common: Common{ID: 999, Title: "x"}}},
		"a change into another kind":    ChangeStep{&Pause{Common: Common{ID: email, Title: "x"}}},
		"a change that leaves no title": ChangeStep{&Email{Common: Common{ID: email}}},
		"hours that are never open":     ChangePlan{},
	} {
		if _, _, err := e.Apply(p.Clone()); err == nil {
			t.Errorf("%s is done", name)
		}
	}
	q := p.Clone()
	if _, id, err := (InsertStep{Kind: "watch", From: email, Exits: []Exit{Next}}).Apply(q); err != nil ||
		q.Step(id).(*Watch).Of != email {
		t.Errorf("a watch behind an email watches %+v, %v", q.Step(id), err)
	}
	if _, _, err := (ChangePlan{Hours: p.Hours, LaunchHold: false}).Apply(q); err != nil || q.LaunchHold {
		t.Errorf("the settings: %v, %v", q.LaunchHold, err)
	}
}
