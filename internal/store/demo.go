package store

import (
	"context"
	"time"

	"ombak/internal/core/handoff"
)

// What the demo alone keeps: a past that nobody lived through.

// DemoRecords gives people their owners (0: none) and companies the industry
// that their name tells.
func (tx Tx) DemoRecords(ctx context.Context, people, owners []int64) error {
	_, err := exec(ctx, tx,
		"update person p set owner_id = nullif(u.owner, 0) from unnest($1::bigint[], $2::bigint[]) as u(id, owner) "+
			"where p.id = u.id", people, owners)
	return err
}

// SetIndustry keeps a company's industry, by its domain.
func (db Queries) SetIndustry(ctx context.Context, domains, industries []string) error {
	_, err := exec(ctx, db,
		"update company c set industry = u.industry from unnest($1::text[], $2::text[]) as u(domain, industry) where "+
			"c.domain = u.domain", domains, industries)
	return err
}

// PastHandoff is a handoff of the past with what became of it.
type PastHandoff struct {
	Person, Rep   int64
	Brief         handoff.Brief
	Made, Decided time.Time
	State, Reason string
	Stage         int64 // 0: no deal
	Moved         time.Time
	Closed        bool
	Amount        int64
	Currency      string
	Way           []PastMove // the stages before Stage
}

// PastMove is that a deal of the past came into a stage.
type PastMove struct {
	Stage int64
	At    time.Time
}

// AddPastHandoff keeps one, with its deal.
func (tx Tx) AddPastHandoff(ctx context.Context, h PastHandoff) error {
	id, err := one[int64](ctx, tx,
		`insert into handoff (person_id, rep_id, state, made_by, how, brief, made_at, clock_from, decided_at, reason)
		values ($1, $2, $3, 'crossing', 'in turn', $4, $5, $5, $6, $7) returning id`, h.Person, h.Rep, h.State,
		JSON[handoff.Brief]{h.Brief}, h.Made, h.Decided, h.Reason)
	if err != nil || h.Stage == 0 {
		return err
	}
	if _, err := exec(ctx, tx, "update person set owner_id = $2 where id = $1", h.Person, h.Rep); err != nil {
		return err
	}
	deal, err := one[int64](ctx, tx, `
		insert into deal (person_id, company_id, rep_id, handoff_id, stage_id, name, amount, position, opened_at,
			moved_at, closed_at, currency, worth, campaign)
		select p.id, p.company_id, $2, $3::bigint, $4, coalesce(c.name, p.email), $5, $3::bigint::float8, $6, $7, case
			when $8 then $7::timestamptz end, $9, $5, p.campaign
		from person p left join company c on c.id = p.company_id where p.id = $1 returning id`, h.Person, h.Rep, id,
		h.Stage, h.Amount, h.Decided, h.Moved, h.Closed, h.Currency)
	if err != nil {
		return err
	}
	for _, m := range append(h.Way, PastMove{h.Stage, h.Moved}) {
		if _, err := exec(ctx, tx, `
			insert into deal_move (deal_id, stage_id, at, user_id)
			values ($1, $2, $3, $4)`, deal, m.Stage, m.At, h.Rep); err != nil {
			return err
		}
	}
	return nil
}

// BeginStandings has everybody's score counted at an instant, without anybody
// crossing the ready line by it: what was before is past.
func (db Queries) BeginStandings(ctx context.Context, at time.Time) error {
	_, err := exec(ctx, db, `
		insert into standing (model_id, person_id, armed, rebase, counted_at, due, changes)
		select m.id, p.id, false, true, $1, $1, m.changes from score_model m, person p
		on conflict do nothing`, at)
	return err
}

// AnyUser reports whether somebody can sign in: whether the database is in use.
func (db Queries) AnyUser(ctx context.Context) (bool, error) {
	return one[bool](ctx, db, "select exists (select from app_user)")
}

// Reset empties the database: every table goes, to be made anew by Migrate.
func (db Queries) Reset(ctx context.Context) error {
	_, err := exec(ctx, db, "drop schema public cascade")
	if err == nil {
		_, err = exec(ctx, db, "create schema public")
	}
	return err
}

// DemoRecordsMore fills in the rest of people's records.
func (db Queries) DemoRecordsMore(
	ctx context.Context, people []int64, languages, seniorities, departments, campaigns []string,
) error {
	_, err := exec(ctx, db, `
		update person p
		set language = u.l, seniority = u.s, department = u.d, campaign = u.c, medium = case when u.c <> '' then 'email'
			else '' end
		from unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[]) as u(id, l, s, d, c)
		where p.id = u.id`,
		people, languages, seniorities, departments, campaigns)
	return err
}

// DemoCompanies keeps how large companies are, by their domains.
func (db Queries) DemoCompanies(ctx context.Context, domains, revenues []string, sizes []int64) error {
	_, err := exec(ctx, db,
		"update company c set revenue = u.r, size = u.s from unnest($1::text[], $2::text[], $3::int[]) as u(domain, "+
			"r, s) where c.domain = u.domain", domains, revenues, sizes)
	return err
}
