package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// Company is a company's record.
type Company struct {
	ID       int64
	Name     string
	Domain   string
	Country  string
	Industry string
	Size     int
	Revenue  string
	Own      JSON[map[string]any]
	People   int64
	Open     int64     // open deals
	Best     float64   // the highest score among its people; of one that is read alone 0 where they are many
	Created  time.Time `db:"created_at"`
}

// companyLarge is how many people are so many that the highest score among them is not looked for here.
const companyLarge = 1000

// companyColumns are of companies c. Whoever was erased is at none.
var companyColumns = `
	select c.id, c.name, coalesce(c.domain, '') as domain, c.country, c.industry, c.size, c.revenue, c.own,
		c.created_at, n.people,
		(select count(*) from deal d where d.company_id = c.id and d.closed_at is null) as open,
		coalesce(case when n.people <= ` + strconv.Itoa(companyLarge) + ` then (
				select max(s.score)
				from person p
				join standing s on s.person_id = p.id and s.model_id = ` + theModel + `
				where p.company_id = c.id)
			end, 0) as best `

// peopleThere is joined to companies c: how many people are there.
const peopleThere = " cross join lateral (select count(*) as people from person p where p.company_id = c.id) n "

const companyFrom = "from company c" + peopleThere

// CompanyQuery asks for a page of companies.
type CompanyQuery struct {
	Text     string
	Country  string
	Industry string
	Least    int    // people who work there, at least
	Order    string // name, size or newest
	After    Key
	Limit    int
}

// companies is the condition of a list of companies c.
func (c *compiler) companies(ctx context.Context, db Queries, q CompanyQuery) (string, error) {
	where := "true"
	if texts := wordsOf(q.Text); len(texts) > 0 {
		shares, err := db.sharesOf(ctx, "company")
		if err != nil {
			return "", err
		}
		var words []word
		for _, w := range texts {
			words = append(words, word{w, rareParts(w, shares)})
		}
		where = c.hasQuickly(words, words, "c.words")
	}
	if q.Country != "" {
		where += " and c.country = " + c.arg(q.Country)
	}
	if q.Least > 0 {
		where += " and c.size >= " + c.arg(q.Least)
	}
	if q.Industry != "" {
		where += " and lower(c.industry) = " + c.arg(rule.Fold(q.Industry))
	}
	return where, nil
}

// CompanyOrders are the orders of the companies list.
func CompanyOrders() []string { return []string{"name", "size", "newest"} }

// Companies reads a page of companies, and the key of its last row.
func (db Queries) Companies(ctx context.Context, q CompanyQuery) ([]Company, Key, error) {
	c := compiler{}
	where, err := c.companies(ctx, db, q)
	if err != nil {
		return nil, Key{}, err
	}
	key1, order := "lower(c.name)", "lower(c.name), c.id"
	next := func() string {
		return "(lower(c.name), c.id) > (" + c.arg(q.After.Sort) + ", " + c.arg(q.After.ID) + ")"
	}
	switch q.Order {
	case "size":
		key1, order = "c.size::text", "c.size desc, c.id desc"
		next = func() string {
			return "(c.size, c.id) < (" + c.arg(q.After.Sort) + "::text::int, " + c.arg(q.After.ID) + ")"
		}
	case "newest":
		key1, order = "''", "c.id desc"
		next = func() string { return "c.id < " + c.arg(q.After.ID) }
	}
	if q.After != (Key{}) {
		where += " and " + next()
	}
	rows, err := all[struct {
		Company
		Key string
	}](ctx, db, companyColumns+", "+key1+" as key from (select * from company c where "+where+" order by "+order+
		" limit "+c.arg(q.Limit)+") c"+peopleThere+"order by "+order, planned(c.args)...)
	if err != nil {
		return nil, Key{}, err
	}
	var out []Company
	var key Key
	for _, r := range rows {
		out, key = append(out, r.Company), Key{Sort: r.Key, ID: r.ID}
	}
	return out, key, db.bestOf(ctx, out)
}

// bestOf finds the highest scores at companies with many people.
func (db Queries) bestOf(ctx context.Context, list []Company) error {
	for i := range list {
		if list[i].People <= companyLarge {
			continue
		}
		var err error
		if list[i].Best, err = db.HighestAt(ctx, list[i].ID); err != nil {
			return err
		}
	}
	return nil
}

// HighestAt is the highest score at a company with many people: it is met soon among the highest of all, or else looked
// for among its people.
func (db Queries) HighestAt(ctx context.Context, company int64) (float64, error) {
	v, err := one[float64](ctx, db, `
		select s.score
		from (
			select person_id, score
			from standing
			where model_id = `+theModel+`
			order by score desc, person_id desc
			limit 20000) s
		where exists (select from person p where p.id = s.person_id and p.company_id = $1 offset 0)
		limit 1`, company)
	if IsNotFound(err) {
		v, err = one[float64](ctx, db, `
			select coalesce(max(s.score), 0)
			from person p
			join standing s on s.person_id = p.id and s.model_id = `+theModel+`
			where p.company_id = $1`, company)
	}
	return v, err
}

// FoundCompany is one that words were found in the name of.
type FoundCompany struct {
	ID   int64
	Name string
}

// FindCompanies finds the n largest companies that words are in.
func (db Queries) FindCompanies(ctx context.Context, text string, n int) ([]FoundCompany, error) {
	c := compiler{}
	where, err := c.companies(ctx, db, CompanyQuery{Text: text})
	if err != nil {
		return nil, err
	}
	return all[FoundCompany](ctx, db, "select c.id, c.name from company c where "+where+
		" order by c.size desc, c.id desc limit "+c.arg(n), planned(c.args)...)
}

// CountCompanies counts whom a query would list.
func (db Queries) CountCompanies(ctx context.Context, q CompanyQuery) (int64, error) {
	c := compiler{}
	where, err := c.companies(ctx, db, q)
	if err != nil {
		return 0, err
	}
	return one[int64](ctx, db, "select count(*) from company c where "+where, planned(c.args)...)
}

// LargestCompanies lists those with the most people, from so many on.
func (db Queries) LargestCompanies(ctx context.Context, least int64, n int) ([]Company, error) {
	return all[Company](ctx, db, companyColumns+companyFrom+`where c.id in (
			select company_id
			from person
			where company_id is not null and erased_at is null
			group by company_id
			having count(*) >= $1
			order by count(*) desc
			limit $2)`, least, n)
}

// Company reads one.
func (db Queries) Company(ctx context.Context, id int64) (Company, error) {
	return one[Company](ctx, db, companyColumns+companyFrom+"where c.id = $1", id)
}

// CompanyByDomain finds the company that a domain belongs to.
func (db Queries) CompanyByDomain(ctx context.Context, domain string) (int64, error) {
	return one[int64](ctx, db, "select id from company where domain = $1", domain)
}

// CompaniesByID reads several, by name.
func (db Queries) CompaniesByID(ctx context.Context, ids []int64) ([]Company, error) {
	return all[Company](ctx, db, companyColumns+companyFrom+"where c.id = any ($1) order by lower(c.name), c.id",
		ids)
}

// Industries lists the industries of companies, the commonest first.
func (db Queries) Industries(ctx context.Context) ([]string, error) {
	return all[string](ctx, db,
		"select industry from company where industry <> '' group by 1 order by count(*) desc, 1 limit 60")
}

// CompanyCountries lists the countries of companies.
func (db Queries) CompanyCountries(ctx context.Context) ([]string, error) {
	return all[string](ctx, db, "select country from company where country <> '' group by 1 order by 1")
}

// Values are the known fields of a company, as the core tidies them.
func (c *Company) Values() person.Values {
	p := Person{Company: c.Name, Domain: c.Domain, CompanyCountry: c.Country, Industry: c.Industry, Revenue: c.Revenue,
		Size: c.Size, CompanyOwn: c.Own}
	v := p.Values()
	delete(v, person.Created) // that of a person who is none
	return v
}

// SetCompany changes a company's record and keeps what changed.
func (tx Tx) SetCompany(ctx context.Context, id int64, set person.Values, a Author) error {
	c, err := one[Company](ctx, tx, companyColumns+companyFrom+"where c.id = $1 for update of c", id)
	if err != nil {
		return err
	}
	before, after := person.Diff(c.Values(), set)
	if len(after) == 0 {
		return nil
	}
	types, err := ownTypes(ctx, tx, true)
	if err != nil {
		return err
	}
	patch, err := ownJSON(types, after)
	if err != nil {
		return err
	}
	if patch != "" {
		if _, err := exec(ctx, tx, "update company set own = jsonb_strip_nulls(own || $2::jsonb) where id = $1", id,
			patch); err != nil {
			return fmt.Errorf("changing company %d: %w", id, err)
		}
	}
	for f, v := range after {
		if _, own := f.OwnID(); own {
			continue
		}
		col := map[person.Field]string{person.Company: "name", person.Domain: "domain",
			person.CompanyCountry: "country", person.Industry: "industry", person.Revenue: "revenue",
			person.Size: "size"}[f]
		var x any = v
		switch {
		case col == "":
			return plainly.Errorf("%q is no field of a company", f)
		case f == person.Domain && v == "":
			x = nil
		case f == person.Size:
			n := 0
			if v != "" {
				if _, err := fmt.Sscanf(v, "%d", &n); err != nil {
					return person.ErrNumber
				}
			}
			x = n
		}
		if _, err := exec(ctx, tx, "update company set "+col+" = $2 where id = $1", id, x); err != nil {
			if taken(err) {
				return plainly.Errorf("%w: another company has this domain", ErrTaken)
			}
			return fmt.Errorf("changing company %d: %w", id, err)
		}
	}
	b, err := json.Marshal(before)
	if err != nil {
		return err
	}
	x, err := json.Marshal(after)
	if err != nil {
		return err
	}
	_, err = exec(ctx, tx,
		"insert into change (company_id, at, user_id, how, before, after) values ($1, $2, nullif($3::bigint, 0), $4, "+
			"$5, $6)", id, a.At, a.User, a.How, string(b), string(x))
	return err
}
