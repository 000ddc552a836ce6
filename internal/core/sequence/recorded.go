package sequence

import (
	"strings"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// Recorded is what happens to a record for somebody to enter: it is made, or one of its
// fields changes. The zero Recorded is every record that is made.
type Recorded struct {
	Source string       `json:"source,omitempty"` // of one that is made: where it came from; empty: from anywhere
	Field  person.Field `json:"field,omitempty"`  // of one that changes; empty: it is made
	From   string       `json:"from,omitempty"`   // what the field was; empty: anything
	To     string       `json:"to,omitempty"`     // what it is now; empty: anything
}

// RecordNews is what happened to a record: it was made, with the values it has After, or it
// changed, and Before and After are what the changed fields were and are.
type RecordNews struct {
	Made          bool
	Before, After person.Values
}

const maxRecorded = 400

// Check reports what is wrong with it, or nil.
func (r *Recorded) Check() error {
	switch {
	case max(len(r.Source), len(r.From), len(r.To), len(r.Field)) > maxRecorded:
		return plainly.Errorf("what is asked of a record has at most %d letters", maxRecorded)
	case r.Field == "" && r.From+r.To != "":
		return plainly.New("choose the field that changes")
	case r.Field != "" && r.Source != "":
		return plainly.New("where a record came from is asked when it is made, not when it changes")
	case r.Field != "" && r.From != "" && rule.Fold(r.From) == rule.Fold(r.To):
		return plainly.New("a field that stays as it is has not changed")
	}
	return nil
}

// Matches reports whether what happened is what r asks for. Texts compare as those of rules
// do, without regard to case and outer spaces; what only these tell apart is no change.
func (r *Recorded) Matches(h *RecordNews) bool {
	if r.Field == "" {
		return h.Made && same(r.Source, h.After[person.Source])
	}
	after, told := h.After[r.Field]
	if h.Made || !told && !has(h.Before, r.Field) {
		return false
	}
	before := h.Before[r.Field]
	return rule.Fold(before) != rule.Fold(after) && same(r.From, before) && same(r.To, after)
}

func has(v person.Values, f person.Field) bool { _, ok := v[f]; return ok }

// same reports whether a text is what is asked for; empty asks for any.
func same(asked, is string) bool { return asked == "" || rule.Fold(asked) == rule.Fold(is) }

// Words says what happens to their record: "is made", "country changes from “Norway”".
func (r *Recorded) Words(cat *rule.Catalogue) string {
	if r.Field == "" {
		if r.Source == "" {
			return "record is made"
		}
		return "record is made, from “" + r.Source + "”"
	}
	d, ok := cat.Define(r.Field)
	if !ok {
		d.Name = "a field that is not there any more"
	}
	var b strings.Builder
	b.WriteString(d.Name + " changes")
	for _, x := range []struct{ how, to string }{{" from ", r.From}, {" to ", r.To}} {
		if x.to != "" {
			b.WriteString(x.how + "“" + rule.Shown(cat, r.Field, x.to) + "”")
		}
	}
	return b.String()
}
