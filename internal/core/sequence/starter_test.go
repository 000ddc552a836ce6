package sequence

import (
	"slices"
	"strings"
	"testing"
)

// Each starter can be drawn, and lacks only its parts, its ground and who enters: whatever
// else the checks would find in a plan that is begun with one would be its fault.
func TestStarters(t *testing.T) {
	keys := map[string]bool{}
	for _, s := range Starters() {
		p := s.Plan()
		if keys[s.Key] || s.Name == "" || s.For == "" {
			t.Errorf("the starter %q is not whole", s.Key)
		}
		keys[s.Key] = true
		if err := p.whole(); err != nil {
			t.Errorf("%s: %v", s.Key, err)
		}
		missing := 0
		for _, x := range p.Parts() {
			if x.ID == 0 {
				missing++
			}
		}
		lacks := 0
		for _, x := range p.Check() {
			switch {
			case strings.Contains(x.Text, "no message yet"), strings.Contains(x.Text, "says nothing"):
				lacks++
			case strings.Contains(x.Text, "on what ground"), strings.Contains(x.Text, "the event is still"):
			default:
				t.Errorf("%s: step %d %s", s.Key, x.Step, x.Text)
			}
		}
		if missing == 0 || lacks == 0 {
			t.Errorf("%s has no part that is missing", s.Key)
		}
		if again, ok := StarterOf(s.Key); !ok || mustJSON(again.Plan()) != mustJSON(p) {
			t.Errorf("%s is another the second time", s.Key)
		}
		if body := mustJSON(p); body != mustJSON(p.Clone()) {
			t.Errorf("%s is not kept as it is", s.Key)
		}
	}
	if _, ok := StarterOf("nothing"); ok || len(keys) != 7 {
		t.Errorf("%d starters", len(keys))
	}
}

// A plan told as a list has each step once, behind what leads to it, and says where
// streams meet; generated plans and the starters.
func TestOutline(t *testing.T) {
	p, _ := StarterOf("event")
	var got []string
	plan := p.Plan()
	for _, l := range plan.Outline() {
		s := strings.Repeat("  ", l.Depth)
		if l.Answer != "" {
			s += l.Answer + ": "
		}
		if l.Again {
			s += "again "
		}
		got = append(got, s+l.Step.About().Title)
	}
	want := []string{"Invitation", "Registers?", "  Registered: Reminder, the day before", "  Comes?",
		"    Came: Note to who came", "    Came", "    Not in time: Note to who missed it", "    Stayed away",
		"  Not in 7 days: Second chance", "  Registers now?", "    Registered: again Reminder, the day before",
		"    Not in time: Did not register"}
	if !slices.Equal(got, want) {
		t.Errorf("the invitation is told as\n%s", strings.Join(got, "\n"))
	}
	for _, s := range Starters() {
		plan, seen := s.Plan(), map[StepID]int{}
		for _, l := range plan.Outline() {
			id := l.Step.About().ID
			if l.Again != (seen[id] > 0) || l.Again && l.Number != seen[id] {
				t.Errorf("%s: step %d is told as %+v", s.Key, id, l)
			}
			seen[id] = l.Number
		}
		if len(seen) != len(plan.Steps) {
			t.Errorf("%s: %d of %d steps are told", s.Key, len(seen), len(plan.Steps))
		}
	}
}
