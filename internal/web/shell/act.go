package shell

import (
	"context"
	"net/url"
	"strings"

	"ombak/internal/core/act"
	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/engine/people"
	"ombak/internal/store"
)

// ActRow is an act in a form, with what it can be done with.
type ActRow struct {
	act.Given
	Kind    *act.Kind // nil: nothing yet
	Kinds   []*act.Kind
	Choices *ActChoices
}

// ActRows are the acts of a link or a form, of some kinds, and one that does nothing yet.
func ActRows(acts []act.Act, kinds []*act.Kind, d *ActChoices) []ActRow {
	var out []ActRow
	for _, a := range acts {
		out = append(out, ActRow{a.Kind().Given(a), a.Kind(), kinds, d})
	}
	return append(out, ActRow{Kinds: kinds, Choices: d})
}

// Word is its kind's, and Takes what that takes.
func (r ActRow) Word() string {
	if r.Kind == nil {
		return ""
	}
	return r.Kind.Word
}

// Takes is what its kind takes.
func (r ActRow) Takes() act.Takes {
	if r.Kind == nil {
		return act.Nothing
	}
	return r.Kind.Takes
}

// For is whom it is for where nobody is chosen; empty: it is for nobody.
func (r ActRow) For() string {
	if r.Kind == nil {
		return ""
	}
	return r.Kind.For
}

// Roles reports whether it can be for everybody of a role.
func (r ActRow) Roles() bool { return r.Kind != nil && r.Kind.Roles }

// Teams reports whether it can be for a team.
func (r ActRow) Teams() bool { return r.Kind != nil && r.Kind.Teams }

// ActChoices is what acts can be done with.
type ActChoices struct {
	Audiences []store.Audience // hand-picked ones
	Sequences []store.SequenceName
	Users     []store.User
	Teams     []store.Team
	Tags      []store.Tag
	Stages    []pipeline.Stage
	Purposes  []store.Purpose
	Messages  []rule.Named
	Fields    []person.Definition // that a step can set
}

func (s *Shell) ActChoices(ctx context.Context) (*ActChoices, error) {
	var d ActChoices
	audiences, err := s.Store.Audiences(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range audiences {
		if !a.Live {
			d.Audiences = append(d.Audiences, a)
		}
	}
	if d.Sequences, err = s.Store.RunningNames(ctx); err != nil {
		return nil, err
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return nil, err
	}
	if d.Teams, err = s.Store.Teams(ctx); err != nil {
		return nil, err
	}
	if d.Tags, err = s.Store.TagNames(ctx); err != nil {
		return nil, err
	}
	if d.Stages, err = s.Store.Stages(ctx); err != nil {
		return nil, err
	}
	if d.Purposes, err = s.Store.Purposes(ctx); err != nil {
		return nil, err
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	d.Messages = cat.Messages
	for _, f := range cat.Fields() {
		if people.CanSet(f) {
			d.Fields = append(d.Fields, f)
		}
	}
	return &d, nil
}

const notThere = "something that is not there any more"

// Audience names a hand-picked audience.
func (d *ActChoices) Audience(id int64) string {
	for _, a := range d.Audiences {
		if a.ID == id {
			return a.Name
		}
	}
	return notThere
}

// Sequence names a sequence that runs.
func (d *ActChoices) Sequence(id int64) string {
	for _, q := range d.Sequences {
		if q.ID == id {
			return q.Name
		}
	}
	return notThere
}

// User names a user.
func (d *ActChoices) User(id int64) string {
	for _, u := range d.Users {
		if u.ID == id {
			return u.Name
		}
	}
	return notThere
}

// Team names a team.
func (d *ActChoices) Team(id int64) string {
	for _, t := range d.Teams {
		if t.ID == id {
			return t.Name
		}
	}
	return notThere
}

// Stage names a stage of the pipeline.
func (d *ActChoices) Stage(id int64) string {
	for _, x := range d.Stages {
		if x.ID == id {
			return x.Name
		}
	}
	return notThere
}

// Purpose names a purpose of consent.
func (d *ActChoices) Purpose(id int64) string {
	for _, x := range d.Purposes {
		if x.ID == id {
			return x.Name
		}
	}
	return notThere
}

// Message names a message.
func (d *ActChoices) Message(id int64) string {
	for _, x := range d.Messages {
		if x.ID == id {
			return x.Name
		}
	}
	return notThere
}

// Field names a field of a record.
func (d *ActChoices) Field(name string) string {
	for _, x := range d.Fields {
		if string(x.Field) == name {
			return x.Name
		}
	}
	return name
}

// TypedAct reads the i-th act of a form; nil: none was chosen.
func TypedAct(v url.Values, i int) act.Act {
	at := func(k string) string {
		if i < len(v[k]) {
			return v[k][i]
		}
		return ""
	}
	k := act.Named(at("act_do"))
	if k == nil {
		return nil
	}
	what := at("act_what")
	g := act.Given{Field: at("act_field"), Words: person.Name(what), ID: max(Number(what), 0)}
	if role, ok := strings.CutPrefix(at("act_to"), "role "); ok && k.Roles {
		g.Role = right.Role(role)
	} else if team, ok := strings.CutPrefix(at("act_to"), "team "); ok && k.Teams {
		g.Team = max(Number(team), 0)
	} else {
		g.To = max(Number(at("act_to")), 0)
	}
	return k.Make(g)
}
