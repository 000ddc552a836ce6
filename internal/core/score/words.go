package score

import (
	"fmt"
	"strings"

	"ombak/internal/core/rule"
)

// Words says a rule in one sentence without its end: "3 points when they clicked a link from the message “Spring”, at
// most 5 times a day, for 30 days, only while country is Norway".
func (r *Rule) Words(cat *rule.Catalogue) string {
	if r.OfRecord() {
		return r.points() + " while " + r.If.Words(cat)
	}
	did := r.On.Kind.Did() + strings.TrimSuffix(rule.PlaceWords(&r.On, cat), ",")
	var parts []string
	switch {
	case r.Often == While:
		parts = append(parts, fmt.Sprintf("%s while they %s at least %s within %s", r.points(), did, times(r.N),
			days(r.Window)))
	case r.Points == 0:
		parts = append(parts, "when they "+did)
	default:
		parts = append(parts, r.points()+" when they "+did)
	}
	switch r.Often {
	case First:
		parts = append(parts, "the first time")
	case PerDay:
		parts = append(parts, "at most "+times(r.N)+" a day")
	case InAll:
		parts = append(parts, "at most "+times(r.N)+" in all")
	}
	if r.Lasts > 0 && r.Points != 0 {
		parts = append(parts, "for "+days(r.Lasts))
	}
	if r.Half > 0 {
		parts = append(parts, "halving every "+days(r.Half))
	}
	if r.If.Asks() {
		parts = append(parts, "only while "+r.If.Words(cat))
	}
	if r.Wipe {
		parts = append(parts, "and nothing before it counts any more")
	}
	return strings.Join(parts, ", ")
}

// For is what a rule gives its points for, in a few words: "click", or the condition on the record.
func (r *Rule) For(cat *rule.Catalogue) string {
	if r.OfRecord() {
		return r.If.Words(cat)
	}
	return r.On.Kind.String() + strings.TrimSuffix(rule.PlaceWords(&r.On, cat), ",")
}

func (r *Rule) points() string {
	switch {
	case r.Points == 1:
		return "1 point"
	case r.Points < 0:
		return strings.Replace(fmt.Sprintf("%d points", r.Points), "-", "−", 1)
	}
	return fmt.Sprintf("%d points", r.Points)
}

func times(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

func days(n int) string {
	if n == 1 {
		return "1 day"
	}
	return fmt.Sprintf("%d days", n)
}
