package store

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"github.com/jackc/pgx/v5/pgconn"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
)

// OwnField is a field that the workspace has added to people or to companies.
type OwnField struct {
	ID      int64
	Name    string
	Type    person.Type
	Options JSON[[]string]
	Company bool  `db:"of_company"`
	Used    int64 // people, or companies, that have a value
}

// Definition is the field as the core has it.
func (f *OwnField) Definition() person.Definition {
	return person.Definition{Field: person.Own(f.ID), Name: f.Name, Type: f.Type, Options: f.Options.V,
		Company: f.Company}
}

const ownFields = "select id, name, type, to_json(options) as options, of_company from own_field order by position, id"

// OwnFields lists the workspace's own fields.
func (db Queries) OwnFields(ctx context.Context) ([]OwnField, error) {
	return all[OwnField](ctx, db, ownFields)
}

// OwnFieldsUsed lists them with how many people or companies have a value.
func (db Queries) OwnFieldsUsed(ctx context.Context) ([]OwnField, error) {
	return all[OwnField](ctx, db, `
			select f.id, f.name, f.type, to_json(f.options) as options, f.of_company, case
				when f.of_company then (select count(*) from company c where c.own ? f.id::text)
				else (select count(*) from person p where p.own ? f.id::text) end as used
			from own_field f
			order by f.position, f.id`)
}

// AddOwnField keeps a new one.
func (tx Tx) AddOwnField(ctx context.Context, f OwnField) (int64, error) {
	id, err := one[int64](ctx, tx, `
			insert into own_field (name, type, options, of_company, position)
			values ($1, $2, coalesce($3::text[], '{}'), $4, (select coalesce(max(position), 0) + 1 from own_field))
			returning id`, f.Name, string(f.Type), f.Options.V, f.Company)
	if taken(err) {
		return 0, plainly.Errorf("%w: a field is called %q", ErrTaken, f.Name)
	}
	return id, err
}

// ChangeOwnField renames a field and replaces the values to choose from.
func (tx Tx) ChangeOwnField(ctx context.Context, id int64, name string, options []string) error {
	n, err := exec(ctx, tx, "update own_field set name = $2, options = $3 where id = $1", id, name, options)
	if taken(err) {
		return plainly.Errorf("%w: a field is called %q", ErrTaken, name)
	}
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// ownTypes are the types of the own fields of people, or of companies.
func ownTypes(ctx context.Context, q querier, ofCompany bool) (map[int64]person.Type, error) {
	list, err := all[OwnField](ctx, q, ownFields)
	out := make(map[int64]person.Type, len(list))
	for _, f := range list {
		if f.Company == ofCompany {
			out[f.ID] = f.Type
		}
	}
	return out, err
}

func taken(err error) bool {
	pe, ok := asPg(err)
	return ok && pe.Code == "23505"
}

func asPg(err error) (*pgconn.PgError, bool) {
	for err != nil {
		if pe, ok := err.(*pgconn.PgError); ok {
			return pe, true
		}
		u, ok := err.(interface{ Unwrap() error })
		if !ok {
			return nil, false
		}
		err = u.Unwrap()
	}
	return nil, false
}

// look is what stays the same while one question is answered that changes nothing.
type look struct {
	sync.Mutex
	cat *rule.Catalogue
}

type lookKey struct{}

// OneLook has the catalogue read once with a context, however many parts of a page ask for it.
func OneLook(ctx context.Context) context.Context { return context.WithValue(ctx, lookKey{}, &look{}) }

// Catalogue is what there is to ask for in rules. With a context of OneLook nobody may change it.
func (db Queries) Catalogue(ctx context.Context) (*rule.Catalogue, error) {
	l, ok := ctx.Value(lookKey{}).(*look)
	if !ok {
		return db.readCatalogue(ctx)
	}
	l.Lock()
	defer l.Unlock()
	if l.cat != nil {
		return l.cat, nil
	}
	cat, err := db.readCatalogue(ctx)
	if err == nil {
		l.cat = cat
	}
	return cat, err
}

func (db Queries) readCatalogue(ctx context.Context) (*rule.Catalogue, error) {
	fields, err := all[OwnField](ctx, db, ownFields)
	if err != nil {
		return nil, fmt.Errorf("reading the fields: %w", err)
	}
	cat := &rule.Catalogue{}
	for i := range fields {
		cat.Own = append(cat.Own, fields[i].Definition())
	}
	rows, err := all[struct {
		What string
		ID   int64
		Name string
	}](ctx, db, `
		select 'tag' as what, id, name
		from tag
		union all select 'audience', id, name
		from audience
		union all select 'sequence', id, name
		from sequence
		union all select 'stage', st.id, st.name || case when exists (select from stage o where o.id <> st.id and
			lower(o.name) = lower(st.name)) then ' (' || (select name from pipeline where id = st.pipeline_id) ||
				')' else ''
			end from stage st
		union all select 'consent', id, name from purpose
		union all select 'message', id, name from message
		where removed_at is distinct from 'epoch' -- which letters by hand are
		union all select 'page', id, title from page
		union all (select 'event', id, name from event order by starts_at desc limit 500)
		order by 1, 3, 2`)
	if err != nil {
		return nil, fmt.Errorf("reading what rules can name: %w", err)
	}
	for _, r := range rows {
		n := rule.Named{ID: r.ID, Name: r.Name}
		switch r.What {
		case "tag":
			cat.Tags = append(cat.Tags, n)
		case "audience":
			cat.Audiences = append(cat.Audiences, n)
		case "sequence":
			cat.Sequences = append(cat.Sequences, n)
		case "stage":
			cat.Stages = append(cat.Stages, n)
		case "consent":
			cat.Purposes = append(cat.Purposes, n)
		case "message":
			cat.Messages = append(cat.Messages, n)
		case "page":
			cat.Pages = append(cat.Pages, n)
		case "event":
			cat.Events = append(cat.Events, n)
		}
	}
	models, err := db.Models(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading what rules can ask of scores: %w", err)
	}
	for i := range models {
		m := &models[i]
		cat.Models = append(cat.Models,
			rule.Scored{ID: m.ID, Name: m.Name, Bands: m.Bands, FitBands: m.FitBands, Fit: m.Fit})
	}
	for i := range models { // what gives points is said with the names of all that there is
		for j := range models[i].Rules {
			r := &models[i].Rules[j]
			cat.Models[i].Rules = append(cat.Models[i].Rules, rule.Named{ID: r.ID, Name: r.For(cat)})
		}
	}
	return cat, nil
}

// catalogueFor is what compiling a rule needs to know: the types of the own
// fields where it asks about any, and what makes the fit where it asks for that.
func catalogueFor(ctx context.Context, q querier, r *rule.Rule) (*rule.Catalogue, error) {
	own, fit := false, false
	r.Each(func(c *rule.Condition) {
		_, is := c.Field.OwnID()
		fit = fit || c.About == rule.ByFit || c.About == rule.InFitBand
		own = own || is || fit
	})
	if !own {
		return nil, nil
	}
	fields, err := all[OwnField](ctx, q, ownFields)
	cat := &rule.Catalogue{}
	for i := range fields {
		cat.Own = append(cat.Own, fields[i].Definition())
	}
	if err == nil && fit {
		var fits modelFits
		fits, err = readFits(ctx, q)
		for i := range fits {
			cat.Models = append(cat.Models, rule.Scored{ID: fits[i].ID, Fit: fits[i].Fit.V})
		}
	}
	return cat, err
}

// FieldUse tells where an own field is asked for: names of audiences, and "the
// fit".
func (db Queries) FieldUse(ctx context.Context, id int64) ([]string, error) {
	use, err := db.FieldUses(ctx)
	return use[id], err
}

// FieldUses is FieldUse for each own field that is asked for.
func (db Queries) FieldUses(ctx context.Context) (map[int64][]string, error) {
	list, err := all[struct {
		Name string
		Rule JSON[rule.Rule]
	}](ctx, db, "select name, rule from audience where live order by name")
	if err != nil {
		return nil, err
	}
	out := map[int64][]string{}
	asked := func(r *rule.Rule, by string) {
		r.Each(func(c *rule.Condition) {
			if id, ok := c.Field.OwnID(); ok && !slices.Contains(out[id], by) {
				out[id] = append(out[id], by)
			}
		})
	}
	for i := range list {
		asked(&list[i].Rule.V, "“"+list[i].Name+"”")
	}
	models, err := db.Models(ctx)
	for i := range models {
		for _, m := range []*score.Model{&models[i].Model, models[i].Draft} {
			if m == nil {
				continue
			}
			for j := range m.Fit {
				asked(&m.Fit[j].If, "the fit")
			}
			for j := range m.Rules {
				asked(&m.Rules[j].If, "the points")
			}
		}
	}
	for _, by := range out {
		slices.Sort(by)
	}
	return out, err
}

// RemoveOwnField takes a field and all its values away.
func (tx Tx) RemoveOwnField(ctx context.Context, id int64) error {
	if _, err := exec(ctx, tx, "update person set own = own - $1::text where own ? $1::text",
		fmt.Sprint(id)); err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "update company set own = own - $1::text where own ? $1::text",
		fmt.Sprint(id)); err != nil {
		return err
	}
	n, err := exec(ctx, tx, "delete from own_field where id = $1", id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}
