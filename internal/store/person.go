package store

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/contact"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// Person is a person's record, with their company, owner and score.
type Person struct {
	ID             int64
	First          string `db:"first_name"`
	Last           string `db:"last_name"`
	Email          string
	Phone          string
	Title          string
	Seniority      string
	Department     string
	CompanyID      *int64 `db:"company_id"`
	Company        string
	Domain         string
	Industry       string
	Size           int
	Revenue        string
	CompanyCountry string `db:"company_country"`
	OwnerID        *int64 `db:"owner_id"`
	Owner          string
	Country        string
	Region         string
	City           string
	Zone           string
	Language       string
	Profile        string
	Street         string
	Postcode       string
	Source         string
	Medium         string
	Campaign       string
	Term           string
	Content        string
	Own            JSON[map[string]any]
	CompanyOwn     JSON[map[string]any] `db:"company_own"`
	DoNotContact   bool                 `db:"do_not_contact"`
	OptedOut       *time.Time           `db:"opted_out_at"`
	NoCalls        *time.Time           `db:"no_calls_at"` // asked not to be called
	Bounced        *time.Time           `db:"bounced_at"`
	Away           *time.Time           `db:"away_until"`
	Created        time.Time            `db:"created_at"`
	BatchID        *int64               `db:"batch_id"`
	Erased         *time.Time           `db:"erased_at"`
	Score          float64
	Sequences      int // open enrolments
}

// Values are the known fields, as the core tidies them.
func (p *Person) Values() person.Values {
	m := person.Values{}
	put := func(f rule.Field, v string) {
		if v != "" {
			m[f] = v
		}
	}
	put(person.FirstName, p.First)
	put(person.LastName, p.Last)
	put(person.EmailField, p.Email)
	put(person.PhoneField, p.Phone)
	put(person.Title, p.Title)
	put(person.Seniority, p.Seniority)
	put(person.Department, p.Department)
	put(person.Country, p.Country)
	put(person.Region, p.Region)
	put(person.City, p.City)
	put(person.Street, p.Street)
	put(person.Postcode, p.Postcode)
	put(person.Zone, p.Zone)
	put(person.Language, p.Language)
	put(person.Profile, p.Profile)
	put(person.Source, p.Source)
	put(person.Medium, p.Medium)
	put(person.Campaign, p.Campaign)
	put(person.Term, p.Term)
	put(person.Content, p.Content)
	put(person.Company, p.Company)
	put(person.Domain, p.Domain)
	put(person.Industry, p.Industry)
	put(person.Revenue, p.Revenue)
	put(person.CompanyCountry, p.CompanyCountry)
	put(person.Owner, p.Owner)
	put(person.Created, p.Created.UTC().Format(time.RFC3339Nano))
	if p.Size > 0 {
		put(person.Size, strconv.Itoa(p.Size))
	}
	for _, own := range []map[string]any{p.Own.V, p.CompanyOwn.V} {
		for id, v := range own {
			if n, err := strconv.ParseInt(id, 10, 64); err == nil {
				put(person.Own(n), ownText(v))
			}
		}
	}
	return m
}

// ownText is an own field's value in the form in which the core tidies it.
func ownText(v any) string {
	switch x := v.(type) {
	case string:
		return x
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	case []any:
		list := make([]string, len(x))
		for i := range x {
			list[i] = fmt.Sprint(x[i])
		}
		return strings.Join(list, person.Joint)
	}
	return ""
}

// ownValue is the reverse: how an own field of a type is kept. Empty is nil.
func ownValue(t person.Type, v string) any {
	if v == "" {
		return nil
	}
	switch t {
	case person.Number:
		if f, err := strconv.ParseFloat(v, 64); err == nil {
			return f
		}
		return nil
	case person.SeveralOf:
		return strings.Split(v, person.Joint)
	}
	return v
}

const personColumns = `
	select p.id, p.first_name, p.last_name, p.email, p.phone, p.title, p.seniority, p.department, p.company_id,
		coalesce(c.name, '') as company,
	coalesce(c.domain, '') as domain, coalesce(c.industry, '') as industry, coalesce(c.size, 0) as size,
		coalesce(c.revenue, '') as revenue, coalesce(c.country, '') as company_country,
	p.owner_id, coalesce(o.name, '') as owner, p.country, p.region, p.city, p.street, p.postcode, p.zone, p.language,
		p.profile, p.source, p.medium, p.campaign, p.term, p.content, p.own, coalesce(c.own, '{}') as company_own,
	p.do_not_contact, p.opted_out_at, p.no_calls_at, p.bounced_at, p.away_until, p.created_at, p.batch_id, p.erased_at`

const personFields = personColumns +
	`
	, coalesce(s.score, 0) as score, (
		select count(*) from enrolment e where e.person_id = p.id and e.ended_at is null) as sequences
	from person p left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id
	left join standing s on s.person_id = p.id and s.model_id = ` + theModel + ` `

// Person reads one.
func (db Queries) Person(ctx context.Context, id int64) (Person, error) {
	return one[Person](ctx, db, personFields+"where p.id = $1 and p.erased_at is null", id)
}

// PersonByEmail finds one by any of their addresses, as core/person tidies it.
func (db Queries) PersonByEmail(ctx context.Context, email string) (Person, error) {
	return one[Person](ctx, db,
		personFields+
			"where p.id = (select id from person where email = $1 and email <> '' union all select person_id from "+
			"contact_point where kind = 'email' and value = $1 limit 1)", email)
}

// Reach is what decides whether they may be reached, without what they said of
// any purpose.
func (p *Person) Reach() contact.Facts {
	return contact.Facts{Email: p.Email != "", Phone: p.Phone != "", Profile: p.Profile != "",
		Postal: p.Street != "" && p.City != "", DoNotContact: p.DoNotContact,
		OptedOut: p.OptedOut != nil, NoCalls: p.NoCalls != nil, Bounced: p.Bounced != nil}
}

// PeopleFor lists the ids of those who enter a sequence by its rule now, n at most, in
// the order of their records. Nobody whom no touch of the sequence may reach enters it.
func (db Queries) PeopleFor(
	ctx context.Context, e *RunningEntry, now time.Time, after int64, n int,
) ([]int64, error) {
	r := e.Entry.V.Rule
	cat, err := catalogueFor(ctx, db, r)
	if err != nil {
		return nil, err
	}
	c := compiler{now: now, cat: cat}
	where := c.rule(r)
	return all[int64](ctx, db, `select p.id`+peopleTables+`where `+where+` and p.erased_at is null
		and p.id > `+c.arg(after)+`
		and (`+whyNotEnter(e.Plan.V.Ways())+`) is null
		and (`+c.mayNot(&e.Entry.V, c.arg(e.Sequence), now, true)+`) is null
		order by p.id limit `+c.arg(n), planned(c.args)...)
}

// NewPerson is what a form or an import knows of somebody.
type NewPerson struct {
	First, Last, Email, Company, Domain string
	Title, Country, City, Phone         string
	Source                              string
}

// tidy brings everything into the form in which it is kept. What a form or a
// card says wrongly of somebody's place or number is left out: it is no reason
// not to meet them.
func (p NewPerson) tidy() NewPerson {
	p.First, p.Last, p.Company, p.Title, p.City, p.Source = person.Name(p.First), person.Name(p.Last),
		person.Name(p.Company), person.Name(p.Title), person.Name(p.City), person.Name(p.Source)
	p.Country, _ = person.CountryCode(p.Country)
	p.Phone, _ = person.Phone(p.Phone, p.Country)
	return p
}

// MeetPerson finds the person with an address, filling in what was not known
// of them, or makes them, with their company, which is found by its domain. It
// answers whether they are new. The address must be tidied already.
func (tx Tx) MeetPerson(ctx context.Context, p NewPerson, at time.Time) (id int64, fresh bool, err error) {
	p = p.tidy()
	company, err := meetCompany(ctx, tx, p.Company, p.Domain, p.Country, at)
	if err != nil {
		return 0, false, err
	}
	row, err := one[struct {
		ID    int64
		Fresh bool
	}](ctx, tx, `
			with known as (
			select person_id as id from contact_point where kind = 'email' and value = $3),
		made as (
			insert into person (first_name, last_name, email, phone, title, company_id, country, city, source,
				created_at)
			select $1, $2, $3, $4, $5, $6, $7, $8, $9, $10 where not exists (select from known)
			on conflict (email) where email <> '' do update set email = person.email
			returning id, xmax = 0 as fresh)
		select id, fresh from made union all select id, false from known`,
		p.First, p.Last, p.Email, p.Phone, p.Title, company, p.Country, p.City, p.Source, at)
	if err != nil {
		return 0, false, fmt.Errorf("meeting %s: %w", p.Email, err)
	}
	if row.Fresh {
		return row.ID, true, nil
	}
	fill := person.Values{}
	for f, v := range map[rule.Field]string{person.FirstName: p.First, person.LastName: p.Last,
		person.PhoneField: p.Phone, person.Title: p.Title, person.Country: p.Country, person.City: p.City} {
		if v != "" {
			fill[f] = v
		}
	}
	return row.ID, false, fillGaps(ctx, tx, row.ID, fill, company, at)
}

// fillGaps keeps what was not known of somebody, and that it was.
func fillGaps(ctx context.Context, tx Tx, id int64, fill person.Values, company *int64, at time.Time) error {
	p, err := one[Person](ctx, tx, personFields+"where p.id = $1", id)
	if err != nil {
		return err
	}
	known := p.Values()
	for f := range fill {
		if known[f] != "" {
			delete(fill, f)
		}
	}
	if company != nil && p.CompanyID == nil {
		if _, err := exec(ctx, tx, "update person set company_id = $2 where id = $1", id, *company); err != nil {
			return err
		}
	}
	return tx.SetValues(ctx, p, fill, Author{How: "by form", At: at})
}

// meetCompany finds a company by its domain, else by its name, or makes it;
// nil where neither is known.
func meetCompany(ctx context.Context, tx Tx, name, domain, country string, at time.Time) (*int64, error) {
	if domain == "" && name == "" {
		return nil, nil
	}
	if name == "" {
		name = domain
	}
	var c int64
	var err error
	if domain != "" {
		c, err = one[int64](ctx, tx, `
			with found as (select id from company where domain = $2),
			made as (insert into company (name, domain, country, created_at) select $1, $2, $3,
				$4 where not exists (select from found)
				on conflict (domain) do update set name = company.name returning id)
			select id from found union all select id from made`, name, domain, country, at)
	} else {
		c, err = one[int64](ctx, tx, `
			with found as (select id from company where lower(name) = lower($1) order by id limit 1),
			made as (
				insert into company (name, country, created_at)
				select $1, $2, $3
				where not exists (select from found)
				returning id)
			select id from found union all select id from made`, name, country, at)
	}
	if err != nil {
		return nil, fmt.Errorf("meeting the company %q: %w", name, err)
	}
	return &c, nil
}

// Records reads what rules ask of several people's records.
func (db Queries) Records(ctx context.Context, people []int64) (map[int64]*rule.Record, error) {
	return db.records(ctx, people, aroundRecord)
}

// RecordFields is Records without what stands around the fields: tags, audiences, consents, deals, ways and events, and
// what of the fit is asked of them.
func (db Queries) RecordFields(ctx context.Context, people []int64) (map[int64]*rule.Record, error) {
	return db.records(ctx, people, `null::json as tags, null::json as audiences, null::json as consents,
		null::json as deals, null::json as ways, null::json as events`)
}

const aroundRecord = `
		(select json_agg(tag_id) from person_tag x where x.person_id = p.id) as tags,
		(select json_agg(audience_id) from audience_member x where x.person_id = p.id) as audiences,
		(select json_agg(purpose_id) from consent x where x.person_id = p.id and x.current and x.given) as consents,
		(
			select json_agg(json_build_object('stage', x.stage_id, 'closed', x.closed_at, 'won', st.won,
				'lost', st.lost, 'sequence', x.sequence_id, 'campaign', x.campaign))
			from deal_of x
			join stage st on st.id = x.stage_id
			where x.person_id = p.id) as deals,
		(
			select json_agg(json_build_object('sequence', x.sequence_id, 'open', x.ended_at is null, 'reason',
				x.reason, 'version', x.version_id, 'step', x.step))
			from enrolment x
			where x.person_id = p.id) as ways,
		(
			select json_agg(json_build_object('Event', x.event_id, 'State', x.state))
			from attendance x
			where x.person_id = p.id and x.current) as events`

func (db Queries) records(ctx context.Context, people []int64, around string) (map[int64]*rule.Record, error) {
	if len(people) == 0 {
		return map[int64]*rule.Record{}, nil
	}
	rows, err := all[struct {
		Person
		Tags      JSON[[]int64]
		Audiences JSON[[]int64]
		Consents  JSON[[]int64]
		Deals     JSON[[]struct {
			Stage     int64
			Closed    *time.Time
			Won, Lost bool
			Sequence  *int64
			Campaign  string
		}]
		Ways JSON[[]struct {
			Sequence int64
			Open     bool
			Reason   string
			Version  int64
			Step     int32
		}]
		Events JSON[[]rule.EventFact]
	}](ctx, db, personColumns+`
		, 0 as score, 0 as sequences,
		`+around+peopleTables+`where p.id = any ($1)`, people)
	if err != nil {
		return nil, fmt.Errorf("reading records: %w", err)
	}
	fits, err := readFits(ctx, db)
	if err != nil {
		return nil, err
	}
	ends := map[endAt]string{}
	for i := range rows {
		for _, w := range rows[i].Ways.V {
			if !w.Open && finished(w.Reason) {
				ends[endAt{w.Version, w.Step}] = ""
			}
		}
	}
	if err := readEnds(ctx, db, ends); err != nil {
		return nil, err
	}
	out := make(map[int64]*rule.Record, len(rows))
	for i := range rows {
		r := &rows[i]
		x := &rule.Record{Values: r.Values(), Tags: r.Tags.V, Audiences: r.Audiences.V, Consents: r.Consents.V,
			Events: r.Events.V}
		fits.set(x)
		for _, d := range r.Deals.V {
			f := rule.DealFact{Stage: d.Stage, Won: d.Won, Lost: d.Lost, Campaign: d.Campaign}
			if d.Sequence != nil {
				f.Sequence = *d.Sequence
			}
			if d.Closed != nil {
				f.Closed = d.Closed.UTC()
			}
			x.Deals = append(x.Deals, f)
		}
		for _, w := range r.Ways.V {
			x.Ways = append(x.Ways,
				rule.WayFact{Sequence: w.Sequence, Open: w.Open, Finished: !w.Open && finished(w.Reason),
					End: ends[endAt{w.Version, w.Step}]})
		}
		out[r.ID] = x
	}
	return out, nil
}

// SetAway keeps until when somebody is away. The emails to them that wait
// already wait until then.
func (tx Tx) SetAway(ctx context.Context, person int64, until time.Time) error {
	_, err := exec(ctx, tx, `with p as (update person set away_until = $2 where id = $1)
		update letter l set ready_at = $2 from touch t
		where t.person_id = $1 and l.touch_id = t.id and l.open and l.phase = 'waiting' and l.ready_at < $2`, person,
		until)
	return err
}

// Values lists the values that a field has among people, the commonest first.
func (db Queries) Values(ctx context.Context, f rule.Field, n int) ([]string, error) {
	col := columns[f]
	if col == "" {
		return nil, nil
	}
	return all[string](ctx, db,
		`select `+col+` as v`+peopleTables+`where `+col+` <> '' group by 1 order by count(*) desc, 1 limit $1`, n)
}

// PeopleByAddress finds whose some addresses are, in lower case: of each, whom it is the main
// one of, else whom it is known of besides.
func (db Queries) PeopleByAddress(ctx context.Context, addresses []string) (map[string]int64, error) {
	rows, err := all[struct {
		Address string
		ID      int64
	}](ctx, db, `
		select distinct on (address) address, id
		from (
			select p.email as address, p.id, 0 as rank from person p where p.email = any ($1) and p.email <> ''
			union all
			select c.value, c.person_id, 1 from contact_point c where c.kind = 'email' and c.value = any ($1)) x
		order by address, rank, id`, addresses)
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.Address] = r.ID
	}
	return out, err
}

// LastMailSender finds the person an address belongs to.
func (db Queries) LastMailSender(ctx context.Context, email string) (int64, error) {
	return one[int64](ctx, db, `select id from person where email = $1 and email <> ''
		union all select person_id from contact_point where kind = 'email' and value = $1 limit 1`, email)
}

// TimelineSignal is a signal as a timeline shows it.
type TimelineSignal struct {
	ID       int64
	Person   int64 `db:"person_id"`
	At       time.Time
	Kind     signal.Kind
	Machine  string
	Detail   string
	Sequence *int64 `db:"sequence_id"`
	Touch    *int64 `db:"touch_id"`
	Name     string // of the sequence
}

// Timeline lists the last signals of some people, the newest first.
func (db Queries) Timeline(ctx context.Context, of Last) ([]TimelineSignal, error) {
	if of.Before == nil && !of.First.IsZero() {
		list, err := db.signalsSince(ctx, of, of.First)
		if err != nil || len(list) >= of.Most {
			return list, err
		}
	}
	return db.signalsSince(ctx, of, time.Time{})
}

func (db Queries) signalsSince(ctx context.Context, of Last, since time.Time) ([]TimelineSignal, error) {
	return all[TimelineSignal](ctx, db, `
		select s.id, s.person_id, s.at, s.kind, s.machine, s.detail, s.sequence_id, s.touch_id,
			coalesce(q.name, '') as name
		from unnest($1::bigint[]) as u(person)
		cross join lateral (
			select *
			from signal x
			where x.person_id = u.person and x.at < coalesce($3::timestamptz, 'infinity') and x.at >= $4
			order by x.at desc, x.id desc
			limit $2) s
		left join sequence q on q.id = s.sequence_id
		order by s.at desc, s.id desc
		limit $2`, of.People, of.Most, of.Before, since)
}

// Last is the newest of what there is of some people: so much of each, and of all together.
type Last struct {
	People []int64
	Most   int
	Before *time.Time // nil: until now
	// First is from when on signals are looked for at first, and everywhere where there are not as many: each further
	// month costs a look into it for each of the people. Zero: everywhere at once.
	First time.Time
}

// Of is the newest of what there is of one person, as much as a page about them needs.
func Of(person int64) Last { return Last{People: []int64{person}, Most: 500} }

// AllOf is all that there is of one person.
func AllOf(person int64) Last { return Last{People: []int64{person}, Most: math.MaxInt32} }

// ids are those of the rows of a table with a column person_id, in the order of an instant of theirs. They are asked
// for first: a planner that does not know how few they will be reads the whole of what is joined to them.
func (of Last) ids(ctx context.Context, db Queries, table, at string) ([]int64, error) {
	return all[int64](ctx, db, `
		select l.id
		from unnest($1::bigint[]) as u(person)
		cross join lateral (
			select x.id, x.`+at+` as at
			from `+table+` x
			where x.person_id = u.person and ($3::timestamptz is null or x.`+at+` < $3)
			order by x.`+at+` desc, x.id desc
			limit $2) l
		order by l.at desc, l.id desc
		limit $2`, of.People, of.Most, of.Before)
}

// IsNotFound reports whether err says that something is not there.
func IsNotFound(err error) bool { return errors.Is(err, ErrNotFound) }

// endAt is the step of a version at which ways ended.
type endAt struct {
	Version int64
	Step    int32
}

// readEnds reads what steps are called.
func readEnds(ctx context.Context, db Queries, ends map[endAt]string) error {
	if len(ends) == 0 {
		return nil
	}
	var versions []int64
	var steps []int32
	for at := range ends {
		versions, steps = append(versions, at.Version), append(steps, at.Step)
	}
	rows, err := all[struct {
		endAt
		Title string
	}](ctx, db, `
		select x.version_id as version, x.step, coalesce((`+endOfWay+`), '') as title
		from unnest($1::bigint[], $2::int[]) as x(version_id, step)`, versions, steps)
	if err != nil {
		return fmt.Errorf("reading what ends are called: %w", err)
	}
	for _, r := range rows {
		ends[r.endAt] = r.Title
	}
	return nil
}

// SetNoCalls keeps that somebody asked not to be called, or that they may be called again.
func (tx Tx) SetNoCalls(ctx context.Context, id int64, at *time.Time) error {
	_, err := exec(ctx, tx, "update person set no_calls_at = $2 where id = $1 and erased_at is null", id, at)
	return err
}
