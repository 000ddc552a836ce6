package rule

import (
	"ombak/internal/core/person"
	"ombak/internal/core/signal"
)

// Ref is a kind of thing that rules refer to by number.
type Ref string

// The kinds.
const (
	TagRef      Ref = "tag"
	AudienceRef Ref = "audience"
	SequenceRef Ref = "sequence"
	PurposeRef  Ref = "purpose"
	StageRef    Ref = "stage"
	EventRef    Ref = "event"
	MessageRef  Ref = "message"
	PageRef     Ref = "page"
	FieldRef    Ref = "field" // of the workspace’s own
	ModelRef    Ref = "model"
	PointsRef   Ref = "points" // what gives points, in a model: RuleOf has the number of both
)

var thingRefs = map[Thing]Ref{Tag: TagRef, Audience: AudienceRef, InSequence: SequenceRef, Consent: PurposeRef,
	Stage: StageRef, DealFrom: SequenceRef, AtEvent: EventRef}

// Refer visits every number by which the rule refers to something, for it to be read or set anew.
func (r *Rule) Refer(visit func(what Ref, id *int64)) {
	r.Each(func(c *Condition) {
		if what, ok := thingRefs[c.About]; ok {
			visit(what, &c.ID)
		}
		if c.Signal != nil {
			ReferPlace(&c.Signal.Place, visit)
		}
		switch {
		case c.Rule != 0:
			n := PointsOf(c.Model, c.Rule)
			visit(PointsRef, &n)
			if c.Model, c.Rule = n/MostRules, n%MostRules; c.Rule == 0 {
				c.Rule = -1 // of none, and not of all
			}
		case c.Model != 0:
			if visit(ModelRef, &c.Model); c.Model == 0 {
				c.Model = -1 // of none, and not of the first
			}
		}
		if id, ok := c.Field.OwnID(); ok {
			was := id
			if visit(FieldRef, &id); id != was {
				c.Field = person.Own(id)
			}
		}
	})
}

// MostRules is more than any rule of a model has for a number, or it has none that a condition could name.
const MostRules = 1_000_000

// PointsOf is one number for a rule of a model, both of which have their own.
func PointsOf(model, rule int64) int64 { return model*MostRules + rule }

// ReferPlace visits where signals come from, as Refer does.
func ReferPlace(p *signal.Place, visit func(what Ref, id *int64)) {
	visit(SequenceRef, &p.Sequence)
	visit(MessageRef, &p.Message)
	visit(PageRef, &p.Page)
	visit(EventRef, &p.Event)
}

// Lists are what there is of each kind that rules refer to.
func (c *Catalogue) Lists() map[Ref][]Named {
	out := map[Ref][]Named{TagRef: c.Tags, AudienceRef: c.Audiences, SequenceRef: c.Sequences, PurposeRef: c.Purposes,
		StageRef: c.Stages, EventRef: c.Events, MessageRef: c.Messages, PageRef: c.Pages}
	for i, m := range c.Models {
		out[ModelRef] = append(out[ModelRef], Named{m.ID, m.Name})
		of := m.ID
		if i == 0 {
			of = 0
		}
		for _, r := range m.Rules {
			out[PointsRef] = append(out[PointsRef], Named{PointsOf(of, r.ID), m.Name + ": " + r.Name})
		}
	}
	for _, d := range c.Own {
		if id, ok := d.Field.OwnID(); ok {
			out[FieldRef] = append(out[FieldRef], Named{id, d.Name})
		}
	}
	return out
}
