package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
)

// Model is a score model with its id.
type Model struct {
	ID int64
	score.Model
	Bands    []rule.Band // named ranges of the score, for rules
	Fit      rule.Fit
	FitBands []rule.Band
}

type scoreRule struct {
	ID        int64
	Kind      signal.Kind
	Points    int
	Often     score.Often
	N         int
	Window    int `db:"window_days"`
	Lasts     int
	Half      int
	Wipe      bool
	Condition JSON[rule.Rule]
}

// Model reads the score model; ErrNotFound where none was made yet.
func (db Queries) Model(ctx context.Context) (Model, error) {
	head, err := one[struct {
		ID                           int64
		Name                         string
		Floor, Ceiling, Line, Margin int
		Bands                        JSON[[]rule.Band]
		Fit                          JSON[rule.Fit]
		FitBands                     JSON[[]rule.Band] `db:"fit_bands"`
	}](ctx, db, "select id, name, floor, ceiling, line, margin, bands, fit, fit_bands from score_model order by id "+
		"limit 1")
	if err != nil {
		return Model{}, err
	}
	m := Model{head.ID,
		score.Model{Name: head.Name, Floor: head.Floor, Ceiling: head.Ceiling, Line: head.Line, Margin: head.Margin},
		head.Bands.V, head.Fit.V, head.FitBands.V}
	rules, err := all[scoreRule](ctx, db,
		"select id, kind, points, often, n, window_days, lasts, half, wipe, condition from score_rule where model_id "+
			"= $1 order by position, id", m.ID)
	for _, r := range rules {
		m.Rules = append(m.Rules,
			score.Rule{ID: r.ID, On: signal.Pattern{Kind: r.Kind}, Points: r.Points, Often: r.Often, N: r.N,
				Window: r.Window, Lasts: r.Lasts, Half: r.Half, Wipe: r.Wipe, If: r.Condition.V})
	}
	return m, err
}

// SaveModel keeps the model, replacing its rules. Scores that were counted by the
// earlier rules are to be counted again: by the change alone nobody crosses a line.
func (tx Tx) SaveModel(ctx context.Context, m Model) (int64, error) {
	var err error
	if m.ID == 0 {
		m.ID, err = one[int64](ctx, tx,
			"insert into score_model (name, floor, ceiling, line, margin) values ($1, $2, $3, $4, $5) returning id",
			m.Name, m.Floor, m.Ceiling, m.Line, m.Margin)
	} else {
		_, err = exec(ctx, tx,
			"update score_model set name = $2, floor = $3, ceiling = $4, line = $5, margin = $6 where id = $1", m.ID,
			m.Name, m.Floor, m.Ceiling, m.Line, m.Margin)
	}
	if err != nil {
		return 0, fmt.Errorf("keeping the score model: %w", err)
	}
	if err := tx.SaveFit(ctx, m); err != nil {
		return 0, err
	}
	if _, err = exec(ctx, tx, "delete from score_rule where model_id = $1", m.ID); err != nil {
		return 0, err
	}
	for i, r := range m.Rules {
		cond, err := json.Marshal(r.If)
		if err != nil {
			return 0, err
		}
		if _, err := exec(ctx, tx, `
			insert into score_rule (model_id, position, kind, points, often, n, window_days, lasts, half, wipe,
				condition)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`, m.ID, i, int16(r.On.Kind), r.Points,
			string(r.Often), r.N, r.Window, r.Lasts, r.Half, r.Wipe, string(cond)); err != nil {
			return 0, fmt.Errorf("keeping a score rule: %w", err)
		}
	}
	asks := map[string]bool{}
	for i := range m.Rules {
		if m.Rules[i].If.Asks() {
			for _, x := range asksOf(&m.Rules[i].If) {
				asks[x] = true
			}
		}
	}
	if _, err := exec(ctx, tx, "update score_model set asks = $2 where id = $1", m.ID,
		append([]string{}, slices.Sorted(maps.Keys(asks))...)); err != nil {
		return 0, err
	}
	_, err = exec(ctx, tx, "update score_model set changes = changes + 1 where id = $1", m.ID)
	return m.ID, err
}

// SaveFit keeps the fit of a model, and the bands of both figures. Live
// audiences that ask for the fit are to be counted again where it has changed.
func (tx Tx) SaveFit(ctx context.Context, m Model) error {
	listed := func(b []rule.Band) JSON[[]rule.Band] { return JSON[[]rule.Band]{append([]rule.Band{}, b...)} }
	fit := JSON[rule.Fit]{append(rule.Fit{}, m.Fit...)}
	_, err := exec(ctx, tx, `
		with was as (select fit from score_model where id = $1),
		recount as (
			update audience set recount = true from was where live and asks @> array['fit'] and was.fit <> $2::jsonb)
		update score_model set fit = $2, bands = $3, fit_bands = $4 where id = $1`, m.ID, fit, listed(m.Bands),
		listed(m.FitBands))
	if err != nil {
		return fmt.Errorf("keeping the fit: %w", err)
	}
	return nil
}

func readFit(ctx context.Context, q querier) (rule.Fit, error) {
	f, err := one[JSON[rule.Fit]](ctx, q, "select fit from score_model order by id limit 1")
	if err != nil && !IsNotFound(err) {
		return nil, err
	}
	return f.V, nil
}

// Standing is a person's score as last counted.
type Standing struct {
	Person    int64
	Score     float64
	Armed     bool
	Rebase    bool      // the score counts by rules that have changed since
	Ready     bool      // somebody could be reached when it was counted
	CountedAt time.Time // zero: never
	Until     time.Time // first instant at which it no longer holds; zero: it holds until a signal comes
	Due       time.Time // zero: nothing to count
}

type standingRow struct {
	Person    int64 `db:"person_id"`
	Score     float64
	Armed     bool
	Rebase    bool
	Ready     bool
	CountedAt *time.Time `db:"counted_at"`
	Until     *time.Time
	Due       *time.Time
}

func (r standingRow) standing() Standing {
	s := Standing{Person: r.Person, Score: r.Score, Armed: r.Armed, Rebase: r.Rebase, Ready: r.Ready}
	if r.CountedAt != nil {
		s.CountedAt = *r.CountedAt
	}
	if r.Until != nil {
		s.Until = *r.Until
	}
	if r.Due != nil {
		s.Due = *r.Due
	}
	return s
}

// MarkStandings has the scores of these people counted again.
func (tx Tx) MarkStandings(ctx context.Context, people []int64, at time.Time) error {
	_, err := exec(ctx, tx, `
		insert into standing (model_id, person_id, due)
		select m.id, p, $2
		from (select id from score_model order by id) m, (select distinct unnest($1::bigint[]) as p order by 1) u
		on conflict (model_id, person_id) do update set due = least(standing.due, excluded.due)`, people, at)
	return err
}

// ClaimStandings takes up to n scores that have to be counted by now.
func (tx Tx) ClaimStandings(ctx context.Context, model int64, now time.Time, n int) ([]Standing, error) {
	rows, err := all[standingRow](ctx, tx, `
		select person_id, score, armed, `+rebased+` as rebase, ready, counted_at, until, due
		from standing
		where model_id = $1 and due is not null and due <= $2
		order by due
		limit $3
		for update skip locked`, model, now, n)
	return standings(rows), err
}

// rebased is whether a score was counted by rules that have changed since.
const rebased = "(rebase or changes <> (select m.changes from score_model m where m.id = standing.model_id))"

// NextStandings takes the scores of the next up to n people after one.
func (tx Tx) NextStandings(ctx context.Context, model, after int64, n int) ([]Standing, error) {
	rows, err := all[standingRow](ctx, tx, `
		select person_id, score, armed, `+rebased+` as rebase, ready, counted_at, until, due
		from standing
		where model_id = $1 and person_id > $2
		order by person_id
		limit $3
		for update`, model, after, n)
	return standings(rows), err
}

// CountStandings counts scores, up to some.
func (db Queries) CountStandings(ctx context.Context, most int) (int64, error) {
	return one[int64](ctx, db, "select count(*) from (select from standing limit $1) s", most)
}

// StopRecounts has recounts that are under way, or wait, stop: another begins.
func (tx Tx) StopRecounts(ctx context.Context) error {
	_, err := exec(ctx, tx, "update batch set stop = true where kind = 'recount' and state in ('waiting', 'running')")
	return err
}

// Recounting is the recount that is under way, or waits; ErrNotFound: none does.
func (db Queries) Recounting(ctx context.Context) (Batch, error) {
	return one[Batch](ctx, db, batchFields+
		"where b.kind = 'recount' and b.state in ('waiting', 'running') order by b.id desc limit 1")
}

// Standings reads the scores of some people.
func (db Queries) Standings(ctx context.Context, model int64, people []int64) ([]Standing, error) {
	rows, err := all[standingRow](ctx, db,
		"select person_id, score, armed, "+rebased+" as rebase, ready, counted_at, until, due from standing "+
			"where model_id = $1 and person_id = any ($2)", model, people)
	return standings(rows), err
}

func standings(rows []standingRow) []Standing {
	var out []Standing
	for _, r := range rows {
		out = append(out, r.standing())
	}
	return out
}

// KeepStandings writes counted scores back.
func (tx Tx) KeepStandings(ctx context.Context, model int64, list []Standing) error {
	n := len(list)
	person, value, armed, ready := make([]int64, n), make([]float64, n), make([]bool, n), make([]bool, n)
	counted, until := make([]pgtype.Timestamptz, n), make([]pgtype.Timestamptz, n)
	for i, s := range list {
		person[i], value[i], armed[i], counted[i], until[i] = s.Person, s.Score, s.Armed, stamp(s.CountedAt),
			stamp(s.Until)
		ready[i] = s.Ready
	}
	_, err := exec(ctx, tx, `
		update standing s
		set score = u.score, armed = u.armed, ready = u.ready, rebase = false, counted_at = u.counted, until = u.until,
			due = u.until, changes = (select m.changes from score_model m where m.id = $1)
		from unnest($2::bigint[], $3::float8[], $4::bool[], $5::timestamptz[], $6::timestamptz[], $7::bool[])
			as u(person, score, armed, counted, until, ready)
		where s.model_id = $1 and s.person_id = u.person`, model, person, value, armed, counted, until, ready)
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

// FitSpread counts people by what a fit would be, in steps of ten; the last of
// eleven is those with all of it.
func (db Queries) FitSpread(ctx context.Context, cat *rule.Catalogue, fit rule.Fit) ([]int64, error) {
	c := compiler{cat: &rule.Catalogue{Own: cat.Own, Fit: fit}}
	rows, err := all[struct {
		Tenth int
		N     int64
	}](ctx, db, "select x / 10 as tenth, count(*) as n from (select "+c.fit()+" as x"+peopleTables+") f group by 1",
		c.args...)
	out := make([]int64, 11)
	for _, r := range rows {
		out[r.Tenth] = r.N
	}
	return out, err
}
