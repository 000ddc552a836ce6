package sequence

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ombak/internal/core/calendar"
	"ombak/internal/core/rule"
)

// Each edit is told as what it does, and nothing else.
func TestDiffers(t *testing.T) {
	make := func() *Plan {
		p := newPlan()
		first, _ := p.Insert(&Email{Common: Common{Title: "First"}, Message: 1}, 0, "")
		check, _ := p.Insert(&Check{Common: Common{Title: "Ready?"}, Rule: rule.ScoreAtLeast(5)}, first, Next)
		if _, err := p.Insert(&Email{Common: Common{Title: "Second"}, Message: 2}, check, Yes); err != nil {
			t.Fatal(err)
		}
		return p
	}
	step := func(p *Plan, title string) Step {
		for _, s := range p.Steps {
			if s.About().Title == title {
				return s
			}
		}
		t.Fatalf("no step %q", title)
		return nil
	}
	for _, c := range []struct {
		name string
		edit func(*Plan)
		want string
	}{
		{"nothing", func(*Plan) {}, ""},
		{"who makes it", func(p *Plan) { step(p, "First").About().Make.Who = 3 }, ""},
		{"a step", func(p *Plan) { p.Insert(&Pause{Common: Common{Title: "Wait"}}, p.Start, Next) }, "Wait new"},
		{"another message", func(p *Plan) { step(p, "First").(*Email).Message = 9 }, "First changed"},
		{"another title", func(p *Plan) { step(p, "Second").About().Title = "Third" }, "Third changed"},
		{"no step", func(p *Plan) { p.Remove(step(p, "Second").About().ID) }, "Second gone"},
		{"to the second at once", func(p *Plan) {
			check := step(p, "Ready?").About()
			check.To[No] = step(p, "Second").About().ID
			p.prune()
		}, "Ready? leads elsewhere, End gone"},
		{"settings", func(p *Plan) { p.LongestStay, p.Rest = days(3), Rest{Days: 2} },
			"longest stay set anew, rest set anew"},
		{"hours and a rule to leave", func(p *Plan) {
			r := rule.ScoreAtLeast(9)
			p.Hours, p.LeaveIf = calendar.OfficeHours(0, 60), &r
		}, "sending hours set anew, leave rules set anew"},
	} {
		was, p := make(), make()
		c.edit(p)
		var said []string
		for _, d := range p.Differs(was) {
			said = append(said, fmt.Sprintf("%s %s", d.Title, d.How))
		}
		got := strings.Join(said, ", ")
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// Over generated edits: every step that only one of them has is told, once; equal plans differ
// in nothing.
func TestDiffersOverEdits(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 9))
	p := newPlan()
	for range 400 {
		was := p.Clone()
		if d := p.Differs(was); len(d) > 0 {
			t.Fatalf("a copy differs: %v", d)
		}
		for range 1 + rnd.IntN(3) {
			s := p.Steps[rnd.IntN(len(p.Steps))]
			if rnd.IntN(3) == 0 || len(p.Steps) > 30 {
				p.Remove(s.About().ID) // what cannot be is refused
			} else if exits := s.Exits(); len(exits) > 0 {
				p.Insert(New([]string{"email", "check", "pause", "call"}[rnd.IntN(4)]), s.About().ID,
					exits[rnd.IntN(len(exits))])
			} else {
				p.Insert(New("email"), 0, "")
			}
		}
		told := map[StepID][]How{}
		for _, d := range p.Differs(was) {
			told[d.Step] = append(told[d.Step], d.How)
		}
		for _, s := range p.Steps {
			if how := told[s.About().ID]; was.Step(s.About().ID) == nil && (len(how) != 1 || how[0] != IsNew) {
				t.Fatalf("step %d is new, and told as %v", s.About().ID, how)
			}
		}
		for _, s := range was.Steps {
			if how := told[s.About().ID]; p.Step(s.About().ID) == nil && (len(how) != 1 || how[0] != IsGone) {
				t.Fatalf("step %d is gone, and told as %v", s.About().ID, how)
			}
		}
	}
}
