package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// Person is a person's record, with their company, owner and score.
type Person struct {
	ID           int64
	First        string `db:"first_name"`
	Last         string `db:"last_name"`
	Email        string
	Phone        string
	Title        string
	CompanyID    *int64 `db:"company_id"`
	Company      string
	Industry     string
	OwnerID      *int64 `db:"owner_id"`
	Owner        string
	Country      string
	City         string
	Zone         string
	Source       string
	DoNotContact bool       `db:"do_not_contact"`
	OptedOut     *time.Time `db:"opted_out_at"`
	Bounced      *time.Time `db:"bounced_at"`
	Created      time.Time  `db:"created_at"`
	Score        float64
	Sequences    int // open enrolments
}

const personFields = `select p.id, p.first_name, p.last_name, p.email, p.phone, p.title, p.company_id, coalesce(c.name, '') as company, coalesce(c.industry, '') as industry,
	p.owner_id, coalesce(o.name, '') as owner, p.country, p.city, p.zone, p.source, p.do_not_contact, p.opted_out_at, p.bounced_at, p.created_at,
	coalesce(s.score, 0) as score, (select count(*) from enrolment e where e.person_id = p.id and e.ended_at is null) as sequences
	from person p left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id
	left join standing s on s.person_id = p.id and s.model_id = (select min(id) from score_model) `

// Person reads one.
func (s *Store) Person(ctx context.Context, id int64) (Person, error) {
	return one[Person](ctx, s.db, personFields+"where p.id = $1", id)
}

// PersonByEmail finds one by address, as core/person normalises it.
func (s *Store) PersonByEmail(ctx context.Context, email string) (Person, error) {
	return one[Person](ctx, s.db, personFields+"where p.email = $1", email)
}

// Order is how a list of people is sorted.
type Order string

// The orders of the people list.
const (
	ByScore Order = "score"
	ByName  Order = "name"
	Newest  Order = "newest"
)

// PeopleQuery asks for a page of the people list.
type PeopleQuery struct {
	Rule  rule.Rule
	Text  string // part of a name, address or company
	Order Order
	After int64 // the last person of the page before
	Limit int
	Now   time.Time
}

// People reads a page of people, by key: each page begins after the last
// person of the one before.
func (s *Store) People(ctx context.Context, q PeopleQuery) ([]Person, error) {
	c := compiler{now: q.Now}
	where := c.people(q)
	order := map[Order]string{
		ByScore: "coalesce(s.score, 0) desc, p.id desc",
		ByName:  "lower(p.last_name), lower(p.first_name), p.id",
		Newest:  "p.id desc",
	}[q.Order]
	if order == "" {
		return nil, fmt.Errorf("people cannot be listed by %q", q.Order)
	}
	if q.After != 0 {
		last := c.arg(q.After)
		switch q.Order {
		case ByScore:
			where += " and (coalesce(s.score, 0), p.id) < (select coalesce(s2.score, 0), p2.id from person p2 left join standing s2 on s2.person_id = p2.id and s2.model_id = (select min(id) from score_model) where p2.id = " + last + ")"
		case ByName:
			where += " and (lower(p.last_name), lower(p.first_name), p.id) > (select lower(last_name), lower(first_name), id from person where id = " + last + ")"
		case Newest:
			where += " and p.id < " + last
		}
	}
	return all[Person](ctx, s.db, personFields+"where "+where+" order by "+order+" limit "+c.arg(q.Limit), c.args...)
}

// CountPeople counts whom a query would list, all pages together.
func (s *Store) CountPeople(ctx context.Context, q PeopleQuery) (int64, error) {
	c := compiler{now: q.Now}
	where := c.people(q)
	return one[int64](ctx, s.db, `select count(*) from person p left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id
		left join standing s on s.person_id = p.id and s.model_id = (select min(id) from score_model) where `+where, c.args...)
}

// PeopleFor lists the ids of those for whom a rule holds and who are not on a
// sequence and have not been, n at most. Whoever has an open deal is their
// rep's to write to, and is left out.
func PeopleFor(ctx context.Context, q querier, r *rule.Rule, sequence int64, now time.Time, n int) ([]int64, error) {
	c := compiler{now: now}
	where := c.rule(r)
	seq := c.arg(sequence)
	return all[int64](ctx, q, `select p.id from person p left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id
		where `+where+` and not p.do_not_contact and p.opted_out_at is null and p.bounced_at is null
		and not exists (select from enrolment e where e.sequence_id = `+seq+` and e.person_id = p.id)
		and not exists (select from deal d where d.person_id = p.id and d.closed_at is null) order by p.id limit `+c.arg(n), c.args...)
}

// NewPerson is what a form or an import knows of somebody.
type NewPerson struct {
	First, Last, Email, Company, Domain string
	Title, Country, City, Phone         string
	Source                              string
}

// MeetPerson finds the person with an address, filling in what was not known
// of them, or makes them, with their company, which is found by its domain. It
// answers whether they are new.
func MeetPerson(ctx context.Context, tx Tx, p NewPerson, at time.Time) (id int64, fresh bool, err error) {
	var company *int64
	if p.Domain != "" || p.Company != "" {
		name := p.Company
		if name == "" {
			name = p.Domain
		}
		var c int64
		if p.Domain != "" {
			c, err = one[int64](ctx, tx, `insert into company (name, domain, country, created_at) values ($1, $2, $3, $4)
				on conflict (domain) do update set name = company.name returning id`, name, p.Domain, p.Country, at)
		} else {
			c, err = one[int64](ctx, tx, `with found as (select id from company where lower(name) = lower($1) order by id limit 1),
				made as (insert into company (name, country, created_at) select $1, $2, $3 where not exists (select from found) returning id)
				select id from found union all select id from made`, name, p.Country, at)
		}
		if err != nil {
			return 0, false, fmt.Errorf("meeting the company %q: %w", name, err)
		}
		company = &c
	}
	row, err := one[struct {
		ID    int64
		Fresh bool
	}](ctx, tx, `insert into person (first_name, last_name, email, phone, title, company_id, country, city, source, created_at)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
		on conflict (email) do update set
			first_name = case when person.first_name = '' then excluded.first_name else person.first_name end,
			last_name = case when person.last_name = '' then excluded.last_name else person.last_name end,
			phone = case when person.phone = '' then excluded.phone else person.phone end,
			title = case when person.title = '' then excluded.title else person.title end,
			country = case when person.country = '' then excluded.country else person.country end,
			city = case when person.city = '' then excluded.city else person.city end,
			company_id = coalesce(person.company_id, excluded.company_id)
		returning id, xmax = 0 as fresh`,
		p.First, p.Last, p.Email, p.Phone, p.Title, company, p.Country, p.City, p.Source, at)
	if err != nil {
		return 0, false, fmt.Errorf("meeting %s: %w", p.Email, err)
	}
	return row.ID, row.Fresh, nil
}

// SetOwner gives a person to a user, or to nobody with 0.
func (s *Store) SetOwner(ctx context.Context, person, owner int64) error {
	n, err := exec(ctx, s.db, "update person set owner_id = nullif($2, 0) where id = $1", person, owner)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// Records reads what rules ask of several people's records.
func Records(ctx context.Context, q querier, people []int64) (map[int64]Record, error) {
	rows, err := all[Record](ctx, q, `select p.id, p.first_name as first, p.last_name as last, p.email, p.title, p.country, p.city, p.source,
		coalesce(c.name, '') as company, coalesce(c.industry, '') as industry, coalesce(o.name, '') as owner
		from person p left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id where p.id = any ($1)`, people)
	if err != nil {
		return nil, fmt.Errorf("reading records: %w", err)
	}
	out := make(map[int64]Record, len(rows))
	for _, r := range rows {
		out[r.ID] = r
	}
	return out, nil
}

// Record is what rules ask of a person's record.
type Record struct {
	ID                                       int64
	First, Last, Email, Title, Country, City string
	Source, Company, Industry, Owner         string
}

// Text is the value of a field.
func (r *Record) Text(f rule.Field) string {
	switch f {
	case rule.FirstName:
		return r.First
	case rule.LastName:
		return r.Last
	case rule.Email:
		return r.Email
	case rule.Title:
		return r.Title
	case rule.Country:
		return r.Country
	case rule.City:
		return r.City
	case rule.Source:
		return r.Source
	case rule.Company:
		return r.Company
	case rule.Industry:
		return r.Industry
	case rule.Owner:
		return r.Owner
	}
	return ""
}

// Values lists the values that a field has among people, the commonest first.
func (s *Store) Values(ctx context.Context, f rule.Field, n int) ([]string, error) {
	c := compiler{}
	return all[string](ctx, s.db, `select `+c.column(f)+` as v from person p left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id
		where `+c.column(f)+` <> '' group by 1 order by count(*) desc, 1 limit $1`, n)
}

// LastMailSender finds the person an address belongs to.
func LastMailSender(ctx context.Context, q querier, email string) (int64, error) {
	return one[int64](ctx, q, "select id from person where email = $1", email)
}

// TimelineSignal is a signal as a timeline shows it.
type TimelineSignal struct {
	ID       int64
	At       time.Time
	Kind     signal.Kind
	Machine  string
	Detail   string
	Sequence *int64 `db:"sequence_id"`
	Touch    *int64 `db:"touch_id"`
	Name     string // of the sequence
}

// PersonTimeline lists a person's signals, the newest first.
func (s *Store) PersonTimeline(ctx context.Context, person int64) ([]TimelineSignal, error) {
	return all[TimelineSignal](ctx, s.db, `select s.id, s.at, s.kind, s.machine, s.detail, s.sequence_id, s.touch_id, coalesce(q.name, '') as name
		from signal s left join sequence q on q.id = s.sequence_id where s.person_id = $1 order by s.at desc, s.id desc limit 500`, person)
}

// IsNotFound reports whether err says that something is not there.
func IsNotFound(err error) bool { return errors.Is(err, ErrNotFound) }
