package web

import (
	"context"
	"fmt"
	"net/url"
	"strconv"

	"ombak/internal/core/act"
	"ombak/internal/core/person"
	"ombak/internal/store"
)

// actRow is an act in a form, with what it can be done with.
type actRow struct {
	act.Act
	Kinds   []act.Kind
	Choices *actChoices
}

// actChoices is what acts can be done with.
type actChoices struct {
	Audiences []store.Audience // hand-picked ones
	Sequences []store.Sequence
	Users     []store.User
	Tags      []store.Tag
}

func (s *Server) actChoices(ctx context.Context) (*actChoices, error) {
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
	sequences, err := s.Store.Sequences(ctx)
	if err != nil {
		return nil, err
	}
	for _, q := range sequences {
		if q.State == "running" || q.State == "held" {
			d.Sequences = append(d.Sequences, q)
		}
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return nil, err
	}
	d.Tags, err = s.Store.TagNames(ctx)
	return &d, err
}

// name names what an act is done with.
func (d *actChoices) name(of act.Kind, id int64) string {
	switch of {
	case act.Audience:
		for _, a := range d.Audiences {
			if a.ID == id {
				return a.Name
			}
		}
	case act.Enrol:
		for _, q := range d.Sequences {
			if q.ID == id {
				return q.Name
			}
		}
	default:
		for _, u := range d.Users {
			if u.ID == id {
				return u.Name
			}
		}
	}
	return "something that is not there any more"
}

// Label is a kind of act as a menu has it.
func (r actRow) Label(k act.Kind) string {
	return map[act.Kind]string{act.Tag: "tag them", act.Audience: "put them into", act.Task: "a task", act.Alert: "an alert", act.Enrol: "enter them into", act.Assign: "give whoever has none an owner"}[k]
}

// Whom is what stands for nobody in particular.
func (r actRow) Whom() string {
	if r.Do == act.Assign {
		return "the rep whose turn it is"
	}
	return "for their owner"
}

// Number is the number of the audience or sequence.
func (r actRow) Number() int64 { return r.ID() }

// typedAct reads the i-th act of a form.
func typedAct(v url.Values, i int) act.Act {
	at := func(k string) string {
		if i < len(v[k]) {
			return v[k][i]
		}
		return ""
	}
	a := act.Act{Do: act.Kind(at("act_do"))}
	switch a.Do {
	case act.Audience, act.Enrol:
		n, _ := strconv.ParseInt(at("act_what"), 10, 64) // what is no number was a word before
		a.What = fmt.Sprint(max(n, 0))
	case act.Tag, act.Task, act.Alert:
		a.What = person.Name(at("act_what"))
	}
	if a.Do == act.Task || a.Do == act.Alert || a.Do == act.Assign {
		a.To = max(number(at("act_to")), 0)
	}
	return a
}
