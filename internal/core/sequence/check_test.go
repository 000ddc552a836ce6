package sequence

import (
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// TestWhatChecksNeed: facts that are not loaded would be answered as nothing.
func TestWhatChecksNeed(t *testing.T) {
	of := func(c rule.Condition) rule.Rule { return rule.Rule{None: []rule.Rule{{If: &c}}} }
	for _, c := range []struct {
		r    rule.Rule
		want Need
	}{
		{rule.ScoreAtLeast(3), NeedScore},
		{of(rule.Condition{About: rule.InBand, N: 5}), NeedScore},
		{of(rule.Condition{About: rule.ByFit, N: 5}), NeedRecord | NeedAround},
		{of(rule.Condition{About: rule.Tag, ID: 5}), NeedRecord | NeedAround},
		{of(rule.Condition{Field: person.City}), NeedRecord},
		{of(rule.Condition{Signal: &signal.Pattern{Kind: signal.Click}}), NeedHistory},
		{rule.Rule{Any: []rule.Rule{rule.ScoreAtLeast(3), rule.FieldIs(person.City, "Oban")}}, NeedScore | NeedRecord},
	} {
		if got := (&Check{Rule: c.r}).needs(); got != c.want {
			t.Errorf("%s needs %b, not %b", c.r.Words(nil), got, c.want)
		}
	}
}
