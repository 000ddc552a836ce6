package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"ombak/internal/core/calendar"
	"ombak/internal/core/pipeline"
)

// DealImport is a file of deals: what its rows came to, and what became of them.
type DealImport struct {
	ID     int64
	By     int64 `db:"user_id"`
	User   string
	At     time.Time
	File   string
	State  string // checked, done or undone
	Counts JSON[DealImportCounts]
	Done   *time.Time `db:"done_at"`
	Undone *time.Time `db:"undone_at"`

	Rows     JSON[[]DealRow]
	Problems JSON[[]DealProblem]
	Opened   JSON[[]int64]    // deals it opened
	Turns    JSON[[]DealTurn] // of the deals it changed
	Kept     bool             // what is needed to take it back is still there
}

// DealImportCounts is how many rows of a file came to what.
type DealImportCounts struct {
	Head     []string `json:"head"`   // the file’s
	Unread   []string `json:"unread"` // columns from which nothing is read
	Passes   bool     `json:"passes"` // it says when deals came into stages
	Rows     int      `json:"rows"`
	Opens    int      `json:"opens"`
	Closed   int      `json:"closed"` // of those it opens, won or lost already
	Changes  int      `json:"changes"`
	Same     int      `json:"same"` // deals that are so already
	Wrong    int      `json:"wrong"`
	Opened   int      `json:"opened"`  // were, in the end
	Changed  int      `json:"changed"` // were
	Since    int      `json:"since"`   // were not, because they had changed since the file was checked
	Back     int      `json:"back"`    // were taken back
	NotTaken int      `json:"notTaken"`
}

// DealRow is a row of a file of deals that can be taken.
type DealRow struct {
	pipeline.Entry
	Who   int64 `json:"who,omitempty"`   // the person, of a deal that is opened
	Owner int64 `json:"owner,omitempty"` // the rep; NobodysDeals: none; 0: the file does not say
}

// DealProblem is a row of a file of deals that cannot be taken.
type DealProblem struct {
	Line  int      `json:"line"`
	Cells []string `json:"cells"`
	Why   string   `json:"why"`
}

// DealTurn is how a deal was, and what it became.
type DealTurn struct {
	Was    DealFacts `json:"was"`
	Became DealFacts `json:"became"`
}

// DealFacts is what a file can change of a deal.
type DealFacts struct {
	Person   int64        `json:"person" db:"person_id"`
	ID       int64        `json:"id"`
	Rep      int64        `json:"rep" db:"rep_id"` // 0: nobody
	Stage    int64        `json:"stage" db:"stage_id"`
	Name     string       `json:"name"`
	Amount   int64        `json:"amount"`
	Currency string       `json:"currency"`
	Expected pipeline.Day `json:"expected" db:"-"`
	Next     string       `json:"next" db:"next_step"`
	NextOn   pipeline.Day `json:"nextOn" db:"-"`
	Reason   string       `json:"reason"`
}

const dealImportFields = `
	select i.id, i.user_id, coalesce(u.name, '') as "user", i.at, i.file, i.state, i.counts, i.done_at, i.undone_at,
		i.opened <> '{}' or i.turns not in ('[]', 'null') as kept
	from deal_import i
	left join app_user u on u.id = i.user_id `

// DealImports lists the last files of deals, the newest first, without their rows.
func (db Queries) DealImports(ctx context.Context, n int) ([]DealImport, error) {
	return all[DealImport](ctx, db, dealImportFields+"order by i.id desc limit $1", n)
}

// DealImport reads one, with its rows.
func (db Queries) DealImport(ctx context.Context, id int64) (DealImport, error) {
	i, err := one[DealImport](ctx, db, dealImportFields+"where i.id = $1", id)
	if err != nil {
		return i, err
	}
	more, err := one[struct {
		Rows     JSON[[]DealRow]
		Problems JSON[[]DealProblem]
		Opened   JSON[[]int64]
		Turns    JSON[[]DealTurn]
	}](ctx, db, "select rows, problems, to_jsonb(opened) as opened, turns from deal_import where id = $1", id)
	i.Rows, i.Problems, i.Opened, i.Turns = more.Rows, more.Problems, more.Opened, more.Turns
	return i, err
}

// LockDealImport reads one with its rows, and locks it.
func (tx Tx) LockDealImport(ctx context.Context, id int64) (DealImport, error) {
	if _, err := one[int64](ctx, tx, "select id from deal_import where id = $1 for update", id); err != nil {
		return DealImport{}, err
	}
	return tx.DealImport(ctx, id)
}

// AddDealImport keeps a file of deals that was checked.
func (db Queries) AddDealImport(ctx context.Context, i DealImport) (int64, error) {
	return one[int64](ctx, db, `
		insert into deal_import (user_id, at, file, counts, rows, problems)
		values ($1, $2, $3, $4, $5, $6)
		returning id`, i.By, i.At, i.File, i.Counts, i.Rows, i.Problems)
}

// KeepDealImport keeps what became of a file of deals.
func (tx Tx) KeepDealImport(ctx context.Context, i DealImport) error {
	_, err := exec(ctx, tx, `
		update deal_import
		set state = $2, counts = $3, rows = $4, opened = coalesce($5::bigint[], '{}'), turns = $6,
			done_at = $7, undone_at = $8
		where id = $1`, i.ID, i.State, i.Counts, i.Rows, i.Opened.V, i.Turns, i.Done, i.Undone)
	return err
}

// RemoveDealImport removes a file of deals of which nothing was taken.
func (db Queries) RemoveDealImport(ctx context.Context, id int64) error {
	n, err := exec(ctx, db, "delete from deal_import where id = $1 and state = 'checked'", id)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	return err
}

// ForgetDealImports drops what files of deals from before an instant named, and those that were never taken.
func (db Queries) ForgetDealImports(ctx context.Context, before time.Time) error {
	if _, err := exec(ctx, db, "delete from deal_import where state = 'checked' and at < $1", before); err != nil {
		return err
	}
	_, err := exec(ctx, db, `
		update deal_import
		set rows = '[]', problems = '[]', opened = '{}', turns = '[]'
		where at < $1 and (rows <> '[]' or problems <> '[]' or opened <> '{}' or turns <> '[]')`, before)
	return err
}

// PeopleAt answers who has each of some addresses, in lower case; an address that nobody has is not there.
func (db Queries) PeopleAt(ctx context.Context, addresses []string) (map[string]int64, error) {
	rows, err := all[struct {
		Address string
		Person  int64
	}](ctx, db, `
		select a.address, coalesce(
			(select min(p.id) from person p where p.email = a.address and p.erased_at is null),
			(select min(c.person_id)
				from contact_point c
				join person p on p.id = c.person_id
				where c.kind = 'email' and c.value = a.address and p.erased_at is null), 0) as person
		from unnest($1::text[]) as a(address)`, addresses)
	out := map[string]int64{}
	for _, r := range rows {
		if r.Person != 0 {
			out[r.Address] = r.Person
		}
	}
	return out, err
}

// OpenDealsOf answers the open deal that each of some people have.
func (db Queries) OpenDealsOf(ctx context.Context, people []int64) (map[int64]Deal, error) {
	rows, err := all[Deal](ctx, db, dealFields+"where d.closed_at is null and d.person_id = any ($1)", people)
	out := map[int64]Deal{}
	for _, d := range rows {
		out[d.Person] = d
	}
	return out, err
}

const factsFields = `
	select id, person_id, coalesce(rep_id, 0) as rep_id, stage_id, name, amount, currency, expected_on,
		next_step, next_on, reason
	from deal
	where id = any ($1)
	order by id`

// DealsAsFacts reads what a file can change of some deals.
func (db Queries) DealsAsFacts(ctx context.Context, deals []int64) ([]DealFacts, error) {
	return readFacts(ctx, db, factsFields, deals)
}

// LockFacts is DealsAsFacts, and locks the deals.
func (tx Tx) LockFacts(ctx context.Context, deals []int64) ([]DealFacts, error) {
	return readFacts(ctx, tx.Queries, factsFields+" for update", deals)
}

func readFacts(ctx context.Context, db Queries, query string, deals []int64) ([]DealFacts, error) {
	rows, err := all[struct {
		DealFacts
		ExpectedOn *time.Time `db:"expected_on"`
		NextDay    *time.Time `db:"next_on"`
	}](ctx, db, query, deals)
	out := make([]DealFacts, len(rows))
	for i, r := range rows {
		out[i] = r.DealFacts
		out[i].Expected, out[i].NextOn = dayFrom(r.ExpectedOn), dayFrom(r.NextDay)
	}
	return out, err
}

// dayFrom is a column of a date.
func dayFrom(t *time.Time) (d pipeline.Day) {
	if t != nil {
		d.Date = calendar.DateOf(*t, time.UTC)
	}
	return d
}

// dateOf is a day as a parameter.
func dateOf(d pipeline.Day) pgtype.Date {
	return pgtype.Date{Time: time.Date(d.Year, d.Month, d.Date.Day, 0, 0, 0, 0, time.UTC), Valid: !d.IsZero()}
}

// DealToOpen is a deal that a file opens, as it is kept.
type DealToOpen struct {
	DealRow
	Opened, Moved time.Time
	Closed        *time.Time
	Came          []DealCame
}

// DealCame is a move of a deal.
type DealCame struct {
	Stage int64
	At    time.Time
}

// OpenMany opens deals at the end of their stages: none about whom there is an open one, or who is not there any more,
// and none in a stage that is gone or is not any more what the row thinks. It answers those it opened.
func (tx Tx) OpenMany(ctx context.Context, rows []DealToOpen, user int64) ([]int64, error) {
	ids, err := all[int64](ctx, tx,
		"select nextval(pg_get_serial_sequence('deal', 'id')) from generate_series(1, $1::int) order by 1", len(rows))
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	var (
		who, rep, stage, amount                []int64
		name, currency, next, reason, campaign []string
		opened, moved                          []time.Time
		closed                                 []*time.Time
		expected, nextOn                       []pgtype.Date
		moveOf, moveTo                         []int64
		moveAt                                 []time.Time
	)
	for i, r := range rows {
		who, rep, stage = append(who, r.Who), append(rep, max(r.Owner, 0)), append(stage, r.Stage)
		money := int64(0)
		if r.Amount != nil {
			money = *r.Amount
		}
		amount, currency = append(amount, money), append(currency, r.Currency)
		name, next, reason = append(name, r.Name), append(next, r.Next), append(reason, r.Reason)
		campaign = append(campaign, r.Campaign)
		opened, moved, closed = append(opened, r.Opened), append(moved, r.Moved), append(closed, r.Closed)
		expected, nextOn = append(expected, dateOf(r.Expected)), append(nextOn, dateOf(r.NextOn))
		for _, c := range r.Came {
			moveOf, moveTo, moveAt = append(moveOf, ids[i]), append(moveTo, c.Stage), append(moveAt, c.At)
		}
	}
	made, err := all[int64](ctx, tx, `
		with made as (
			insert into deal (id, person_id, company_id, rep_id, stage_id, name, position, opened_at, moved_at,
				closed_at, amount, currency, expected_on, next_step, next_on, reason, campaign, leaving)
			overriding system value
			select r.id, p.id, p.company_id, nullif(r.rep, 0), st.id,
				coalesce(nullif(r.name, ''), c.name, nullif(btrim(p.first_name || ' ' || p.last_name), ''), p.email),
				coalesce((select max(position) from deal where stage_id = st.id), 0) + r.n, r.opened, r.moved, r.closed,
				r.amount, r.currency, r.expected, r.next, r.next_on, r.reason,
				coalesce(nullif(r.campaign, ''), p.campaign), r.closed is null
			from unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::bigint[], $5::text[], $6::bigint[], $7::text[],
				$8::timestamptz[], $9::timestamptz[], $10::timestamptz[], $11::date[], $12::text[], $13::date[],
				$14::text[], $15::text[]) with ordinality as r(id, who, rep, stage, name, amount, currency, opened,
				moved, closed, expected, next, next_on, reason, campaign, n)
			join person p on p.id = r.who and p.erased_at is null
			join stage st on st.id = r.stage and (st.won or st.lost) = (r.closed is not null)
			left join company c on c.id = p.company_id
			order by r.n
			on conflict (person_id) where closed_at is null do nothing
			returning id)
		select id from made order by id`, ids, who, rep, stage, name, amount, currency, opened, moved, closed, expected,
		next, nextOn, reason, campaign)
	if err != nil {
		return nil, err
	}
	_, err = exec(ctx, tx, `
		insert into deal_move (deal_id, stage_id, at, user_id)
		select m.deal, m.stage, m.at, $5
		from unnest($1::bigint[], $2::bigint[], $3::timestamptz[]) with ordinality as m(deal, stage, at, n)
		where m.deal = any ($4)
		order by m.n`, moveOf, moveTo, moveAt, made, user)
	return made, err
}

// SetFacts has deals be as they should be, save for their stages and reps, and keeps what of each was changed.
func (tx Tx) SetFacts(ctx context.Context, turns []DealTurn, user int64, at time.Time) error {
	var (
		ids, amount                  []int64
		name, currency, next, reason []string
		expected, nextOn             []pgtype.Date
		of                           []int64
		what, was, became            []string
	)
	for _, t := range turns {
		a, b := t.Was, t.Became
		ids, name, amount = append(ids, b.ID), append(name, b.Name), append(amount, b.Amount)
		currency, next, reason = append(currency, b.Currency), append(next, b.Next), append(reason, b.Reason)
		expected, nextOn = append(expected, dateOf(b.Expected)), append(nextOn, dateOf(b.NextOn))
		day := func(d pipeline.Day) string {
			if d.IsZero() {
				return ""
			}
			return d.String()
		}
		for _, c := range []struct{ what, was, became string }{{"name", a.Name, b.Name},
			{"worth", pipeline.Money(a.Amount, a.Currency), pipeline.Money(b.Amount, b.Currency)},
			{"expected", day(a.Expected), day(b.Expected)}, {"next step", a.Next, b.Next},
			{"next on", day(a.NextOn), day(b.NextOn)}, {"reason", a.Reason, b.Reason}} {
			if c.was != c.became {
				of, what = append(of, b.ID), append(what, c.what)
				was, became = append(was, c.was), append(became, c.became)
			}
		}
	}
	if _, err := exec(ctx, tx, `
		update deal d
		set name = r.name, amount = r.amount, currency = r.currency, expected_on = r.expected, next_step = r.next,
			next_on = r.next_on, reason = r.reason
		from unnest($1::bigint[], $2::text[], $3::bigint[], $4::text[], $5::date[], $6::text[], $7::date[],
			$8::text[]) as r(id, name, amount, currency, expected, next, next_on, reason)
		where d.id = r.id`, ids, name, amount, currency, expected, next, nextOn, reason); err != nil {
		return err
	}
	_, err := exec(ctx, tx, `
		insert into deal_change (deal_id, at, user_id, what, was, became)
		select c.deal, $5, $6, c.what, c.was, c.became
		from unnest($1::bigint[], $2::text[], $3::text[], $4::text[]) with ordinality as c(deal, what, was, became, n)
		order by c.n`, of, what, was, became, at, user)
	return err
}

// RemoveUntouched removes those of some deals that nobody has moved or changed since an instant, that nobody takes part
// in and that have no file; it answers how many.
func (tx Tx) RemoveUntouched(ctx context.Context, deals []int64, since time.Time) (int, error) {
	n, err := exec(ctx, tx, `
		delete from deal d
		where d.id = any ($1)
			and not exists (select from deal_move m where m.deal_id = d.id and m.at > $2)
			and not exists (select from deal_change c where c.deal_id = d.id and c.at > $2)
			and not exists (select from deal_part x where x.deal_id = d.id)
			and not exists (select from deal_file f where f.deal_id = d.id)
			and not exists (select from accepted a where a.deal_id = d.id)`, deals, since)
	return int(n), err
}

// DealPassages answers the instant at which each of some deals first came into each open stage.
func (db Queries) DealPassages(ctx context.Context, deals []int64) (map[int64]map[int64]time.Time, error) {
	rows, err := all[struct {
		Deal  int64 `db:"deal_id"`
		Stage int64 `db:"stage_id"`
		At    time.Time
	}](ctx, db, `
		select m.deal_id, m.stage_id, min(m.at) as at
		from deal_move m
		join stage st on st.id = m.stage_id and not st.won and not st.lost
		where m.deal_id = any ($1)
		group by m.deal_id, m.stage_id`, deals)
	out := map[int64]map[int64]time.Time{}
	for _, r := range rows {
		if out[r.Deal] == nil {
			out[r.Deal] = map[int64]time.Time{}
		}
		out[r.Deal][r.Stage] = r.At
	}
	return out, err
}
