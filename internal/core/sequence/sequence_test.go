package sequence

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
)

// guide is the field guide's follow-up: an email, a watch for a click, a check of the score; on one side an
// email and a handing over, on the other a call.
func guide(t testing.TB) (p *Plan, email, watch, check, second, hand, call StepID) {
	t.Helper()
	p = newPlan()
	p.LaunchHold = false
	put := func(s Step, from StepID, e Exit) StepID {
		id, err := p.Insert(s, from, e)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	email = put(&Email{Common: Common{Title: "Field guide"}, Message: 1}, 0, "")
	watch = put(&Watch{Common: Common{Title: "Watch"}, Signal: 5, Of: email,
		For: calendar.Span{N: 5, Unit: calendar.Days}}, email, Next)
	check = put(New("check"), watch, Happened)
	second = put(&Email{Common: Common{Title: "From the owner"}, Message: 2}, check, Yes)
	hand = put(New("hand over"), second, Next)
	call = put(New("call"), check, No)
	return
}

func TestInsertKeepsAPlanWhole(t *testing.T) {
	p, email, watch, check, second, hand, call := guide(t)
	if problems := p.Check(); len(problems) > 0 {
		t.Fatalf("problems: %v", problems)
	}
	for _, c := range []struct {
		from StepID
		exit Exit
		to   StepID
	}{{email, Next, watch}, {watch, Happened, check}, {check, Yes, second}, {second, Next, hand}, {check, No, call}} {
		if got := p.Step(c.from).About().To[c.exit]; got != c.to {
			t.Errorf("step %d leads by %s to %d, want %d", c.from, c.exit, got, c.to)
		}
	}
	if p.Start != email {
		t.Errorf("starts at %d", p.Start)
	}
	if _, err := p.Insert(New("pause"), 99, Next); err != ErrNoStep {
		t.Errorf("insert after no step: %v", err)
	}
	if _, err := p.Insert(New("pause"), email, Yes); err != ErrNoExit {
		t.Errorf("insert on no exit: %v", err)
	}
}

func TestRemove(t *testing.T) {
	p, email, watch, check, second, hand, call := guide(t)
	if err := p.Remove(check); err != nil {
		t.Fatal(err)
	}
	if p.Step(check) != nil || p.Step(call) != nil {
		t.Error("the check or the branch that only it reached is still there")
	}
	if p.Step(watch).About().To[Happened] != second {
		t.Error("the main branch does not go on")
	}
	if err := p.Remove(hand); err != nil || len(p.Check()) > 0 {
		t.Errorf("removing the handing over: %v, %v", err, p.Check())
	}
	end := p.Step(second).About().To[Next]
	if _, ok := p.Step(end).(*End); !ok {
		t.Errorf("step %d in its place is no end", end)
	}
	if err := p.Remove(end); err != ErrOnlyEnd {
		t.Errorf("removing an end: %v", err)
	}
	if err := p.Remove(email); err != nil || p.Start != watch {
		t.Errorf("removing the start: %v, start %d", err, p.Start)
	}
}

// TestEditsNeverBreakAPlan edits at random and checks after each edit that the plan is whole: no exit without a
// step, no circle, no step that cannot be reached, no id used twice.
func TestEditsNeverBreakAPlan(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 5))
	for range 60 {
		p := newPlan()
		used := map[StepID]bool{1: true}
		for range 80 {
			s := p.Steps[rnd.IntN(len(p.Steps))]
			if exits := s.Exits(); rnd.IntN(3) > 0 && len(exits) > 0 || len(p.Steps) < 3 {
				k := Kinds()[rnd.IntN(len(kinds))]
				from, exit := StepID(0), Exit("")
				if len(exits) > 0 && rnd.IntN(4) > 0 {
					from, exit = s.About().ID, exits[rnd.IntN(len(exits))]
				}
				id, err := p.Insert(k.make(), from, exit)
				if err != nil || used[id] {
					t.Fatalf("insert: %v, id %d", err, id)
				}
				used[id] = true
			} else if err := p.Remove(s.About().ID); err != nil && err != ErrOnlyEnd {
				t.Fatal(err)
			}
			order, ok := p.order()
			if !ok || len(order) != len(p.Steps) {
				t.Fatalf("%d steps, %d reached, no circle: %v", len(p.Steps), len(order), ok)
			}
			for _, s := range p.Steps {
				for _, e := range s.Exits() {
					if p.Step(s.About().To[e]) == nil {
						t.Fatalf("exit %s of step %d leads nowhere", e, s.About().ID)
					}
				}
			}
		}
	}
}

func TestPlanGoesThroughJSON(t *testing.T) {
	p, _, _, _, _, _, _ := guide(t)
	data, err := json.Marshal(p)
	if err != nil {
		t.Fatal(err)
	}
	var q Plan
	if err := json.Unmarshal(data, &q); err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(p, &q) {
		t.Errorf("came back as %s", data)
	}
	for name, bad := range map[string]string{
		"an unknown kind": `{"start":1,"steps":[{"kind":"teleport","id":1}]}`,
		"no kind":         `{"start":1,"steps":[{"id":1}]}`,
		"wrong type":      `{"start":1,"steps":[{"kind":"email","id":"x"}]}`,
		"cut off":         `{"start":1,"steps":[{"kind":"email"`,
	} {
		if json.Unmarshal([]byte(bad), &q) == nil {
			t.Errorf("%s: no error", name)
		}
	}
}

func TestCheckNamesWhatIsWrong(t *testing.T) {
	for _, c := range []struct {
		name string
		do   func(p *Plan, email, watch StepID)
		want string
	}{
		{"no message", func(p *Plan, e, _ StepID) { p.Step(e).(*Email).Message = 0 }, "no message"},
		{"no hours", func(p *Plan, _, _ StepID) { p.Hours = calendar.SendingHours{} }, "no interval"},
		{"a circle", func(p *Plan, e, w StepID) { p.Step(w).About().To[NotInTime] = e }, "leads back"},
		{"a dangling exit", func(p *Plan, _, w StepID) { p.Step(w).About().To[NotInTime] = 77 }, "leads nowhere"},
		{"a watch of no time", func(p *Plan, _, w StepID) { p.Step(w).(*Watch).For.N = 0 }, "no time at all"},
		{"watching what comes later", func(p *Plan, _, w StepID) { p.Step(w).(*Watch).Of = w }, "does not come before"},
		{"an endless wait", func(p *Plan, e, _ StepID) {
			p.Step(e).(*Email).Wait = calendar.Span{N: 9999, Unit: calendar.Days}
		}, "at most"},
		{"no start", func(p *Plan, _, _ StepID) { p.Start = 0 }, "no step"},
		{"no ground", func(p *Plan, _, _ StepID) { p.Ground = contact.Ground{} }, "on what ground"},
		{"nothing to send", func(p *Plan, _, _ StepID) { *p = *NewPlan() }, "no step yet that does something"},
	} {
		p, email, watch, _, _, _, _ := guide(t)
		c.do(p, email, watch)
		found := false
		for _, x := range p.Check() {
			found = found || strings.Contains(x.Text, c.want)
		}
		if !found {
			t.Errorf("%s: %v", c.name, p.Check())
		}
	}
}

// Streams that lead to the same step are one: what is put on it is on all of
// them, and on one alone where only that one is named.
func TestInsertOnExitsThatMeet(t *testing.T) {
	p := newPlan()
	call, err := p.Insert(New("call"), 0, "")
	if err != nil {
		t.Fatal(err)
	}
	to := p.Step(call).About().To
	if to[NotReached] != to[Missed] || to[NotReached] == to[IsDone] || to[NotInterested] == to[Missed] {
		t.Fatalf("a new call leads %v", to)
	}
	both, err := p.Insert(New("pause"), call, NotReached, Missed, NotInterested) // the last leads elsewhere
	if err != nil || to[NotReached] != both || to[Missed] != both || to[NotInterested] == both {
		t.Errorf("%v, %v", to, err)
	}
	one, err := p.Insert(New("pause"), call, Missed)
	if err != nil || to[Missed] != one || to[NotReached] != both {
		t.Errorf("%v, %v", to, err)
	}
}

func TestDays(t *testing.T) {
	p, email, watch, check, second, _, call := guide(t)
	p.Step(second).(*Email).Wait = calendar.Span{N: 1, Unit: calendar.Days}
	days := p.Days()
	for id, want := range map[StepID]float64{email: 0, watch: 0, check: 5, second: 6, call: 5} {
		if days[id] != want {
			t.Errorf("step %d on day %v, want %v", id, days[id], want)
		}
	}
}
