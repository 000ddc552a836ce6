package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
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
	Rule    rule.Rule
	Text    string  // words of names, addresses and companies
	Only    []int64 // nil: everybody
	Batch   int64   // whom an import made; 0: everybody
	Company int64   // who are of it; 0: everybody
	Behind  Behind  // a figure; zero: everybody
	Order   Order
	After   Key // where the page before ended; zero: the first page
	Limit   int
	Now     time.Time
	AtOnce  bool // nobody may be kept waiting: a page that takes longer is not read, and ErrLonger says so

	search search // of Text; whoever reads a page puts it into its order
}

// ErrLonger says that a page of people is not found at once.
var ErrLonger = errors.New("it takes longer to find them")

// described reports whether more is asked than words: whom it is true of may stand anywhere in an order, or be nobody.
func (q *PeopleQuery) described() bool {
	return q.Text == "" && q.Only == nil && q.Company == 0 && (q.Rule.Asks() || q.Behind != Behind{} || q.Batch != 0)
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

// anybody is the condition of a list of all people.
const anybody = "true and p.erased_at is null"

// people is the condition of a list of people.
func (c *compiler) people(q PeopleQuery) string {
	where := c.rule(&q.Rule) + " and p.erased_at is null"
	where += c.sought(q.search, "p.id")
	if q.Only != nil {
		where += " and p.id = any (" + c.arg(q.Only) + ")"
	}
	where += c.behind(q.Behind)
	if q.Batch != 0 {
		where += " and p.batch_id = " + c.arg(q.Batch)
	}
	if q.Company != 0 {
		where += " and p.company_id = " + c.arg(q.Company)
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
		if _, err := exec(ctx, tx,
			"select set_config('plan_cache_mode', 'force_custom_plan', true), set_config('statement_timeout', '20s', "+
				"true)"); err != nil {
			return err
		}
		list, last, err = people(ctx, tx.Queries, q)
		return err
	})
	return list, last, err
}

func people(ctx context.Context, db Queries, q PeopleQuery) ([]Person, Key, error) {
	look, err := seek(ctx, db, q)
	if err != nil {
		return nil, Key{}, fmt.Errorf("looking for %q: %w", q.Text, err)
	}
	cat, err := catalogueFor(ctx, db, &q.Rule)
	if err != nil {
		return nil, Key{}, err
	}
	if q.described() {
		return describedPeople(ctx, db, q, cat)
	}
	list, key, err := peopleIn(ctx, db, q, look, cat)
	if err == nil && look.walk > 0 && len(list) < q.Limit {
		// They are many and the order does not come to them: the index finds them after all.
		look.walk = 0
		list, key, err = peopleIn(ctx, db, q, look, cat)
	}
	if err != nil {
		return nil, Key{}, fmt.Errorf("listing people: %w", err)
	}
	return list, key, nil
}

// How many of the first of an order are asked whether a description is true of them, before all are looked for of whom
// it is: so many at once, as many of them as take about as long where each one's signals are counted; and so many where
// somebody waits anyway, and to look for all is no work of a moment.
var askAtOnce, askSignalsAtOnce, askAtMost = 2000, 500, 10000

// momentCost is, in the planner's units, what is done at once.
var momentCost = 4000.0

// describedPeople reads a page of those of whom a description is true. Each of the first of the order is asked; where
// that does not fill the page they are few, or stand elsewhere in the order, and all of them are looked for.
func describedPeople(ctx context.Context, db querier, q PeopleQuery, cat *rule.Catalogue) ([]Person, Key, error) {
	first := askAtMost
	if q.AtOnce {
		if first = askAtOnce; q.Rule.CountsSignals() {
			first = askSignalsAtOnce
		}
		list, key, err := peopleIn(ctx, db, q, search{walk: first}, cat)
		if err != nil || len(list) >= q.Limit {
			return list, key, err
		}
	}
	c := compiler{now: q.Now, cat: cat}
	t, err := c.describedTurn(q)
	if err != nil {
		return nil, Key{}, err
	}
	page := t.page("true", c.arg(q.Limit))
	cost, err := costOf(ctx, db, page, c.args)
	if err != nil {
		return nil, Key{}, err
	}
	switch {
	case cost > momentCost && q.AtOnce:
		return nil, Key{}, ErrLonger
	case cost > momentCost:
		list, key, err := peopleIn(ctx, db, q, search{walk: first}, cat)
		if err != nil || len(list) >= q.Limit {
			return list, key, err
		}
	}
	return c.read(ctx, db, page)
}

// peopleIn reads a page, or what of it the first rows of the order have where
// those who are looked for are many.
func peopleIn(ctx context.Context, db querier, q PeopleQuery, look search, cat *rule.Catalogue) ([]Person, Key, error) {
	var list []Person
	var key Key
	parts := 2
	if q.Order == ByName || q.Order == Newest {
		parts = 1 // it knows everybody
	}
	byIndex := len(look.words) > 0 && look.walk == 0
	if byIndex {
		parts = q.After.Part + 1 // it finds both in one
	}
	for part := q.After.Part; part < parts && len(list) < q.Limit; part++ {
		c := compiler{now: q.Now, few: true, cat: cat}
		where := c.people(q)
		var t turn
		var err error
		if byIndex {
			t, err = c.foundTurn(q, look, where)
		} else if t, err = c.turn(q, part); err == nil && look.walk > 0 {
			t = c.walked(t, look)
			// Each one is asked in turn: the planner may not look for all of whom it is true and keep those who are
			// among them.
			where = "case when " + where + " then true end"
		}
		if err != nil {
			return nil, Key{}, err
		}
		some, last, err := c.read(ctx, db, t.page(where, c.arg(q.Limit-len(list))))
		if err != nil {
			return nil, Key{}, err
		}
		if len(some) > 0 {
			list, key = append(list, some...), last
		}
		if look.walk > 0 && len(list) < q.Limit {
			break // what follows may be further down
		}
	}
	return list, key, nil
}

// read reads a page of a way, and the key of its last row.
func (c *compiler) read(ctx context.Context, db querier, page string) (list []Person, key Key, err error) {
	rows, err := all[struct {
		Person
		Part       int
		Key1, Key2 string
	}](ctx, db, page, planned(c.args)...)
	for _, r := range rows {
		list, key = append(list, r.Person), Key{r.Part, r.Key1, r.Key2, r.ID}
	}
	return list, key, err
}

// turn is the way through the people in one order, from where a page begins.
type turn struct {
	from, where string   // whom the order knows; where begins with nothing
	part        string   // of a row's Key
	key1, key2  string   // and what else it is made of
	by          []string // what it is sorted by
	desc        bool
	ids, id     string // where their ids alone are to be had; "": from, and p.id
}

// order is the order by which rows come.
func (t turn) order() string {
	if t.desc {
		return strings.Join(t.by, " desc, ") + " desc"
	}
	return strings.Join(t.by, ", ")
}

// turn is the way in an order: at first through those whom it knows, then
// through the rest.
func (c *compiler) turn(q PeopleQuery, part int) (turn, error) {
	if part == 1 {
		t := turn{from: "person p", part: "1", key1: "''", key2: "''", by: []string{"p.id"}, desc: true}
		t.where = map[Order]string{
			ByScore: "not exists (select from standing k where k.person_id = p.id and k.model_id = " + theModel +
				" and k.score > 0)",
			ByEmail:   "p.email = ''",
			ByCompany: "p.company_id is null",
		}[q.Order]
		if q.After.Part == 1 {
			t.where += " and p.id < " + c.arg(q.After.ID)
		}
		return t, nil
	}
	next := q.After != (Key{})
	t := turn{from: "person p", part: "0", key1: "''", key2: "''", where: "true"}
	switch q.Order {
	case ByScore:
		t.ids, t.id = "standing k", "k.person_id"
		t.from = t.ids + " join person p on p.id = k.person_id"
		t.key1, t.by, t.desc = "k.score::text", []string{"k.score", "k.person_id"}, true
		t.where = "k.model_id = " + theModel + " and k.score > 0"
		if next {
			t.where += " and (k.score, k.person_id) < (" + c.arg(q.After.Sort) + "::text::float8, " +
				c.arg(q.After.ID) + ")"
		}
	case ByName:
		last, first := `lower(p.last_name collate "C")`, `lower(p.first_name collate "C")`
		t.key1, t.key2, t.by = last, first, []string{last, first, "p.id"}
		if next {
			t.where += " and (" + last + ", " + first + ", p.id) > (" +
				c.arg(q.After.Sort) + ", " + c.arg(q.After.Sort2) + ", " + c.arg(q.After.ID) + ")"
		}
	case ByEmail:
		t.key1, t.by, t.where = "p.email", []string{"p.email", "p.id"}, "p.email <> ''"
		if next {
			t.where += " and (p.email, p.id) > (" + c.arg(q.After.Sort) + ", " + c.arg(q.After.ID) + ")"
		}
	case ByCompany:
		t.from = "company k join person p on p.company_id = k.id"
		t.key1, t.key2, t.by = "lower(k.name)", "k.id::text", []string{"lower(k.name)", "k.id", "p.id"}
		if next {
			name, company, last := c.arg(q.After.Sort), c.arg(q.After.Sort2)+"::text::bigint", c.arg(q.After.ID)
			t.where += fmt.Sprintf(" and (lower(k.name), k.id) >= (%[1]s, %[2]s) and ((lower(k.name), k.id) > "+
				"(%[1]s, %[2]s) or p.id > %[3]s)", name, company, last)
		}
	case Newest:
		t.by, t.desc = []string{"p.id"}, true
		if next {
			t.where += " and p.id < " + c.arg(q.After.ID)
		}
	default:
		return turn{}, fmt.Errorf("people cannot be listed by %q", q.Order)
	}
	return t, nil
}

// foundTurn is the way of those alone who are looked for, as the index of
// trigrams finds them. Where nothing else is asked of them, no more are put in
// order than a page shows.
func (c *compiler) foundTurn(q PeopleQuery, look search, where string) (turn, error) {
	end := "offset 0"
	if where == anybody {
		end = "limit " + c.arg(q.Limit)
	}
	return c.keptTurn(q, "person_search x where "+c.hasByIndex(look), end)
}

// describedTurn is the way of those alone of whom a description is true: all of them are looked for first.
func (c *compiler) describedTurn(q PeopleQuery) (turn, error) {
	return c.keptTurn(q, "person_search x join person p on p.id = x.person_id "+
		"left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id where "+c.people(q),
		"limit "+c.arg(q.Limit))
}

// keptTurn is a way through some rows of person_search x, which keeps of each what every order needs.
func (c *compiler) keptTurn(q PeopleQuery, from, end string) (turn, error) {
	part, key1, key2, tie := "0", "''::text", "''::text", "x.person_id"
	// types of a Key's parts, and those of the rest
	after1, after2, rest1, rest2 := "::text", "::text", "''::text", "''::text"
	t := turn{part: "w.part", key1: "w.key1", key2: "w.key2", where: "true",
		by: []string{"w.part", "w.key1", "w.key2", "w.tie"}}
	switch q.Order {
	case ByScore:
		part, key1, tie = "(x.score <= 0)::int", "-greatest(x.score, 0)", "-x.person_id"
		t.key1, after1, rest1 = "(-w.key1)::text", "::text::float8 * -1", "0::float8"
	case ByName:
		key1, key2 = "x.last_name", "x.first_name"
	case ByEmail:
		part, key1 = "(x.email = '')::int", "x.email"
	case ByCompany:
		part, key1, key2 = "(x.company_id is null)::int", "x.company", "coalesce(x.company_id, 0)"
		t.key2, after2, rest2 = "w.key2::text", "::text::bigint", "0::bigint"
	case Newest:
		tie = "-x.person_id"
	default:
		return turn{}, fmt.Errorf("people cannot be listed by %q", q.Order)
	}
	if tie != "-x.person_id" && part != "0" {
		tie = "case " + part + " when 1 then -x.person_id else x.person_id end" // the rest, the newest first
	}
	found := "select x.person_id as id, " + part + " as part, " + key1 + " as key1, " + key2 + " as key2, " + tie +
		" as tie from " + from
	if k := q.After; k != (Key{}) {
		n := k.ID
		if k.Part == 1 || strings.HasPrefix(tie, "-") {
			n = -n
		}
		one, two := rest1, rest2
		if k.Part == 0 {
			one, two = c.arg(k.Sort)+after1, c.arg(k.Sort2)+after2
		}
		found += fmt.Sprintf(" and (%s, %s, %s, %s) > (%s::int, %s, %s, %s::bigint)", part, key1, key2, tie,
			c.arg(k.Part), one, two, c.arg(n))
	}
	t.from = "(" + found + " order by 2, 3, 4, 5 " + end + ") w join person p on p.id = w.id"
	return t, nil
}

// walked is the beginning of a way, of those alone who are looked for: what it is
// sorted by comes along, so that nobody is fetched who is not shown.
func (c *compiler) walked(t turn, q search) turn {
	from, id := t.from, "p.id"
	if t.ids != "" {
		from, id = t.ids, t.id
	}
	cols := []string{id}
	col := func(expr string) string {
		if !slices.Contains(cols, expr) { // twice the same, and it would be sorted again
			cols = append(cols, expr)
		}
		return "w.c" + strconv.Itoa(slices.Index(cols, expr))
	}
	w := turn{part: t.part, key1: col(t.key1), key2: col(t.key2), desc: t.desc}
	for _, by := range t.by {
		w.by = append(w.by, col(by))
	}
	for i := range cols {
		cols[i] += " as c" + strconv.Itoa(i)
	}
	w.where = "true"
	if len(q.words) > 0 {
		w.where = c.soughtInOrder(q, "w.c0")
	}
	w.from = "(select " + strings.Join(cols, ", ") + " from " + from + " where " + t.where +
		" order by " + t.order() + " limit " + c.arg(q.walk) + ") w join person p on p.id = w.c0"
	return w
}

// page finds the rows of a page first and reads what is shown of them after, so
// that what a page does not show is not read.
func (t turn) page(where, limit string) string {
	return `with page as materialized (select p.id, row_number() over (order by ` + t.order() + `) as place,
			` + t.part + ` as part, ` + t.key1 + ` as key1, ` + t.key2 + ` as key2
		from ` + t.from + ` left join company c on c.id = p.company_id left join app_user o on o.id = p.owner_id
		where ` + t.where + ` and ` + where + ` order by ` + t.order() + ` limit ` + limit + `)
		` + personColumns + `, coalesce(s.score, 0) as score, page.part, page.key1, page.key2,
			(select count(*) from enrolment e where e.person_id = p.id and e.ended_at is null) as sequences
		from page join person p on p.id = page.id left join company c on c.id = p.company_id
		left join app_user o on o.id = p.owner_id
		left join standing s on s.person_id = p.id and s.model_id = ` + theModel + ` order by page.place`
}

// CountPeople counts whom a query would list, all pages together.
func (s *Store) CountPeople(ctx context.Context, q PeopleQuery) (int64, error) {
	cat, err := catalogueFor(ctx, s.db, &q.Rule)
	if err == nil {
		q.search, err = s.searchFor(ctx, q.Text)
	}
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
		n, err = one[int64](ctx, tx, "select count(*)"+peopleTables+"where "+where, planned(c.args)...)
		return err
	})
	return n, err
}

// ReckonPeople reckons how many people a query is about, by what the database knows of all: at once, and not exactly.
func (s *Store) ReckonPeople(ctx context.Context, q PeopleQuery) (int64, error) {
	cat, err := catalogueFor(ctx, s.db, &q.Rule)
	if err == nil {
		q.search, err = s.searchFor(ctx, q.Text)
	}
	if err != nil {
		return 0, err
	}
	c := compiler{now: q.Now, cat: cat}
	where := c.people(q)
	n, err := estimate(ctx, s.db, "select from (select"+peopleTables+"where "+where+" offset 0) x", c.args...)
	if err != nil || len(n) == 0 {
		return 0, err
	}
	most, err := s.Everybody(ctx)
	return min(int64(n[0]), most), err
}

// Anybody reports whether a rule holds for somebody.
func (s *Store) Anybody(ctx context.Context, r rule.Rule, now time.Time) (yes bool, err error) {
	cat, err := catalogueFor(ctx, s.db, &r)
	if err != nil {
		return false, err
	}
	c := compiler{now: now, cat: cat}
	where := c.people(PeopleQuery{Rule: r, Now: now})
	err = s.InTx(ctx, func(tx Tx) error {
		if _, err := exec(ctx, tx, "set local statement_timeout = '20s'"); err != nil {
			return err
		}
		yes, err = one[bool](ctx, tx, "select exists (select"+peopleTables+"where "+where+")", planned(c.args)...)
		return err
	})
	return yes, err
}

// wide gives the transaction room to hold sets of a million people in memory.
func wide(ctx context.Context, tx Tx) error {
	_, err := exec(ctx, tx,
		"select set_config('work_mem', '256MB', true), set_config('plan_cache_mode', 'force_custom_plan', true)")
	return err
}

// AllIDs lists the ids of everybody whom a query is about, in order.
func (tx Tx) AllIDs(ctx context.Context, q PeopleQuery) ([]int64, error) {
	cat, err := catalogueFor(ctx, tx, &q.Rule)
	if err == nil {
		q.search, err = tx.searchFor(ctx, q.Text)
	}
	if err != nil {
		return nil, err
	}
	if err := wide(ctx, tx); err != nil {
		return nil, err
	}
	c := compiler{now: q.Now, cat: cat}
	where := c.people(q)
	return all[int64](ctx, tx, "select p.id"+peopleTables+"where "+where+" order by p.id", planned(c.args)...)
}
