package sequence

import (
	"strings"
	"testing"

	"ombak/internal/core/rule"
)

// Whoever stands at a step gets the first email of one of the ways from there next.
func TestNextEmails(t *testing.T) {
	p := newPlan()
	put := func(title string, s Step, from StepID, e Exit) StepID {
		t.Helper()
		s.About().Title = title
		id, err := p.Insert(s, from, e)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	first := put("first", &Email{Message: 1}, 0, "")
	check := put("check", &Check{Rule: rule.ScoreAtLeast(5)}, first, Next)
	yes := put("yes", &Email{Message: 2}, check, Yes)
	wait := put("wait", &Pause{For: days(1)}, check, No)
	no := put("no", &Email{Message: 3}, wait, Next)
	last := put("last", &Email{Message: 4}, no, Next)
	if _, _, err := (JoinStream{From: yes, Exits: []Exit{Next}, To: last}).Apply(p); err != nil {
		t.Fatal(err)
	}
	for at, want := range map[StepID]string{first: "first", check: "yes, no", wait: "no", yes: "yes", last: "last",
		p.Step(last).About().To[Next]: "", 999: ""} {
		var got []string
		for _, e := range p.NextEmails(at) {
			got = append(got, e.Title)
		}
		if x := strings.Join(got, ", "); x != want {
			t.Errorf("at step %d: %q, want %q", at, x, want)
		}
	}
}
