package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// Author is who changes a record, how and when.
type Author struct {
	User  int64 // 0: nobody who signs in
	How   string
	Batch int64 // 0: by itself
	At    time.Time
}

// Edit is a change of one record: what it is now, and what is set. Marks
// stand beside fields.
type Edit struct {
	P   *Person
	Now person.Values // with the marks that Set has
	Set person.Values
}

// editable are the columns of person that a field sets as it is.
var editable = []struct {
	f   rule.Field
	col string
}{
	{person.FirstName, "first_name"}, {person.LastName, "last_name"}, {person.EmailField, "email"},
	{person.PhoneField, "phone"}, {person.Title, "title"},
	{person.Seniority, "seniority"}, {person.Department, "department"}, {person.Country, "country"},
	{person.Region, "region"}, {person.City, "city"}, {person.Street, "street"}, {person.Postcode, "postcode"},
	{person.Zone, "zone"}, {person.Language, "language"}, {person.Profile, "profile"}, {person.Source, "source"},
	{person.Medium, "medium"},
	{person.Campaign, "campaign"}, {person.Term, "term"}, {person.Content, "content"},
}

// SetValues changes the fields of one record and keeps what changed.
func (tx Tx) SetValues(ctx context.Context, p Person, set person.Values, a Author) error {
	_, err := tx.Change(ctx, []Edit{{P: &p, Now: p.Values(), Set: set}}, a)
	return err
}

// Change makes many edits at once, in a number of statements that does not
// depend on how many, and keeps what changed. It answers how many records did.
func (tx Tx) Change(ctx context.Context, edits []Edit, a Author) (int, error) {
	types, err := ownTypes(ctx, tx, false)
	if err != nil {
		return 0, err
	}
	ch := changing{tx: tx, ctx: ctx, a: a, types: types, cols: make([][]*string, len(editable)),
		marks: map[rule.Field]map[bool][]int64{}, companyOf: map[string]*int64{}, ownerOf: map[string]*int64{}}
	for _, e := range edits {
		if err := ch.take(e); err != nil {
			return 0, err
		}
	}
	if len(ch.ids) == 0 {
		return 0, nil
	}
	if err := ch.write(); err != nil {
		return 0, err
	}
	for f, m := range ch.marks {
		for on, people := range m {
			if err := setMark(ctx, tx, f, people, on, a); err != nil {
				return 0, err
			}
		}
	}
	return len(ch.ids), tx.KeepChanges(ctx, ch.ids, ch.befores, ch.afters, a)
}

// changing is many edits as the columns of one statement: each list has a value for
// each record that changes, and nil where that stays.
type changing struct {
	tx    Tx
	ctx   context.Context
	a     Author
	types map[int64]person.Type // of the workspace's own fields

	ids             []int64
	befores, afters []string    // what changed, as JSON
	cols            [][]*string // of editable
	companies       []*int64    // 0: none any more
	owners          []*int64
	noContact       []*bool
	own             []string                        // what changes of the own fields, as JSON
	marks           map[rule.Field]map[bool][]int64 // mark → set or taken away → people
	writes          bool                            // the record itself changes, and not only marks

	companyOf, ownerOf map[string]*int64 // that have been looked for
}

// take adds an edit. One that changes nothing adds nothing.
func (ch *changing) take(e Edit) error {
	before, after := person.Diff(e.Now, e.Set)
	if len(after) == 0 {
		return nil
	}
	bj, err := json.Marshal(before)
	if err != nil {
		return err
	}
	aj, err := json.Marshal(after)
	if err != nil {
		return err
	}
	ch.ids = append(ch.ids, e.P.ID)
	ch.befores, ch.afters = append(ch.befores, string(bj)), append(ch.afters, string(aj))
	for i, c := range editable {
		var v *string
		if s, ok := after[c.f]; ok {
			v, ch.writes = &s, true
		}
		ch.cols[i] = append(ch.cols[i], v)
	}
	if err := ch.refer(after, e.Set[person.Domain]); err != nil {
		return err
	}
	patch := map[string]any{}
	var contact *bool
	for f, v := range after {
		if id, ok := f.OwnID(); ok {
			patch[fmt.Sprint(id)], ch.writes = ownValue(ch.types[id], v), true
		} else if f == person.DoNotContact {
			yes := v != ""
			contact, ch.writes = &yes, true
		} else if kind, _, _ := person.MarkOf(f); kind != "" {
			if ch.marks[f] == nil {
				ch.marks[f] = map[bool][]int64{}
			}
			ch.marks[f][v != ""] = append(ch.marks[f][v != ""], e.P.ID)
		}
	}
	ch.noContact = append(ch.noContact, contact)
	pj, err := json.Marshal(patch)
	ch.own = append(ch.own, string(pj))
	return err
}

// refer adds the company and the owner that an edit names, each looked for once.
func (ch *changing) refer(after person.Values, domain string) (err error) {
	var company, owner *int64
	if name, ok := after[person.Company]; ok {
		if company = ch.companyOf[name]; company == nil { // nil only before the first look
			if company, err = companyNamed(ch.ctx, ch.tx, name, domain, ch.a.At); err != nil {
				return err
			}
			ch.companyOf[name] = company
		}
		ch.writes = true
	}
	if name, ok := after[person.Owner]; ok {
		if owner = ch.ownerOf[name]; owner == nil {
			if owner, err = userNamed(ch.ctx, ch.tx, name); err != nil {
				return err
			}
			ch.ownerOf[name] = owner
		}
		ch.writes = true
	}
	ch.companies, ch.owners = append(ch.companies, company), append(ch.owners, owner)
	return nil
}

// write changes the records themselves, in one statement.
func (ch *changing) write() error {
	if !ch.writes {
		return nil
	}
	set, from, names := "", "", ""
	args := []any{ch.ids, ch.own, ch.companies, ch.owners, ch.noContact}
	for i, c := range editable {
		args = append(args, ch.cols[i])
		set += fmt.Sprintf(", %s = coalesce(u.%s, p.%s)", c.col, c.col, c.col)
		from += fmt.Sprintf(", $%d::text[]", len(args))
		names += ", " + c.col
	}
	_, err := exec(ch.ctx, ch.tx, `
		update person p
		set own = case when u.own = '{}' then p.own else jsonb_strip_nulls(p.own || u.own) end,
			company_id = case when u.company is null then p.company_id else nullif(u.company, 0) end,
			owner_id = case when u.owner is null then p.owner_id else nullif(u.owner, 0) end,
			do_not_contact = coalesce(u.dnc, p.do_not_contact)`+set+`
		from unnest($1::bigint[], $2::jsonb[], $3::bigint[], $4::bigint[], $5::boolean[]`+from+`)
			as u(id, own, company, owner, dnc`+names+`)
		where p.id = u.id`, args...)
	switch {
	case err == nil:
		return nil
	case taken(err):
		return plainly.Errorf("%w: another person has this address", ErrTaken)
	}
	return fmt.Errorf("changing %d records: %w", len(ch.ids), err)
}

// KeepChanges notes changes that have been made, each as JSON before and after.
func (tx Tx) KeepChanges(ctx context.Context, people []int64, before, after []string, a Author) error {
	_, err := exec(ctx, tx, `
		insert into change (person_id, at, user_id, how, batch_id, before, after)
		select u.id, $4, nullif($5::bigint, 0), $6, nullif($7::bigint, 0), u.b, u.a
		from unnest($1::bigint[], $2::jsonb[], $3::jsonb[]) as u(id, b, a)`,
		people, before, after, a.At, a.User, a.How, a.Batch)
	if err != nil {
		return fmt.Errorf("noting %d changes: %w", len(people), err)
	}
	return nil
}

// setMark sets or takes away a mark of several people.
func setMark(ctx context.Context, tx Tx, f rule.Field, people []int64, on bool, a Author) error {
	kind, what, id := person.MarkOf(f)
	var err error
	switch kind {
	case person.TagMark:
		if on {
			_, err = exec(ctx, tx, `
					insert into person_tag (tag_id, person_id, at)
					select $1, p, $3
					from unnest($2::bigint[]) as p
					where exists (select from tag where id = $1)
					on conflict do nothing`, id, people, a.At)
		} else {
			_, err = exec(ctx, tx, "delete from person_tag where tag_id = $1 and person_id = any ($2)", id, people)
		}
	case person.AudienceMark:
		err = setMembers(ctx, tx, id, people, on, a.At)
	case person.ConsentMark:
		err = setConsent(ctx, tx, id, people, on, "", a)
	case person.AlsoEmail, person.AlsoPhone:
		k := "email"
		if kind == person.AlsoPhone {
			k = "phone"
		}
		if on {
			if k == "email" {
				there, err := one[bool](ctx, tx, "select exists (select from person where email = $1 and email <> '')",
					what)
				if err != nil {
					return err
				}
				if there {
					return plainly.Errorf("%w: another person has the address %s", ErrTaken, what)
				}
			}
			_, err = exec(ctx, tx,
				"insert into contact_point (person_id, kind, value) select p, $2, $3 from unnest($1::bigint[]) as p "+
					"on conflict (person_id, kind, value) do nothing", people, k, what)
			if taken(err) {
				err = plainly.Errorf("%w: another person has the address %s", ErrTaken, what)
			}
		} else {
			_, err = exec(ctx, tx, "delete from contact_point where person_id = any ($1) and kind = $2 and value = $3",
				people, k, what)
		}
	}
	if err != nil {
		return fmt.Errorf("setting %q of %d people: %w", f, len(people), err)
	}
	return nil
}

// Marks reads which of some marks several people have.
func (db Queries) Marks(ctx context.Context, people []int64, marks []rule.Field) (map[int64]person.Values, error) {
	out := map[int64]person.Values{}
	for _, f := range marks {
		kind, what, id := person.MarkOf(f)
		var query string
		args := []any{people}
		switch kind {
		case person.TagMark:
			query, args = "select person_id from person_tag where person_id = any ($1) and tag_id = $2",
				append(args, id)
		case person.AudienceMark:
			query, args = "select person_id from audience_member where person_id = any ($1) and audience_id = $2",
				append(args, id)
		case person.ConsentMark:
			query, args = "select person_id from consent where person_id = any ($1) and purpose_id = $2 and current "+
				"and given", append(args, id)
		case person.AlsoEmail:
			query, args = "select person_id from contact_point where person_id = any ($1) and kind = 'email' and "+
				"value = $2", append(args, what)
		case person.AlsoPhone:
			query, args = "select person_id from contact_point where person_id = any ($1) and kind = 'phone' and "+
				"value = $2", append(args, what)
		case string(person.DoNotContact):
			query = "select id from person where id = any ($1) and do_not_contact"
		default:
			continue
		}
		ids, err := all[int64](ctx, db, query, args...)
		if err != nil {
			return nil, fmt.Errorf("reading marks: %w", err)
		}
		for _, p := range ids {
			if out[p] == nil {
				out[p] = person.Values{}
			}
			out[p][f] = "yes"
		}
	}
	return out, nil
}

func companyNamed(ctx context.Context, tx Tx, name, domain string, at time.Time) (*int64, error) {
	zero := int64(0)
	if name == "" {
		return &zero, nil
	}
	return meetCompany(ctx, tx, name, domain, "", at)
}

func userNamed(ctx context.Context, tx Tx, name string) (*int64, error) {
	zero := int64(0)
	if name == "" {
		return &zero, nil
	}
	id, err := one[int64](ctx, tx,
		"select id from app_user where lower(name) = lower($1) or email = lower($1) order by id limit 1", name)
	if IsNotFound(err) {
		return nil, plainly.Errorf("nobody here is called %q", name)
	}
	return &id, err
}

// Changed is one change of a record, for its history.
type Changed struct {
	ID     int64
	Person *int64 `db:"person_id"`
	At     time.Time
	User   string
	How    string
	Batch  *int64 `db:"batch_id"`
	Before JSON[person.Values]
	After  JSON[person.Values]
}

const changeFields = `
	select h.id, h.person_id, h.at, coalesce(u.name, '') as "user", h.how, h.batch_id, h.before, h.after
	from change h
	left join app_user u on u.id = h.user_id `

// PersonChanges lists the changes of a person's record, the newest first.
func (db Queries) PersonChanges(ctx context.Context, id int64) ([]Changed, error) {
	return all[Changed](ctx, db, changeFields+"where h.person_id = $1 order by h.id desc limit 200", id)
}

// CompanyChanges lists the changes of a company's record, the newest first.
func (db Queries) CompanyChanges(ctx context.Context, id int64) ([]Changed, error) {
	return all[Changed](ctx, db, changeFields+"where h.company_id = $1 order by h.id desc limit 200", id)
}

// OneChange reads a change.
func (tx Tx) OneChange(ctx context.Context, id int64) (Changed, error) {
	return one[Changed](ctx, tx, changeFields+"where h.id = $1", id)
}

// BatchChanges reads up to n changes that a batch made, before one, the newest first.
func (tx Tx) BatchChanges(ctx context.Context, batch, before int64, n int) ([]Changed, error) {
	return all[Changed](ctx, tx,
		changeFields+
			"where h.batch_id = $1 and h.person_id is not null and ($2 = 0 or h.id < $2) and h.how <> 'undone' order "+
			"by h.id desc limit $3", batch, before, n)
}

// PeopleByID reads several people.
func (db Queries) PeopleByID(ctx context.Context, ids []int64) (map[int64]*Person, error) {
	list, err := all[Person](ctx, db, personFields+"where p.id = any ($1) and p.erased_at is null", ids)
	out := make(map[int64]*Person, len(list))
	for i := range list {
		out[list[i].ID] = &list[i]
	}
	return out, err
}
