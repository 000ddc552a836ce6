package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

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

// oneModel is the model with an id; 0: the first, whose score is meant where none is named.
const oneModel = "where m.removed_at is null and ($1 = 0 or m.id = $1) order by m.id limit 1"

// Model reads the first score model; ErrNotFound where none was made yet.
func (db Queries) Model(ctx context.Context) (Model, error) { return db.ModelOf(ctx, 0) }

// ModelOf reads one; 0 is the first. One that was removed is not found.
func (db Queries) ModelOf(ctx context.Context, id int64) (Model, error) {
	r, err := one[modelRow](ctx, db, modelFields+oneModel, id)
	return r.model(), err
}

// LockModel is ModelOf within a transaction, locked.
func (tx Tx) LockModel(ctx context.Context, id int64) (Model, error) {
	r, err := one[modelRow](ctx, tx, modelFields+oneModel+" for update of m", id)
	return r.model(), err
}

// Models reads those that there are, the first one first.
func (db Queries) Models(ctx context.Context) ([]Model, error) {
	rows, err := all[modelRow](ctx, db, modelFields+"where m.removed_at is null order by m.id")
	out := make([]Model, len(rows))
	for i := range rows {
		out[i] = rows[i].model()
	}
	return out, err
}

func (r *modelRow) model() Model {
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
	return m
}

// AddModel keeps another model, which counts nothing until its draft takes over.
func (tx Tx) AddModel(ctx context.Context, draft score.Model, by Made) (int64, error) {
	return one[int64](ctx, tx, `
		insert into score_model (name, line, version, draft, draft_changes, draft_by, draft_at)
		values ($1, 0, 0, $2, 1, nullif($3, 0), $4)
		returning id`, draft.Name, JSON[score.Model]{draft}, by.User, by.At)
}

// RenameModel gives a model, and its draft, another name.
func (tx Tx) RenameModel(ctx context.Context, id int64, name string) error {
	_, err := exec(ctx, tx, `
		update score_model
		set name = $2, draft = case when draft is null then null else jsonb_set(draft, '{name}', to_jsonb($2::text)) end
		where id = $1`, id, name)
	return err
}

// RemoveModel has a model count nothing any more; what is kept of it lies until DropStandings.
func (tx Tx) RemoveModel(ctx context.Context, id int64, at time.Time) error {
	_, err := exec(ctx, tx, `
		with gone as (delete from score_lifted where model_id = $1 and done_at is null)
		update score_model
		set removed_at = $2, asks = '{}', draft = null, draft_changes = draft_changes + 1
		where id = $1`, id, at)
	return err
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
	if m.Version == 1 || asks["new"] { // whoever did something before, or is what it asks for, has a score by it
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

// modelFits are what makes the fit by each model, the first of them first.
type modelFits []struct {
	ID  int64
	Fit JSON[rule.Fit]
}

func readFits(ctx context.Context, q querier) (modelFits, error) {
	return all[struct {
		ID  int64
		Fit JSON[rule.Fit]
	}](ctx, q, "select id, fit from score_model where removed_at is null order by id")
}

// set says of a record what its fits are.
func (f modelFits) set(r *rule.Record) {
	for i := range f {
		v := f[i].Fit.V.Of(r)
		if i == 0 {
			r.Fit = v
		}
		if len(f) > 1 {
			if r.Fits == nil {
				r.Fits = make(map[int64]int, len(f))
			}
			r.Fits[f[i].ID] = v
		}
	}
}

// ModelUse lists what asks for the scores of a model.
func (db Queries) ModelUse(ctx context.Context, id int64) ([]Use, error) {
	path := `'$.**.if ? (@.model == $id)', jsonb_build_object('id', $1::bigint)`
	return all[Use](ctx, db, `
		select 'audience' as kind, id, name
		from audience
		where live and jsonb_path_exists(rule, `+path+`)
		union all
		select 'sequence', s.id, s.name
		from sequence s
		where s.removed_at is null
			and (
				jsonb_path_exists(s.entry, `+path+`)
				or exists (
					select
					from sequence_version v
					where v.id = s.version_id and jsonb_path_exists(v.plan, `+path+`))
				or exists (
					select
					from sequence_draft d
					where d.sequence_id = s.id and d.n = s.draft_n and jsonb_path_exists(d.plan, `+path+`)))
		union all
		select 'reader group', id, name
		from reader_group
		where jsonb_path_exists(rule, `+path+`)
		union all
		select 'message', m.id, m.name
		from message m
		join message_version v on v.message_id = m.id and v.version = m.version
		where m.removed_at is null and jsonb_path_exists(v.doc, `+path+`)
		union all
		select 'territory', id, name
		from territory
		where removed_at is null and jsonb_path_exists(rule, `+path+`)
		order by 1, 3`, id)
}
