package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"ombak/internal/core/rule"
	"ombak/internal/core/score"
)

// Model is a score model with its id, and the draft of what is to take over.
type Model struct {
	ID int64
	score.Model
	Version      int
	Draft        *score.Model // nil: nothing is being changed
	LineBefore   int          // of the version before this one
	DraftChanges int          // how often the draft was changed
	DraftBy      string
	DraftAt      time.Time
}

type modelRow struct {
	ID                           int64
	Name                         string
	Floor, Ceiling, Line, Margin int
	FitLine                      int   `db:"fit_line"`
	CoolOff                      int   `db:"cool_off"`
	LastID                       int64 `db:"last_id"`
	Rules                        JSON[[]score.Rule]
	Bands                        JSON[[]rule.Band]
	Fit                          JSON[rule.Fit]
	FitBands                     JSON[[]rule.Band] `db:"fit_bands"`
	Version                      int
	LineBefore                   int `db:"line_before"`
	Follows                      JSON[[]score.Follow]
	Draft                        *JSON[score.Model]
	DraftChanges                 int        `db:"draft_changes"`
	DraftBy                      string     `db:"draft_by"`
	DraftAt                      *time.Time `db:"draft_at"`
}

const modelFields = `
	select m.id, m.name, m.floor, m.ceiling, m.line, m.margin, m.fit_line, m.cool_off, m.last_id, m.rules, m.bands,
		m.fit, m.fit_bands, m.follows, m.version, m.line_before, m.draft, m.draft_changes,
		coalesce(u.name, '') as draft_by, m.draft_at
	from score_model m
	left join app_user u on u.id = m.draft_by `

// Model reads the score model; ErrNotFound where none was made yet.
func (db Queries) Model(ctx context.Context) (Model, error) {
	return readModel(ctx, db, "order by m.id limit 1")
}

// LockModel is Model within a transaction, locked.
func (tx Tx) LockModel(ctx context.Context) (Model, error) {
	return readModel(ctx, tx, "order by m.id limit 1 for update of m")
}

func readModel(ctx context.Context, q querier, where string) (Model, error) {
	r, err := one[modelRow](ctx, q, modelFields+where)
	if err != nil {
		return Model{}, err
	}
	m := Model{ID: r.ID, Version: r.Version, LineBefore: r.LineBefore, DraftChanges: r.DraftChanges, DraftBy: r.DraftBy,
		Model: score.Model{Name: r.Name, Floor: r.Floor, Ceiling: r.Ceiling, Line: r.Line, FitLine: r.FitLine,
			Margin: r.Margin, CoolOff: r.CoolOff, Rules: r.Rules.V, LastID: r.LastID, Bands: r.Bands.V, Fit: r.Fit.V,
			FitBands: r.FitBands.V, Follows: r.Follows.V}}
	if r.Draft != nil {
		m.Draft = &r.Draft.V
	}
	if r.DraftAt != nil {
		m.DraftAt = *r.DraftAt
	}
	return m, nil
}

// SaveModel has a model take over, with its rules, and keeps it as the next version; its draft is gone. Scores that
// were counted by the earlier rules are to be counted again: by the change alone nobody crosses a line.
func (tx Tx) SaveModel(ctx context.Context, m Model, by Made) (Model, error) {
	var err error
	if m.ID == 0 {
		m.ID, err = one[int64](ctx, tx, "insert into score_model (name, line, version) values ($1, 0, 0) returning id",
			m.Name)
		if err != nil {
			return m, fmt.Errorf("keeping the score model: %w", err)
		}
	}
	if err := tx.saveFit(ctx, m); err != nil {
		return m, err
	}
	asks := map[string]bool{}
	for i := range m.Rules {
		if m.Rules[i].If.Asks() {
			for _, x := range asksOf(&m.Rules[i].If) {
				asks[x] = true
			}
		}
	}
	if m.FitLine > 0 {
		asks["record"], asks["company"] = true, true
	}
	if slices.ContainsFunc(m.Rules, func(r score.Rule) bool { return r.OfRecord() }) {
		asks["new"] = true
	}
	m.Version, err = one[int](ctx, tx, `
		update score_model
		set name = $2, floor = $3, ceiling = $4, line = $5, margin = $6, fit_line = $7, cool_off = $8, rules = $9,
			last_id = $10, asks = $11, follows = $12, changes = changes + 1, version = version + 1, draft = null,
			draft_by = null, draft_at = null, draft_changes = draft_changes + 1, line_before = line,
			taken_over = changes + 1
		where id = $1
		returning version`, m.ID, m.Name, m.Floor, m.Ceiling, m.Line, m.Margin, m.FitLine, m.CoolOff,
		JSON[[]score.Rule]{append([]score.Rule{}, m.Rules...)}, m.LastID,
		append([]string{}, slices.Sorted(maps.Keys(asks))...),
		JSON[[]score.Follow]{append([]score.Follow{}, m.Follows...)})
	if err != nil {
		return m, fmt.Errorf("keeping the score model: %w", err)
	}
	if m.Version == 1 { // whoever did something before there was a model, or is what it asks for, has a score by it
		if _, err := exec(ctx, tx, `
			insert into standing (model_id, person_id, rebase, counted_at, due)
			select $1, id, true, $2, $2 from person where erased_at is null order by id
			on conflict do nothing`, m.ID, by.At); err != nil {
			return m, fmt.Errorf("readying scores: %w", err)
		}
	}
	_, err = exec(ctx, tx, `
		insert into score_version (model_id, number, model, note, made_by, made_at)
		values ($1, $2, $3, $4, nullif($5, 0), $6)`, m.ID, m.Version, JSON[score.Model]{m.Model}, by.Note, by.User,
		by.At)
	return m, err
}

// Made is who made something, when, and what they noted; user 0: nobody.
type Made struct {
	User int64
	At   time.Time
	Note string
}

// KeepDraft keeps what is to take over from a model; nil drops it. It answers ErrNotFound where the draft was changed
// since it had been changed so many times.
func (tx Tx) KeepDraft(ctx context.Context, model int64, draft *score.Model, since int, by Made) error {
	var doc any
	if draft != nil {
		doc = JSON[score.Model]{*draft}
	}
	n, err := exec(ctx, tx, `
		update score_model
		set draft = $2, draft_changes = draft_changes + 1, draft_by = nullif($4, 0), draft_at = $5
		where id = $1 and draft_changes = $3`, model, doc, since, by.User, by.At)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// ModelVersion is a model as it once took over.
type ModelVersion struct {
	Number int
	Model  JSON[score.Model]
	Note   string
	By     string
	Made   time.Time `db:"made_at"`
}

// ModelVersions lists the versions of a model, the newest first, at most some.
func (db Queries) ModelVersions(ctx context.Context, model int64, most int) ([]ModelVersion, error) {
	return all[ModelVersion](ctx, db, `
		select v.number, v.model, v.note, coalesce(u.name, '') as by, v.made_at
		from score_version v
		left join app_user u on u.id = v.made_by
		where v.model_id = $1
		order by v.number desc
		limit $2`, model, most)
}

// ModelVersion reads one.
func (db Queries) ModelVersion(ctx context.Context, model int64, number int) (ModelVersion, error) {
	return one[ModelVersion](ctx, db, `
		select v.number, v.model, v.note, coalesce(u.name, '') as by, v.made_at
		from score_version v
		left join app_user u on u.id = v.made_by
		where v.model_id = $1 and v.number = $2`, model, number)
}

// saveFit keeps the fit of a model, and the bands of both figures. Live
// audiences that ask for the fit are to be counted again where it has changed.
func (tx Tx) saveFit(ctx context.Context, m Model) error {
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
	Before    bool      // by those of a version before the one that counts now
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
	Before    bool
	Ready     bool
	CountedAt *time.Time `db:"counted_at"`
	Until     *time.Time
	Due       *time.Time
}

func (r standingRow) standing() Standing {
	s := Standing{Person: r.Person, Score: r.Score, Armed: r.Armed, Rebase: r.Rebase, Before: r.Before, Ready: r.Ready}
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
		select person_id, score, armed, `+rebased+`, ready, counted_at, until, due
		from standing
		where model_id = $1 and due is not null and due <= $2
		order by due
		limit $3
		for update skip locked`, model, now, n)
	return standings(rows), err
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
	return standings(rows), err
}

// CountStandings counts scores, up to some.
func (db Queries) CountStandings(ctx context.Context, most int) (int64, error) {
	return one[int64](ctx, db, "select count(*) from (select from standing limit $1) s", most)
}

// StopBatches has work of a kind that is under way, or waits, stop: another begins.
func (tx Tx) StopBatches(ctx context.Context, kind string) error {
	_, err := exec(ctx, tx, "update batch set stop = true where kind = $1 and state in ('waiting', 'running')", kind)
	return err
}

// Recounting is the recount that is under way, or waits; ErrNotFound: none does.
func (db Queries) Recounting(ctx context.Context) (Batch, error) {
	return one[Batch](ctx, db, batchFields+
		"where b.kind = 'recount' and b.state in ('waiting', 'running') order by b.id desc limit 1")
}

// Tallied is the newest work that counts how the rules of a model work; ErrNotFound: none was begun.
func (db Queries) Tallied(ctx context.Context) (Batch, error) {
	return one[Batch](ctx, db, batchFields+"where b.kind = 'tally' order by b.id desc limit 1")
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
func (db Queries) Previewed(ctx context.Context) (Batch, error) {
	return one[Batch](ctx, db, batchFields+"where b.kind = 'preview' order by b.id desc limit 1")
}

// Standings reads the scores of some people.
func (db Queries) Standings(ctx context.Context, model int64, people []int64) ([]Standing, error) {
	rows, err := all[standingRow](ctx, db,
		"select person_id, score, armed, "+rebased+", ready, counted_at, until, due from standing "+
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

// ScoredFrom counts the people with a score of at least so much.
func (db Queries) ScoredFrom(ctx context.Context, model int64, least int) (int64, error) {
	return one[int64](ctx, db, "select count(*) from standing where model_id = $1 and score >= $2", model, least)
}

// Rank is how many have a higher score than some, and one, and how many have points; 0 where it is more than most.
func (db Queries) Rank(ctx context.Context, model int64, v float64, most int) (rank, of int64, err error) {
	r, err := one[struct{ Rank, Of int64 }](ctx, db, `
		select (select count(*) from (select from standing where model_id = $1 and score > $2 limit $3) a) as rank,
			(select count(*) from (select from standing where model_id = $1 and score > 0 limit $3) b) as of`, model, v,
		most+1)
	if r.Rank > int64(most) || r.Of > int64(most) {
		return 0, 0, err
	}
	return r.Rank + 1, r.Of, err
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
