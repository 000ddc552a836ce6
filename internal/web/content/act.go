package content

import (
	"context"
	"net/url"

	"ombak/internal/core/act"
	"ombak/internal/core/person"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// actRow is an act in a form, with what it can be done with.
type actRow struct {
	act.Given
	Kind    *act.Kind // nil: nothing yet
	Kinds   []*act.Kind
	Choices *actChoices
}

// actRows are the acts of a link or a form, of some kinds, and one that does nothing yet.
func actRows(acts []act.Act, kinds []*act.Kind, d *actChoices) []actRow {
	var out []actRow
	for _, a := range acts {
		out = append(out, actRow{a.Kind().Given(a), a.Kind(), kinds, d})
	}
	return append(out, actRow{Kinds: kinds, Choices: d})
}

// Word is its kind's, and Takes what that takes.
func (r actRow) Word() string {
	if r.Kind == nil {
		return ""
	}
	return r.Kind.Word
}

// Takes is what its kind takes.
func (r actRow) Takes() act.Takes {
	if r.Kind == nil {
		return act.Nothing
	}
	return r.Kind.Takes
}

// For is whom it is for where nobody is chosen; empty: it is for nobody.
func (r actRow) For() string {
	if r.Kind == nil {
		return ""
	}
	return r.Kind.For
}

// actChoices is what acts can be done with.
type actChoices struct {
	Audiences []store.Audience // hand-picked ones
	Sequences []store.SequenceName
	Users     []store.User
	Tags      []store.Tag
}

func (s *Place) actChoices(ctx context.Context) (*actChoices, error) {
	var d actChoices
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
	d.Tags, err = s.Store.TagNames(ctx)
	return &d, err
}

const notThere = "something that is not there any more"

// Audience names a hand-picked audience.
func (d *actChoices) Audience(id int64) string {
	for _, a := range d.Audiences {
		if a.ID == id {
			return a.Name
		}
	}
	return notThere
}

// Sequence names a sequence that runs.
func (d *actChoices) Sequence(id int64) string {
	for _, q := range d.Sequences {
		if q.ID == id {
			return q.Name
		}
	}
	return notThere
}

// User names a user.
func (d *actChoices) User(id int64) string {
	for _, u := range d.Users {
		if u.ID == id {
			return u.Name
		}
	}
	return notThere
}

// typedAct reads the i-th act of a form; nil: none was chosen.
func typedAct(v url.Values, i int) act.Act {
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
	return k.Make(act.Given{Words: person.Name(what), ID: max(shell.Number(what), 0),
		To: max(shell.Number(at("act_to")), 0)})
}
