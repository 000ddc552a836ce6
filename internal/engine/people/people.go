// Package people keeps records: changed by hand, in lists and from files, merged,
// handed out and erased; with the audiences they are in and the scores they have.
package people

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// People keeps records.
type People struct {
	*base.Base
	*flow.Flow

	// BigExport is from how many people on a file is written as work of its own,
	// for whoever asked to fetch when it is done.
	BigExport int

	counts base.KeptBy[string, int64]     // of people, by what is asked
	scored base.KeptBy[int64, int64]      // who has points, by the model
	pairs  base.KeptBy[int, []store.Pair] // of records that may be one person, by how many are asked for
}

// New readies the room; the flow has it do what is done to records.
func New(b *base.Base, f *flow.Flow) *People {
	e := &People{Base: b, Flow: f, BigExport: 20_000}
	f.Does("tag", flow.Each(e.tagAll))
	f.Does("audience", flow.Each(e.include))
	f.Does("assign", flow.Each(e.assign))
	f.Does("set", edits(e, setField))
	f.Does("untag", edits(e, untag))
	f.Does("exclude", edits(e, exclude))
	f.Does("give", edits(e, give))
	f.Does("revoke", edits(e, revoke))
	f.Does("note", flow.Each(e.addNotes))
	f.Does("points", flow.Each(e.givePoints))
	f.Does("find", flow.Each(e.askForAddresses))
	return e
}

// ErrCannotSet is answered where a field cannot be set for many people at once.
var ErrCannotSet = plainly.New("this field cannot be set by a step")

// FieldError is a value that a field cannot take.
type FieldError struct {
	Field person.Field
	Name  string
	Value string
	Err   error
}

func (e *FieldError) Error() string { return e.Name + ": " + e.Err.Error() }

// Plain marks it as an error that users may read.
func (*FieldError) Plain()          {}
func (e *FieldError) Unwrap() error { return e.Err }

// ErrNoWay is answered where nothing would be left by which somebody could be
// told from others.
var ErrNoWay = plainly.New("somebody needs an email address, a telephone number or a profile: nobody could find this " +
	"record again")

func (e *People) by(user int64, how string) store.Author {
	return store.Author{User: user, How: how, At: e.Now()}
}

// ChangePerson sets fields of a person's record to values as they were typed.
// Nothing is changed where one of them is wrong.
func (e *People) ChangePerson(ctx context.Context, id int64, set person.Values, user int64) error {
	return e.change(ctx, id, user, func(tx store.Tx, p *store.Person, now person.Values) (person.Values, error) {
		cat, err := tx.Catalogue(ctx)
		if err != nil {
			return nil, err
		}
		country := now[person.Country]
		if c, err := person.CountryCode(set[person.Country]); err == nil && c != "" {
			country = c
		}
		out := person.Values{}
		for f, v := range set {
			d, ok := cat.Define(f)
			if !ok || d.Fixed || d.Company && f != person.Company {
				return nil, plainly.Errorf("%q cannot be changed on a person", f)
			}
			if out[f], err = d.Tidy(v, country); err != nil {
				return nil, &FieldError{f, d.Name, v, err}
			}
		}
		if addr := out[person.EmailField]; addr != "" && addr != now[person.EmailField] {
			who, err := tx.LastMailSender(ctx, addr)
			if err == nil && who != id {
				return nil, &FieldError{person.EmailField, "email", addr,
					plainly.New("another record has this address; merge the two instead")}
			}
			if err != nil && !store.IsNotFound(err) {
				return nil, err
			}
		}
		after := person.Values{}
		for _, f := range []person.Field{person.EmailField, person.PhoneField, person.Profile} {
			after[f] = now[f]
			if v, ok := out[f]; ok {
				after[f] = v
			}
		}
		if after[person.EmailField] == "" && after[person.PhoneField] == "" && after[person.Profile] == "" {
			return nil, ErrNoWay
		}
		return out, nil
	})
}

// change reads a person, asks what to set, sets it and does what follows.
func (e *People) change(
	ctx context.Context, id, user int64, f func(store.Tx, *store.Person, person.Values) (person.Values, error),
) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		list, err := tx.PeopleByID(ctx, []int64{id})
		if err != nil {
			return err
		}
		p := list[id]
		if p == nil {
			return store.ErrNotFound
		}
		now := p.Values()
		set, err := f(tx, p, now)
		if err != nil {
			return err
		}
		var marks []person.Field
		for k := range set {
			if kind, _, _ := person.MarkOf(k); kind != "" {
				marks = append(marks, k)
			}
		}
		have, err := tx.Marks(ctx, []int64{id}, marks)
		if err != nil {
			return err
		}
		for k, v := range have[id] {
			now[k] = v
		}
		return e.Applied(ctx, tx, []store.Edit{{P: p, Now: now, Set: set}}, e.by(user, "by hand"))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// Applied makes edits and does what follows from them: scores that ask the
// record are counted again, and whoever is on a sequence is looked at.
func (e *People) Applied(ctx context.Context, tx store.Tx, edits []store.Edit, a store.Author) error {
	n, err := tx.Change(ctx, edits, a)
	if err != nil || n == 0 {
		return err
	}
	var ids []int64
	for _, x := range edits {
		ids = append(ids, x.P.ID)
	}
	if err := e.recordsChanged(ctx, tx, ids, a.At); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Person.About(ids...))
}

func (e *People) recordsChanged(ctx context.Context, tx store.Tx, ids []int64, at time.Time) error {
	models, err := tx.Models(ctx)
	if err == nil && slices.ContainsFunc(models, func(m store.Model) bool { return m.AsksRecord() }) {
		err = tx.MarkStandings(ctx, ids, at)
	}
	if err != nil {
		return err
	}
	return tx.Wake(ctx, ids, at)
}

// Mark sets or takes away a mark of a person: a tag, a consent, a place in a
// hand-picked audience, a further address, do-not-contact.
func (e *People) Mark(ctx context.Context, id int64, mark person.Field, on bool, user int64) error {
	return e.change(ctx, id, user, func(tx store.Tx, _ *store.Person, _ person.Values) (person.Values, error) {
		v := ""
		if on {
			v = "yes"
		}
		return person.Values{mark: v}, nil
	})
}

// TagPerson puts a tag, made where there is none of the name, on a person.
func (e *People) TagPerson(ctx context.Context, id int64, name string, user int64) error {
	if name = person.Name(name); name == "" {
		return ErrNoName
	}
	return e.change(ctx, id, user, func(tx store.Tx, _ *store.Person, _ person.Values) (person.Values, error) {
		tag, err := tx.TagNamed(ctx, name, user, e.Now())
		return person.Values{person.Mark(person.TagMark, tag): "yes"}, err
	})
}

// AddContact keeps a further address or number of a person.
func (e *People) AddContact(ctx context.Context, id int64, value string, user int64) error {
	return e.change(ctx, id, user, func(tx store.Tx, p *store.Person, now person.Values) (person.Values, error) {
		if strings.Contains(value, "@") {
			addr, err := person.Email(value)
			if err != nil {
				return nil, err
			}
			who, err := tx.LastMailSender(ctx, addr)
			switch {
			case err == nil && who != id:
				return nil, plainly.New("another record has this address; merge the two instead")
			case err == nil:
				return nil, plainly.New("the record has this address already")
			case !store.IsNotFound(err):
				return nil, err
			}
			if p.Email == "" {
				return person.Values{person.EmailField: addr}, nil
			}
			return person.Values{person.Mark(person.AlsoEmail, addr): "yes"}, nil
		}
		number, err := person.Phone(value, p.Country)
		if err != nil || number == "" {
			return nil, person.ErrPhone
		}
		if p.Phone == "" {
			return person.Values{person.PhoneField: number}, nil
		}
		return person.Values{person.Mark(person.AlsoPhone, number): "yes"}, nil
	})
}

// UndoChange takes one change of a record back, where what it set still stands.
func (e *People) UndoChange(ctx context.Context, personID, change, user int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		h, err := tx.OneChange(ctx, change)
		if err != nil {
			return err
		}
		if h.Person == nil || *h.Person != personID {
			return store.ErrNotFound
		}
		_, kept, err := e.revert(ctx, tx, []store.Changed{h}, e.by(user, "undone"))
		if err == nil && kept > 0 {
			err = plainly.New("something else has changed this since: nothing was undone")
		}
		return err
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// revert takes changes back, the newest first, and counts the records set back
// and those left because something else has changed them since.
func (e *People) revert(
	ctx context.Context, tx store.Tx, list []store.Changed, a store.Author,
) (reverted, kept int, err error) {
	var ids []int64
	var marks []person.Field
	seen := map[person.Field]bool{}
	for _, h := range list {
		ids = append(ids, *h.Person)
		for f := range h.After.V {
			if kind, _, _ := person.MarkOf(f); kind != "" && !seen[f] {
				seen[f] = true
				marks = append(marks, f)
			}
		}
	}
	people, err := tx.PeopleByID(ctx, ids)
	if err != nil {
		return 0, 0, err
	}
	have, err := tx.Marks(ctx, ids, marks)
	if err != nil {
		return 0, 0, err
	}
	edits := map[int64]*store.Edit{} // one for a person, however many of their changes go
	var order []int64
	for _, h := range list {
		p := people[*h.Person]
		if p == nil {
			kept++
			continue
		}
		x := edits[p.ID]
		if x == nil {
			x = &store.Edit{P: p, Now: p.Values(), Set: person.Values{}}
			maps.Copy(x.Now, have[p.ID])
			edits[p.ID] = x
			order = append(order, p.ID)
		}
		now := maps.Clone(x.Now)
		maps.Copy(now, x.Set)
		set, left := person.Revert(h.Before.V, h.After.V, now)
		if left > 0 {
			kept++
			continue
		}
		reverted++
		maps.Copy(x.Set, set)
	}
	all := make([]store.Edit, len(order))
	for i, id := range order {
		all[i] = *edits[id]
	}
	return reverted, kept, e.Applied(ctx, tx, all, a)
}

// SetConsent notes what somebody agreed to, or took back, and on what ground.
func (e *People) SetConsent(ctx context.Context, id, purpose int64, given bool, how, ground string, user int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		a := e.by(user, how)
		if err := tx.SetConsent(ctx, purpose, id, given, ground, a); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Person.About(id))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// AddPerson keeps a new person, typed in by hand. The address must be nobody's.
func (e *People) AddPerson(ctx context.Context, set person.Values, user int64) (int64, error) {
	addr, err := person.Email(set[person.EmailField])
	if err != nil {
		return 0, &FieldError{person.EmailField, "email", set[person.EmailField], err}
	}
	var id int64
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.LastMailSender(ctx, addr); err == nil {
			return &FieldError{person.EmailField, "email", addr, plainly.New("somebody has this address already")}
		} else if !store.IsNotFound(err) {
			return err
		}
		id, _, err = tx.MeetPerson(ctx,
			store.NewPerson{First: set[person.FirstName], Last: set[person.LastName], Email: addr,
				Company: person.Name(set[person.Company]), Domain: person.CompanyDomain(addr), Source: "by hand"},
			e.Now())
		return err
	})
	if err != nil {
		return 0, err
	}
	delete(set, person.EmailField)
	delete(set, person.Company)
	for f, v := range set {
		if strings.TrimSpace(v) == "" {
			delete(set, f)
		}
	}
	return id, e.ChangePerson(ctx, id, set, user)
}

// ChangeCompany sets fields of a company's record to values as they were typed.
func (e *People) ChangeCompany(ctx context.Context, id int64, set person.Values, user int64) error {
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	out := person.Values{}
	for f, v := range set {
		d, ok := cat.Define(f)
		if !ok || !d.Company {
			return plainly.Errorf("%q cannot be changed on a company", f)
		}
		if out[f], err = d.Tidy(v, ""); err != nil {
			return &FieldError{f, d.Name, v, err}
		}
		if f == person.Company && out[f] == "" {
			return &FieldError{f, d.Name, v, plainly.New("a company needs a name")}
		}
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.SetCompany(ctx, id, out, e.by(user, "by hand")); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Person.AboutSomebody())
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// MayBeCalled keeps whether somebody may be called; who asked not to be is called by nobody.
func (e *People) MayBeCalled(ctx context.Context, id int64, may bool) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		var at *time.Time
		if now := e.Now(); !may {
			at = &now
		}
		if err := tx.SetNoCalls(ctx, id, at); err != nil {
			return err
		}
		if err := tx.Wake(ctx, []int64{id}, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Person.About(id))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}
