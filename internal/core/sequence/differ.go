package sequence

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"
)

// Difference is what is another in a plan than in the one before.
type Difference struct {
	Step  StepID // 0: the plan's settings
	Title string // of the step; of settings, which
	How   How
}

// How something is another than before.
type How string

// The ways in which it is.
const (
	IsNew     How = "new"
	IsChanged How = "changed"
	LeadsOn   How = "leads elsewhere"
	IsGone    How = "gone"
	IsSet     How = "set anew"
)

// Differs lists what is another in p than in was: steps in the order in which they are reached,
// then those that are gone, then settings.
func (p *Plan) Differs(was *Plan) []Difference {
	var out []Difference
	order, _ := p.order()
	for _, id := range order {
		s, old := p.Step(id), was.Step(id)
		d := Difference{Step: id, Title: s.About().Title}
		switch {
		case old == nil:
			d.How = IsNew
		case s.Kind() != old.Kind() || !bytes.Equal(bare(s), bare(old)):
			d.How = IsChanged
		case !maps.Equal(s.About().To, old.About().To) && leadsOn(p, was, s, old):
			d.How = LeadsOn
		default:
			continue
		}
		out = append(out, d)
	}
	gone, _ := was.order()
	for _, id := range gone {
		if p.Step(id) == nil {
			out = append(out, Difference{Step: id, Title: was.Step(id).About().Title, How: IsGone})
		}
	}
	for _, x := range []struct {
		name string
		of   func(*Plan) any
	}{
		{"sending hours", func(p *Plan) any { return p.Hours }},
		{"launch hold", func(p *Plan) any { return p.LaunchHold }},
		{"longest stay", func(p *Plan) any { return p.LongestStay }}, {"ground", func(p *Plan) any { return p.Ground }},
		{"rest", func(p *Plan) any { return p.Rest }}, {"event", func(p *Plan) any { return p.Event }},
		{"sender", func(p *Plan) any { return p.Sender }},
		{"leave rules", func(p *Plan) any { return []any{p.Stay, p.LeaveIf} }},
	} {
		if !bytes.Equal(written(x.of(p)), written(x.of(was))) {
			out = append(out, Difference{Title: x.name, How: IsSet})
		}
	}
	return out
}

// leadsOn reports whether an exit leads to another step that both plans have: to a new step, or
// past one that is gone, is said by that step.
func leadsOn(p, was *Plan, s, old Step) bool {
	return slices.ContainsFunc(s.Exits(), func(e Exit) bool {
		to, before := s.About().To[e], old.About().To[e]
		past := p.Step(before) == nil && was.leads(before, to)
		return to != before && was.Step(to) != nil && !past
	})
}

// bare is a step without where it leads and who makes its parts.
func bare(s Step) []byte {
	fields := map[string]json.RawMessage{}
	if err := json.Unmarshal(written(s), &fields); err != nil {
		return nil
	}
	delete(fields, "to")
	delete(fields, "make")
	return written(fields)
}

// written is a value as JSON; all of a plan's can be written.
func written(x any) []byte {
	out, err := json.Marshal(x)
	if err != nil {
		return []byte(err.Error())
	}
	return out
}
