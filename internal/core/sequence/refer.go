package sequence

import (
	"ombak/internal/core/act"
	"ombak/internal/core/rule"
)

// What plans refer to by number, besides messages and sequences.
const (
	AudiencePart PartKind = "audience"
	TagPart      PartKind = "tag"
	UserPart     PartKind = "user"
	PurposePart  PartKind = "purpose"
	StagePart    PartKind = "stage"
	PagePart     PartKind = "page"
	FieldPart    PartKind = "field"
	ModelPart    PartKind = "model"
	PointsPart   PartKind = "points"
	TeamPart     PartKind = "team"
)

// Refer visits all that the plan refers to by number, and has it refer to what to answers
// instead; 0 is nothing, which the checks then miss.
func (p *Plan) Refer(to func(what PartKind, id int64) int64) {
	visit := func(what PartKind, id *int64) {
		if *id != 0 {
			*id = to(what, *id)
		}
	}
	visit(PurposePart, &p.Ground.Purpose)
	visit(EventPart, &p.Event)
	visit(UserPart, &p.Sender)
	referRule(p.LeaveIf, visit)
	for _, s := range p.Steps {
		visit(UserPart, &s.About().Make.Who)
		if t, ok := s.(timed); ok && t.timing().From != nil {
			visit(EventPart, &t.timing().From.Event)
		}
		if x, ok := s.(interface {
			references(func(PartKind, *int64))
		}); ok {
			x.references(visit)
		}
	}
}

// Refer visits all that the entry refers to, as a plan's Refer does.
func (e *Entry) Refer(to func(what PartKind, id int64) int64) {
	visit := func(what PartKind, id *int64) {
		if *id != 0 {
			*id = to(what, *id)
		}
	}
	visit(PagePart, &e.Page)
	referRule(e.Rule, visit)
	if e.On != nil {
		visit(PagePart, &e.On.Page)
		visit(EventPart, &e.On.Event)
	}
	e.NotIn = referList(AudiencePart, e.NotIn, visit)
	e.NotOn = referList(SequencePart, e.NotOn, visit)
}

// referList visits numbers and drops those that are nothing then.
func referList(what PartKind, list []int64, visit func(PartKind, *int64)) (out []int64) {
	for _, id := range list {
		if visit(what, &id); id != 0 {
			out = append(out, id)
		}
	}
	return out
}

func referRule(r *rule.Rule, visit func(PartKind, *int64)) {
	if r != nil {
		r.Refer(func(what rule.Ref, id *int64) { visit(PartKind(what), id) })
	}
}

var actParts = map[act.Takes]PartKind{act.AnAudience: AudiencePart, act.ASequence: SequencePart, act.AStage: StagePart,
	act.APurpose: PurposePart}

func referActs(list []act.Kept, visit func(PartKind, *int64)) {
	for i, a := range list {
		k := a.Kind()
		g := k.Given(a.Act)
		if what, ok := actParts[k.Takes]; ok {
			visit(what, &g.ID)
		}
		visit(UserPart, &g.To)
		visit(TeamPart, &g.Team)
		list[i] = act.Kept{Act: k.Make(g)}
	}
}

func (s *Email) references(visit func(PartKind, *int64)) {
	visit(MessagePart, &s.Message)
	visit(UserPart, &s.Sender)
	had := s.Purpose
	if visit(PurposePart, &s.Purpose); had != 0 && s.Purpose == 0 {
		s.Purpose = lostPurpose // whoever did not agree must not get it for want of a name
	}
}

// lostPurpose is a consent that is asked for and cannot be found: nobody has given it.
const lostPurpose = -1

func (s *Call) references(visit func(PartKind, *int64)) {
	visit(UserPart, &s.For)
	visit(TeamPart, &s.Team)
}
func (s *Task) references(visit func(PartKind, *int64)) {
	visit(UserPart, &s.For)
	visit(TeamPart, &s.Team)
}
func (s *Watch) references(visit func(PartKind, *int64)) {
	visit(PagePart, &s.Page)
	visit(EventPart, &s.Event)
	if s.Until != nil {
		visit(EventPart, &s.Until.Event)
	}
}
func (s *Pause) references(visit func(PartKind, *int64)) {
	if s.Until != nil {
		visit(EventPart, &s.Until.Event)
	}
}
func (s *Check) references(visit func(PartKind, *int64))  { referRule(&s.Rule, visit) }
func (s *Change) references(visit func(PartKind, *int64)) { referActs(s.Acts, visit) }
func (s *Alert) references(visit func(PartKind, *int64))  { referActs(s.Acts, visit) }
func (s *GoOn) references(visit func(PartKind, *int64))   { visit(SequencePart, &s.Sequence) }
func (s *Sort) references(visit func(PartKind, *int64)) {
	for i := range s.Ways {
		referRule(&s.Ways[i].Rule, visit)
	}
}
