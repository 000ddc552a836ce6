package store

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/rule"
)

// Order is how a list of people is sorted.
type Order string

// The orders of the people list.
const (
	ByScore   Order = "score"
	ByName    Order = "name"
	ByEmail   Order = "email"
	ByCompany Order = "company"
	Newest    Order = "newest"
)

// Orders lists them.
func Orders() []Order { return []Order{ByScore, ByName, ByCompany, ByEmail, Newest} }

// PeopleQuery asks for a page of the people list.
type PeopleQuery struct {
	Rule  rule.Rule
	Text  string  // part of a name, address or company
	Only  []int64 // nil: everybody
	Batch int64   // whom an import made; 0: everybody
	Order Order
	After Key // where the page before ended; zero: the first page
	Limit int
	Now   time.Time
}

// Key is the place of a row in an order: what it is sorted by, and who it is.
// A page begins after the key of the last row before, so that each page costs
// the same, however far down it is.
type Key struct {
	Part  int // 0: those the order knows; 1: the rest, the newest first
	Sort  string
	Sort2 string
	ID    int64
}

// String is a key as addresses have it.
func (k Key) String() string {
	if k == (Key{}) {
		return ""
	}
	return fmt.Sprintf("%d.%d.%x.%x", k.Part, k.ID, k.Sort, k.Sort2)
}

// ParseKey reads a Key's String; what is none is the zero key.
func ParseKey(s string) Key {
	var k Key
	var a, b []byte
	part, rest, _ := strings.Cut(s, ".")
	id, rest, _ := strings.Cut(rest, ".")
	first, second, _ := strings.Cut(rest, ".")
	var err error
	if k.Part, err = strconv.Atoi(part); err != nil || k.Part < 0 || k.Part > 1 {
		return Key{}
	}
	if k.ID, err = strconv.ParseInt(id, 10, 64); err != nil {
		return Key{}
	}
	if _, err := fmt.Sscanf(first+" ", "%x", &a); err != nil && first != "" {
		return Key{}
	}
	if _, err := fmt.Sscanf(second+" ", "%x", &b); err != nil && second != "" {
		return Key{}
	}
	k.Sort, k.Sort2 = strings.ToValidUTF8(string(a), ""), strings.ToValidUTF8(string(b), "")
	return k
}

// called is the condition that each word of a text begins a name, an address,
// or the name or domain of a company. Each way has its index. Letters beyond
// the plain ones are found as they are typed.
func (c *compiler) called(text string) string {
	where := ""
	for i, word := range strings.Fields(text) {
		if i == 4 {
			break
		}
		// As the index lowers: the plain letters alone.
		like := c.arg(likeText(strings.Map(func(r rune) rune {
			if r >= 'A' && r <= 'Z' {
				return r + 'a' - 'A'
			}
			return r
		}, word))+"%") + "::text"
		low := c.arg(likeText(rule.Fold(word))+"%") + "::text"
		// One query for each index: joined by or, none would be used. That of
		// addresses leaves the empty ones out, and so must the question.
		where += fmt.Sprintf(` and p.id in (select x.id from person x where lower(x.first_name collate "C") like %[1]s
			union all select x.id from person x where lower(x.last_name collate "C") like %[1]s
			union all select x.id from person x where x.email <> '' and x.email like %[2]s
			union all select x.id from company y join person x on x.company_id = y.id where lower(y.name) like %[2]s
			union all select x.id from company y join person x on x.company_id = y.id where y.domain like %[2]s)`, like, low)
	}
	return where
}

// people is the condition of a list of people.
func (c *compiler) people(q PeopleQuery) string {
	where := c.rule(&q.Rule) + " and p.erased_at is null"
	where += c.called(q.Text)
	if q.Only != nil {
		where += " and p.id = any (" + c.arg(q.Only) + ")"
	}
	if q.Batch != 0 {
		where += " and p.batch_id = " + c.arg(q.Batch)
	}
	return where
}

// People reads a page of people and the key of its last row.
//
// Each order has an index that knows some of the people (those with a score,
// with a company); the rest follow, the newest first.
func (s *Store) People(ctx context.Context, q PeopleQuery) (list []Person, last Key, err error) {
	err = s.InTx(ctx, func(tx Tx) error {
		// What is fast depends on what is asked for: no plan serves all.
		if _, err := exec(ctx, tx, "select set_config('plan_cache_mode', 'force_custom_plan', true), set_config('statement_timeout', '20s', true)"); err != nil {
			return err
		}
		list, last, err = people(ctx, tx, q)
		return err
	})
	return list, last, err
}

func people(ctx context.Context, db querier, q PeopleQuery) ([]Person, Key, error) {
	cat, err := catalogueFor(ctx, db, &q.Rule)
	if err != nil {
		return nil, Key{}, err
	}
	var list []Person
	var key Key
	if q.After.Part == 0 {
		c := compiler{now: q.Now, few: true, cat: cat}
		where := c.people(q)
		from, key1, key2, order, first := " from person p", "''", "''", "", ""
		switch q.Order {
		case ByScore:
			from, key1, order = " from standing k join person p on p.id = k.person_id", "k.score::text", "k.score desc, k.person_id desc"
			first = "k.model_id = " + theModel + " and k.score > 0 and "
			if q.After != (Key{}) {
				where += " and (k.score, k.person_id) < (" + c.arg(q.After.Sort) + "::text::float8, " + c.arg(q.After.ID) + ")"
			}
		case ByName:
			last, first := `lower(p.last_name collate "C")`, `lower(p.first_name collate "C")`
			key1, key2, order = last, first, last+", "+first+", p.id"
			if q.After != (Key{}) {
				where += " and (" + last + ", " + first + ", p.id) > (" + c.arg(q.After.Sort) + ", " + c.arg(q.After.Sort2) + ", " + c.arg(q.After.ID) + ")"
			}
		case ByEmail:
			key1, order, first = "p.email", "p.email, p.id", "p.email <> '' and "
			if q.After != (Key{}) {
				where += " and (p.email, p.id) > (" + c.arg(q.After.Sort) + ", " + c.arg(q.After.ID) + ")"
			}
		case ByCompany:
			from, key1, key2, order = " from company k join person p on p.company_id = k.id", "lower(k.name)", "k.id::text", "lower(k.name), k.id, p.id"
			if q.After != (Key{}) {
				name, company, last := c.arg(q.After.Sort), c.arg(q.After.Sort2)+"::text::bigint", c.arg(q.After.ID)
				where += fmt.Sprintf(" and (lower(k.name), k.id) >= (%[1]s, %[2]s) and ((lower(k.name), k.id) > (%[1]s, %[2]s) or p.id > %[3]s)", name, company, last)
			}
		case Newest:
			order = "p.id desc"
			if q.After != (Key{}) {
				where += " and p.id < " + c.arg(q.After.ID)
			}
		default:
			return nil, Key{}, fmt.Errorf("people cannot be listed by %q", q.Order)
		}
		rows, err := all[struct {
			Person
			Key1, Key2 string
		}](ctx, db, pageOf(from, key1, key2, first+where, order, c.arg(q.Limit)), c.args...)
		if err != nil {
			return nil, Key{}, fmt.Errorf("listing people: %w", err)
		}
		for _, r := range rows {
			list = append(list, r.Person)
			key = Key{0, r.Key1, r.Key2, r.ID}
		}
		if len(list) == q.Limit || q.Order == ByName || q.Order == Newest {
			return list, key, nil
		}
	}
	c := compiler{now: q.Now, few: true, cat: cat}
	where := c.people(q) + map[Order]string{
		ByScore:   " and not exists (select from standing k where k.person_id = p.id and k.model_id = " + theModel + " and k.score > 0)",
		ByEmail:   " and p.email = ''",
		ByCompany: " and p.company_id is null",
	}[q.Order]
	if q.After.Part == 1 {
		where += " and p.id < " + c.arg(q.After.ID)
	}
	rest, err := all[Person](ctx, db, pageOf(" from person p", "", "", where, "p.id desc", c.arg(q.Limit-len(list))), c.args...)
	if err != nil {
		return nil, Key{}, fmt.Errorf("listing people: %w", err)
	}
	for _, p := range rest {
		list = append(list, p)
		key = Key{Part: 1, ID: p.ID}
	}
	return list, key, nil
}

// pageOf finds the rows of a page first and reads what is shown of them after,
// so that what a page does not show is not read.
func pageOf(from, key1, key2, where, order, limit string) string {
	keys, names := "", ""
	if key1 != "" {
		keys, names = ", "+key1+" as key1, "+key2+" as key2", ", page.key1, page.key2"
	}
	return `with page as materialized (select p.id, row_number() over (order by ` + order + `) as place` + keys + from + ` left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id
		where ` + where + ` order by ` + order + ` limit ` + limit + `)
		` + personColumns + `, coalesce(s.score, 0) as score, (select count(*) from enrolment e where e.person_id = p.id and e.ended_at is null) as sequences` + names + `
		from page join person p on p.id = page.id left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id
		left join standing s on s.person_id = p.id and s.model_id = ` + theModel + ` order by page.place`
}

// CountPeople counts whom a query would list, all pages together.
func (s *Store) CountPeople(ctx context.Context, q PeopleQuery) (int64, error) {
	cat, err := catalogueFor(ctx, s.db, &q.Rule)
	if err != nil {
		return 0, err
	}
	c := compiler{now: q.Now, cat: cat}
	where := c.people(q)
	n := int64(0)
	err = s.InTx(ctx, func(tx Tx) error {
		if err := wide(ctx, tx); err != nil {
			return err
		}
		if _, err := exec(ctx, tx, "set local statement_timeout = '20s'"); err != nil {
			return err
		}
		n, err = one[int64](ctx, tx, "select count(*)"+peopleTables+"where "+where, c.args...)
		return err
	})
	return n, err
}

// wide gives the transaction room to hold sets of a million people in memory.
func wide(ctx context.Context, tx Tx) error {
	_, err := exec(ctx, tx, "select set_config('work_mem', '256MB', true), set_config('plan_cache_mode', 'force_custom_plan', true)")
	return err
}

// AllIDs lists the ids of everybody whom a query is about, in order.
func AllIDs(ctx context.Context, tx Tx, q PeopleQuery) ([]int64, error) {
	cat, err := catalogueFor(ctx, tx, &q.Rule)
	if err != nil {
		return nil, err
	}
	if err := wide(ctx, tx); err != nil {
		return nil, err
	}
	c := compiler{now: q.Now, cat: cat}
	where := c.people(q)
	return all[int64](ctx, tx, "select p.id"+peopleTables+"where "+where+" order by p.id", c.args...)
}
