package people

import (
	"cmp"
	"context"
	"slices"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// Errors of changing a model.
var (
	ErrDraftMoved = plainly.New("somebody else has changed the draft meanwhile: reload the page to see theirs")
	ErrNoDraft    = plainly.New("there is no draft to take over")
	ErrNoRules    = plainly.New("a model without rules gives nobody a score")
	ErrNoModel    = plainly.New("there is no model yet")
)

// KeepDraft keeps what is to take over from a score model (0: from the first), where the draft is still the one that
// was changed so many times. Where there is no model yet, it counts at once.
func (e *People) KeepDraft(ctx context.Context, model int64, m score.Model, since int, user int64) error {
	var batch int64
	if _, err := e.Store.ModelOf(ctx, model); store.IsNotFound(err) && model == 0 { // it counts at once
		if err := e.readyWriters(ctx, &m, user); err != nil {
			return err
		}
	}
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.tidyModel(ctx, tx, &m); err != nil {
			return err
		}
		by := store.Made{User: user, At: e.Now()}
		old, err := tx.LockModel(ctx, model)
		if store.IsNotFound(err) && model != 0 {
			return ErrNoModel
		}
		if store.IsNotFound(err) {
			batch, err = e.takesOver(ctx, tx, store.Model{Model: m}, by)
			return err
		}
		if err != nil {
			return err
		}
		m.Name = old.Name // which RenameModel changes
		// Whoever changes two drafts one after the other takes no number twice.
		if m.LastID = max(m.LastID, old.LastID); old.Draft != nil {
			m.LastID = max(m.LastID, old.Draft.LastID)
		}
		return e.keepDraft(ctx, tx, old.ID, &m, since, by)
	})
	return e.AskFor(ctx, batch, err)
}

func (e *People) keepDraft(
	ctx context.Context, tx store.Tx, model int64, m *score.Model, since int, by store.Made,
) error {
	err := tx.KeepDraft(ctx, model, m, since, by)
	if store.IsNotFound(err) {
		err = ErrDraftMoved
	}
	if err != nil {
		return err
	}
	return tx.Notify(ctx, news.Model)
}

// tidyModel checks a model against what there is to ask for.
func (e *People) tidyModel(ctx context.Context, tx store.Tx, m *score.Model) error {
	cat, err := tx.Catalogue(ctx)
	if err != nil {
		return err
	}
	if err := m.Tidy(); err != nil {
		return err
	}
	return m.Check(cat)
}

// DropDraft drops what was to take over.
func (e *People) DropDraft(ctx context.Context, model int64, since int, user int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		m, err := tx.LockModel(ctx, model)
		if store.IsNotFound(err) {
			return ErrNoModel
		}
		if err != nil {
			return err
		}
		return e.keepDraft(ctx, tx, m.ID, nil, since, store.Made{User: user, At: e.Now()})
	})
}

// DraftFrom begins a draft with what an earlier version said, where there is none that it would replace.
func (e *People) DraftFrom(ctx context.Context, model int64, version, since int, user int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		m, err := tx.LockModel(ctx, model)
		if store.IsNotFound(err) {
			return ErrNoModel
		}
		if err != nil {
			return err
		}
		v, err := tx.ModelVersion(ctx, m.ID, version)
		if err != nil {
			return err
		}
		was := v.Model.V
		was.Name, was.LastID = m.Name, max(was.LastID, m.LastID)
		return e.keepDraft(ctx, tx, m.ID, &was, since, store.Made{User: user, At: e.Now()})
	})
}

// TakeOver has the draft count from now on, as the next version. Every score is counted again, of many by a batch,
// while the earlier ones still serve. The change itself makes nobody cross: only what people do from now on does, and
// whom it brings over the line is listed.
func (e *People) TakeOver(
	ctx context.Context, model int64, since int, note string, user int64,
) (version int, err error) {
	was, err := e.Store.ModelOf(ctx, model)
	if err == nil && was.Draft != nil && was.DraftChanges == since {
		err = e.readyWriters(ctx, was.Draft, user)
	}
	if err != nil && !store.IsNotFound(err) {
		return 0, err
	}
	var batch int64
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		m, err := tx.LockModel(ctx, model)
		if store.IsNotFound(err) || err == nil && m.Draft == nil {
			return ErrNoDraft
		}
		if err != nil {
			return err
		}
		if m.DraftChanges != since {
			return ErrDraftMoved
		}
		next := store.Model{ID: m.ID, Model: *m.Draft}
		if err := e.tidyModel(ctx, tx, &next.Model); err != nil { // what it asks for may have gone meanwhile
			return err
		}
		if len(next.Rules) == 0 {
			return ErrNoRules
		}
		version = m.Version + 1
		batch, err = e.takesOver(ctx, tx, next, store.Made{User: user, At: e.Now(), Note: base.Cut(note, 300)})
		return err
	})
	return version, e.AskFor(ctx, batch, err)
}

// readyWriters readies what writes to people because of a score.
func (e *People) readyWriters(ctx context.Context, m *score.Model, user int64) error {
	for _, f := range m.Follows {
		for _, a := range f.Acts {
			if w, ok := a.Act.(act.Write); ok {
				if err := e.ReadyWriter(ctx, w, user); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (e *People) takesOver(ctx context.Context, tx store.Tx, m store.Model, by store.Made) (batch int64, err error) {
	if m, err = tx.SaveModel(ctx, m, by); err != nil {
		return 0, err
	}
	if batch, err = e.Recount(ctx, tx, m.ID); err != nil {
		return 0, err
	}
	return batch, tx.Notify(ctx, news.Model)
}

// SaveModel has a model count at once, for who asks for no draft.
func (e *People) SaveModel(ctx context.Context, m store.Model) error {
	var batch int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		err := e.tidyModel(ctx, tx, &m.Model)
		if err == nil {
			batch, err = e.takesOver(ctx, tx, m, store.Made{At: e.Now()})
		}
		return err
	})
	return e.AskFor(ctx, batch, err)
}

// mostWaves bounds over how many working days people are handed over who came over the line by a change.
const mostWaves = 260

// HandLifted has those whom the change of the model brought over the line handed over, so many on each working day,
// the highest scores first, from the next working hour on. It answers how many that are.
func (e *People) HandLifted(ctx context.Context, model int64, aDay int) (n int64, err error) {
	if aDay < 1 || aDay > 1000 {
		return 0, plainly.New("how many a day is a whole number from 1 to 1000")
	}
	waves, err := e.waves()
	if err != nil {
		return 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		m, err := tx.LockModel(ctx, model)
		if store.IsNotFound(err) {
			return ErrNoModel
		}
		if err == nil {
			n, err = tx.PlanLifted(ctx, m.ID, aDay, waves)
		}
		if err == nil {
			err = tx.Notify(ctx, news.Model)
		}
		return err
	})
	e.Nudge()
	return n, err
}

// waves are the instants at which the next working days begin: the first is now, in working hours.
func (e *People) waves() (out []time.Time, err error) {
	hours, zone := e.Hours(), e.Zone()
	t := e.Now()
	for range mostWaves {
		if t, err = hours.Next(t, zone); err != nil {
			return nil, err
		}
		out = append(out, t)
		t = calendar.At(calendar.DateOf(t, zone).Add(1), 0, zone)
	}
	return out, nil
}

// ForgetLifted leaves those whom the change brought over the line where they are: what they do from now on can still
// bring them over it. It answers how many that are.
func (e *People) ForgetLifted(ctx context.Context, model int64) (n int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		m, err := tx.LockModel(ctx, model)
		if store.IsNotFound(err) {
			return ErrNoModel
		}
		if err == nil {
			n, err = tx.ForgetLifted(ctx, m.ID)
		}
		if err == nil {
			err = tx.Notify(ctx, news.Model)
		}
		return err
	})
	return n, err
}

// HandDueLifted hands over up to n people who came over a line by a change of its model and whose turn it is. Whoever
// has a rep meanwhile, or is under the line again, is passed over.
func (e *People) HandDueLifted(ctx context.Context, n int) (int, error) {
	taken := 0
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		now := e.Now()
		claimed, err := tx.ClaimLifted(ctx, now, n)
		if taken = len(claimed); err != nil || taken == 0 {
			return err
		}
		var deeds []flow.Deed
		models, err := e.ScoreModels(ctx, tx.Queries)
		if err != nil {
			return err
		}
		for i := range models {
			m := &models[i]
			var ids []int64
			for _, c := range claimed {
				if c.Model == m.ID {
					ids = append(ids, c.Person)
				}
			}
			list, err := tx.Standings(ctx, m.ID, ids)
			if err != nil {
				return err
			}
			slices.SortFunc(list, func(a, b store.Standing) int { return cmp.Compare(a.Person, b.Person) })
			for _, s := range list {
				if s.Ready && s.Score >= float64(m.Line) {
					deeds = append(deeds, flow.Deed{Act: act.HandOver{},
						Occasion: flow.Occasion{Person: s.Person, At: now, By: "change", Model: m.ID}})
				}
			}
		}
		return e.Do(ctx, tx, deeds)
	})
	return taken, err
}

// preview counts what a draft would change, for the people of one chunk.
func (e *People) preview(
	ctx context.Context, q store.Queries, live, draft *score.Model, list []store.Standing, p *store.Preview,
) error {
	var who []store.Since
	var ids []int64
	for _, s := range list {
		who, ids = append(who, store.Since{Person: s.Person}), append(ids, s.Person)
	}
	signals, err := q.SignalsSince(ctx, who)
	if err != nil {
		return err
	}
	var records map[int64]*rule.Record
	if live.AsksRecord() || draft.AsksRecord() {
		if records, err = q.Records(ctx, ids); err != nil {
			return err
		}
	}
	reach, err := q.Reachable(ctx, ids)
	if err != nil {
		return err
	}
	var ledger []score.Entry
	var up []int64
	for _, s := range list {
		did, rec := signals[s.Person], records[s.Person]
		facts := flow.NewPersonOf(rec, did)
		stands := func(m *score.Model) score.Stand {
			ledger = m.Ledger(ledger[:0], did, facts, p.At)
			fit := 0
			if m.FitLine > 0 && rec != nil {
				fit = m.Fit.Of(rec)
			}
			return m.Stands(score.Sum(ledger, p.At), fit, reach[s.Person])
		}
		if p.Count(s.Person, draft.Bands, stands(live), stands(draft)) {
			up = append(up, s.Person)
		}
	}
	if len(up) == 0 {
		return nil
	}
	reps, err := q.RepsOf(ctx, up)
	p.AddReps(reps)
	return err
}

// PreviewDraft has some worker count what the draft would change for everybody, and answers the work.
func (e *People) PreviewDraft(ctx context.Context, model, user int64) (batch int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		m, err := tx.LockModel(ctx, model)
		if store.IsNotFound(err) || err == nil && m.Draft == nil {
			return ErrNoDraft
		}
		if err != nil {
			return err
		}
		if err := tx.StopBatches(ctx, "preview", m.ID); err != nil {
			return err
		}
		n, err := tx.CountStandings(ctx, m.ID, 1<<30)
		if err == nil && m.Version == 0 {
			n, err = tx.CountEverybody(ctx)
		}
		if err != nil {
			return err
		}
		b := store.Batch{Kind: "preview", Title: "count what the draft would change", State: "waiting", Total: n,
			By: &user}
		b.Detail.V.Model = m.ID
		b.Detail.V.Preview = &store.Preview{Draft: m.DraftChanges, At: e.Now()}
		batch, err = tx.AddBatch(ctx, b, e.Now())
		return err
	})
	if err == nil {
		err = e.Ask(ctx, batch)
	}
	return batch, err
}

// runPreview counts it in the order of the people. A draft that is changed meanwhile ends it.
func (e *People) runPreview(ctx context.Context, b *store.Batch) error {
	p := b.Detail.V.Preview
	for {
		if err := e.progress(ctx, b); err != nil {
			return err
		}
		m, err := e.Store.ModelOf(ctx, b.Detail.V.Model)
		if err != nil {
			return flow.Gone(err)
		}
		if m.Draft == nil || m.DraftChanges != p.Draft {
			return errStopped
		}
		m.Zone, m.Draft.Zone = e.Zone(), e.Zone()
		list, err := e.Store.StandingsAfter(ctx, m.ID, b.Detail.V.Upto, recountChunk)
		if err == nil && m.Version == 0 { // nobody has a score by it yet
			list, err = e.Store.UncountedAfter(ctx, b.Detail.V.Upto, recountChunk)
		}
		if err != nil {
			return err
		}
		if len(list) == 0 {
			return nil
		}
		if err := e.preview(ctx, e.Store.Queries, &m.Model, m.Draft, list, p); err != nil {
			return err
		}
		b.Detail.V.Upto, b.Done = list[len(list)-1].Person, b.Done+int64(len(list))
	}
}

// UsualModel begins scoring with points that many begin with, and a ready line,
// where there is no model. Common practice, no source.
func (e *People) UsualModel(ctx context.Context) error {
	if _, err := e.Store.Model(ctx); !store.IsNotFound(err) {
		return err
	}
	rule := func(k signal.Kind, group string, points, lasts int) score.Rule {
		return score.Rule{Group: group, On: signal.Pattern{Kind: k}, Points: points, Lasts: lasts}
	}
	const email, site, said = "In emails", "On pages", "In their own words"
	return e.SaveModel(ctx, store.Model{Model: score.Model{Name: "Engagement", Line: 15, CoolOff: 30,
		Rules: []score.Rule{
			rule(signal.Open, email, 1, 30), rule(signal.Click, email, 3, 30), rule(signal.PageView, site, 10, 30),
			rule(signal.Download, site, 5, 30), rule(signal.Reply, said, 15, 90), rule(signal.OptOut, said, -100, 0)}}})
}
