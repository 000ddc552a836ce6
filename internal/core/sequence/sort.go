package sequence

import (
	"fmt"
	"slices"
	"strconv"

	"ombak/internal/core/rule"
)

// Sort tests rules in order at the instant it is reached: the first that holds
// decides, else they go on by otherwise.
type Sort struct {
	Common
	Ways []Way `json:"ways"`
}

// Way is one of the ways of a sort. Its key stays the same when others come and go.
type Way struct {
	Key  int       `json:"key"` // from 1
	Name string    `json:"name,omitempty"`
	Rule rule.Rule `json:"rule"`
}

// Exit is the exit of a way.
func (w Way) Exit() Exit { return Exit("way " + strconv.Itoa(w.Key)) }

// Otherwise is the exit of those for whom no rule of a sort holds.
const Otherwise Exit = "otherwise"

// MaxWays bounds a sort.
const MaxWays = 10

var kindSort = Register(7, &Kind{Word: "sort", Does: "parts people by rules",
	Icon: "arrows-split", Key: "o", Sort: Parting},
	func() Step {
		return &Sort{Common{Title: "Sort"}, []Way{{Key: 1, Rule: rule.ScoreAtLeast(30)}, {Key: 2,
			Rule: rule.ScoreAtLeast(15)}}}
	})

// Kind describes sorts.
func (*Sort) Kind() *Kind { return kindSort }

// Exits are one for each rule, and otherwise.
func (s *Sort) Exits() []Exit {
	out := make([]Exit, 0, len(s.Ways)+1)
	for _, w := range s.Ways {
		out = append(out, w.Exit())
	}
	return append(out, Otherwise)
}

// Answer names the way.
func (s *Sort) Answer(e Exit) string {
	for i, w := range s.Ways {
		if w.Exit() != e {
			continue
		}
		if w.Name != "" {
			return w.Name
		}
		return fmt.Sprintf("Rule %d", i+1)
	}
	return "Otherwise"
}

// Says says how many ways there are.
func (s *Sort) Says(Names) string {
	if len(s.Ways) == 1 {
		return "by a rule"
	}
	return fmt.Sprintf("by %d rules", len(s.Ways))
}

// Settings give each rule in words.
func (s *Sort) Settings(n Names) (out []Setting) {
	for _, w := range s.Ways {
		out = append(out, Setting{s.Answer(w.Exit()), w.Rule.Words(n.Rules)})
	}
	return out
}

// NewKey is a key that no way of s has, and none had that is still there.
func (s *Sort) NewKey() int {
	key := 1
	for _, w := range s.Ways {
		key = max(key, w.Key+1)
	}
	return key
}

func (s *Sort) check(_ *Plan, report func(string)) {
	if len(s.Ways) == 0 || len(s.Ways) > MaxWays {
		report(fmt.Sprintf("parts by one to %d rules", MaxWays))
	}
	for i, w := range s.Ways {
		if w.Key < 1 || slices.ContainsFunc(s.Ways[:i], func(o Way) bool { return o.Key == w.Key }) {
			report(fmt.Sprintf("rule %d has the key of another", i+1))
		}
		if !w.Rule.Asks() {
			report(fmt.Sprintf("rule %d asks nothing yet", i+1))
		}
		if err := w.Rule.Check(nil); err != nil {
			report(fmt.Sprintf("rule %d: %v", i+1, err))
		}
	}
}

func (s *Sort) takes() (before, after float64) { return 0, 0 }

func (s *Sort) needs() (n Need) {
	for i := range s.Ways {
		n |= needsOf(&s.Ways[i].Rule)
	}
	return n
}

func (s *Sort) advance(r *run) verdict {
	for i := range s.Ways {
		if s.Ways[i].Rule.Holds(r.f, r.st.Reached) {
			return verdict{exit: i, at: r.st.Reached}
		}
	}
	return verdict{exit: len(s.Ways), at: r.st.Reached}
}
