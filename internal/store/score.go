package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"ombak/internal/core/rule"
	"ombak/internal/core/score"
)

// Standing is a person's score as last counted.
type Standing struct {
	Person    int64
	Score     float64
	Armed     bool
	Rebase    bool         // the score counts by rules that have changed since
	Before    bool         // by those of a version before the one that counts now
	Ready     bool         // somebody could be reached when it was counted
	CountedAt time.Time    // zero: never
	Until     time.Time    // first instant at which it no longer holds; zero: it holds until a signal comes
	Due       time.Time    // zero: nothing to count
	Parts     []score.Part // what each rule gives
}

// Of is the score, or what one rule gives, by its id.
func (s *Standing) Of(rule int64) float64 {
	if rule == 0 {
		return s.Score
	}
	for _, p := range s.Parts {
		if p.Rule == rule {
			return p.Points
		}
	}
	return 0
}

type standingRow struct {
	Person    int64 `db:"person_id"`
	Score     float64
	Armed     bool
	Rebase    bool
	Before    bool
	Ready     bool
	CountedAt *time.Time `db:"counted_at"`
	Until     *time.Time
	Due       *time.Time
	Parts     *string
}

func (r standingRow) standing() (Standing, error) {
	s := Standing{Person: r.Person, Score: r.Score, Armed: r.Armed, Rebase: r.Rebase, Before: r.Before, Ready: r.Ready}
	if r.Parts != nil {
		var given map[int64]float64
		if err := json.Unmarshal([]byte(*r.Parts), &given); err != nil {
			return s, fmt.Errorf("reading what gives points to person %d: %w", r.Person, err)
		}
		for _, id := range slices.Sorted(maps.Keys(given)) {
			s.Parts = append(s.Parts, score.Part{Rule: id, Points: given[id]})
		}
	}
	if r.CountedAt != nil {
		s.CountedAt = *r.CountedAt
	}
	if r.Until != nil {
		s.Until = *r.Until
	}
	if r.Due != nil {
		s.Due = *r.Due
	}
	return s, nil
}

// partsText is what each rule gives as it is kept, an object by the rules' numbers; nil: nothing.
func partsText(parts []score.Part) *string {
	if len(parts) == 0 {
		return nil
	}
	out := make([]byte, 0, 12*len(parts))
	for i, p := range parts {
		out = append(out, `{,`[min(i, 1)], '"')
		out = append(strconv.AppendInt(out, p.Rule, 10), '"', ':')
		out = strconv.AppendFloat(out, p.Points, 'f', -1, 64)
	}
	text := string(append(out, '}'))
	return &text
}

// MarkStandings has the scores of these people counted again.
func (tx Tx) MarkStandings(ctx context.Context, people []int64, at time.Time) error {
	_, err := exec(ctx, tx, `
		insert into standing (model_id, person_id, due)
		select m.id, p, $2
		from (select id from score_model where version > 0 and removed_at is null order by id) m,
			(select distinct unnest($1::bigint[]) as p order by 1) u
		on conflict (model_id, person_id) do update set due = least(standing.due, excluded.due)`, people, at)
	return err
}

// ClaimStandings takes up to n scores that have to be counted by now.
func (tx Tx) ClaimStandings(ctx context.Context, model int64, now time.Time, n int) ([]Standing, error) {
	rows, err := all[standingRow](ctx, tx, `
		select person_id, score, armed, `+rebased+`, ready, counted_at, until, due
		from standing
		where model_id = $1 and due is not null and due <= $2
		order by due
		limit $3
		for update skip locked`, model, now, n)
	return standings(rows, err)
}

// rebased is whether a score was counted by rules that have changed since, and by an earlier version.
const rebased = `
	(rebase or changes <> (select m.changes from score_model m where m.id = standing.model_id)) as rebase,
	(changes < (select m.taken_over from score_model m where m.id = standing.model_id)) as before`

// StandingsAfter reads the scores of the next up to n people after one, and takes none of them.
func (db Queries) StandingsAfter(ctx context.Context, model, after int64, n int) ([]Standing, error) {
	rows, err := all[standingRow](ctx, db, `
		select person_id, score, armed, `+rebased+`, ready, counted_at, until, due
		from standing
		where model_id = $1 and person_id > $2
		order by person_id
		limit $3`, model, after, n)
	return standings(rows, err)
}

// UncountedAfter lists the next up to n people after one as they stand where nothing was counted of them.
func (db Queries) UncountedAfter(ctx context.Context, after int64, n int) ([]Standing, error) {
	rows, err := all[standingRow](ctx, db, `
		select id as person_id
		from person
		where id > $1 and erased_at is null
		order by id
		limit $2`, after, n)
	return standings(rows, err)
}

// CountEverybody counts the people that there are.
func (db Queries) CountEverybody(ctx context.Context) (int64, error) {
	return one[int64](ctx, db, "select count(*) from person where erased_at is null")
}

// CountStandings counts the scores of a model, up to some; 0: those of all models.
func (db Queries) CountStandings(ctx context.Context, model int64, most int) (int64, error) {
	return one[int64](ctx, db, `
		select count(*)
		from (
			select
			from standing
			where ($1 = 0 or model_id = $1) and model_id in (select id from score_model where removed_at is null)
			limit $2) s`, model, most)
}

// DropStandings drops up to n scores that models keep which were removed, and answers how many those were.
func (tx Tx) DropStandings(ctx context.Context, n int) (int64, error) {
	return exec(ctx, tx, `
		delete from standing
		where (model_id, person_id) in (
			select s.model_id, s.person_id
			from score_model m
			join standing s on s.model_id = m.id
			where m.removed_at is not null
			limit $1)`, n)
}

// StopBatches has work of a kind about a model (0: about all) that is under way, or waits, stop: another begins.
func (tx Tx) StopBatches(ctx context.Context, kind string, model int64) error {
	_, err := exec(ctx, tx, `
		update batch
		set stop = true
		where kind = $1 and state in ('waiting', 'running')
			and ($2 = 0 or coalesce((detail->>'model')::bigint, 0) = $2)`, kind, model)
	return err
}

// Recounting is the recount of a model that is under way, or waits; ErrNotFound: none does.
func (db Queries) Recounting(ctx context.Context, model int64) (Batch, error) {
	return one[Batch](ctx, db, batchFields+`
		where b.kind = 'recount' and b.state in ('waiting', 'running')
			and coalesce((b.detail->>'model')::bigint, 0) in (0, $1)
		order by b.id desc
		limit 1`, model)
}

// Tallied is the newest work that counts how the rules of a model work; ErrNotFound: none was begun.
func (db Queries) Tallied(ctx context.Context, model int64) (Batch, error) {
	return db.newestOf(ctx, "tally", model)
}

// newestOf is the newest work of a kind about a model. What has none was about the only one there was.
func (db Queries) newestOf(ctx context.Context, kind string, model int64) (Batch, error) {
	return one[Batch](ctx, db, batchFields+`
		where b.kind = $1 and coalesce((b.detail->>'model')::bigint, (select min(id) from score_model)) = $2
		order by b.id desc
		limit 1`, kind, model)
}

// JustBelow lists people whose scores are just below a line, the nearest first.
func (db Queries) JustBelow(ctx context.Context, model int64, line, most int) ([]Lifted, error) {
	return all[Lifted](ctx, db, `
		select s.person_id, p.first_name as first, p.last_name as last, p.email, coalesce(c.name, '') as company,
			coalesce(u.name, '') as owner, s.score
		from standing s
		join person p on p.id = s.person_id
		left join company c on c.id = p.company_id
		left join app_user u on u.id = p.owner_id
		where s.model_id = $1 and s.score < $2 and s.score > 0
		order by s.score desc, s.person_id desc
		limit $3`, model, line, most)
}

// Previewed is the newest work that counts what a draft would change; ErrNotFound: none was begun.
func (db Queries) Previewed(ctx context.Context, model int64) (Batch, error) {
	return db.newestOf(ctx, "preview", model)
}

// Standings reads the scores of some people.
func (db Queries) Standings(ctx context.Context, model int64, people []int64) ([]Standing, error) {
	rows, err := all[standingRow](ctx, db,
		"select person_id, score, armed, "+rebased+", ready, counted_at, until, due, parts from standing "+
			"where model_id = $1 and person_id = any ($2)", model, people)
	return standings(rows, err)
}

func standings(rows []standingRow, err error) ([]Standing, error) {
	if err != nil {
		return nil, err
	}
	var out []Standing
	for _, r := range rows {
		s, err := r.standing()
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// KeepStandings writes counted scores back.
func (tx Tx) KeepStandings(ctx context.Context, model int64, list []Standing) error {
	n := len(list)
	person, value, armed, ready := make([]int64, n), make([]float64, n), make([]bool, n), make([]bool, n)
	counted, until := make([]pgtype.Timestamptz, n), make([]pgtype.Timestamptz, n)
	parts := make([]*string, n)
	for i, s := range list {
		person[i], value[i], armed[i], counted[i], until[i] = s.Person, s.Score, s.Armed, stamp(s.CountedAt),
			stamp(s.Until)
		ready[i], parts[i] = s.Ready, partsText(s.Parts)
	}
	_, err := exec(ctx, tx, `
		update standing s
		set score = u.score, armed = u.armed, ready = u.ready, rebase = false, counted_at = u.counted, until = u.until,
			due = u.until, changes = (select m.changes from score_model m where m.id = $1), parts = u.parts
		from unnest($2::bigint[], $3::float8[], $4::bool[], $5::timestamptz[], $6::timestamptz[], $7::bool[],
			$8::jsonb[]) as u(person, score, armed, counted, until, ready, parts)
		where s.model_id = $1 and s.person_id = u.person`, model, person, value, armed, counted, until, ready, parts)
	if err != nil {
		return fmt.Errorf("keeping %d scores: %w", n, err)
	}
	return nil
}

// ScoreBands counts people by score, in steps of five up to a highest.
func (db Queries) ScoreBands(ctx context.Context, model int64, step, bands int) ([]int64, error) {
	rows, err := all[struct {
		Band int
		N    int64
	}](ctx, db, "select least(floor(score / $2)::int, $3 - 1) as band, count(*) as n from standing where model_id = "+
		"$1 and score > 0 group by 1", model, step, bands)
	out := make([]int64, bands)
	for _, r := range rows {
		if r.Band >= 0 && r.Band < bands {
			out[r.Band] = r.N
		}
	}
	return out, err
}

// ScoredFrom counts the people with a score of at least so much.
func (db Queries) ScoredFrom(ctx context.Context, model int64, least int) (int64, error) {
	return one[int64](ctx, db, "select count(*) from standing where model_id = $1 and score >= $2", model, least)
}

// Rank is how many have a higher score by a model than v, and one; 0: more than most have.
func (db Queries) Rank(ctx context.Context, model int64, v float64, most int) (int64, error) {
	n, err := one[int64](ctx, db,
		"select count(*) from (select from standing where model_id = $1 and score > $2 limit $3) a", model, v, most+1)
	if n > int64(most) {
		return 0, err
	}
	return n + 1, err
}

// Scored counts who has points by a model.
func (db Queries) Scored(ctx context.Context, model int64) (int64, error) {
	return one[int64](ctx, db, "select count(*) from standing where model_id = $1 and score > 0", model)
}

// FitSpread counts people by what a fit would be, in steps of ten; the last of
// eleven is those with all of it.
func (db Queries) FitSpread(ctx context.Context, cat *rule.Catalogue, fit rule.Fit) ([]int64, error) {
	c := compiler{cat: &rule.Catalogue{Own: cat.Own}}
	rows, err := all[struct {
		Tenth int
		N     int64
	}](ctx, db, "select x / 10 as tenth, count(*) as n from (select "+c.fit(fit)+" as x"+peopleTables+") f group by 1",
		c.args...)
	out := make([]int64, 11)
	for _, r := range rows {
		out[r.Tenth] = r.N
	}
	return out, err
}
