package people

import (
	"context"

	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// Double is two records that are likely one person, and why.
type Double struct {
	A, B store.Person
	Why  string
}

// Doubles suggests up to n pairs of records that are likely one person. Where there are many people, they are looked
// through at most once a minute, in the background; whom somebody has decided about meanwhile is left out.
func (e *People) Doubles(ctx context.Context, n int) ([]Double, error) {
	pairs, err := base.Lately(ctx, e.Base, &e.pairs, n, func(ctx context.Context) ([]store.Pair, error) {
		return e.Store.PairsToLookAt(ctx, 20*n)
	})
	if err != nil {
		return nil, err
	}
	if pairs, err = e.Store.StillPairs(ctx, pairs); err != nil {
		return nil, err
	}
	return e.alike(ctx, pairs, n)
}

// DoublesOf suggests the records that are likely the same person as one.
func (e *People) DoublesOf(ctx context.Context, id int64) ([]Double, error) {
	pairs, err := e.Store.PairsOf(ctx, id)
	if err != nil {
		return nil, err
	}
	return e.alike(ctx, pairs, 20)
}

func (e *People) alike(ctx context.Context, pairs []store.Pair, n int) ([]Double, error) {
	if len(pairs) == 0 {
		return nil, nil
	}
	var ids []int64
	for _, p := range pairs {
		ids = append(ids, p.A, p.B)
	}
	known, err := e.Store.KnownOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	var out []Double
	var who []int64
	var found []store.Pair
	var why []string
	for _, p := range pairs {
		a, b := known[p.A], known[p.B]
		if w := person.Alike(&a, &b); w != "" && len(found) < n {
			found, why, who = append(found, p), append(why, w), append(who, p.A, p.B)
		}
	}
	people, err := e.Store.PeopleByID(ctx, who)
	if err != nil {
		return nil, err
	}
	for i, p := range found {
		if a, b := people[p.A], people[p.B]; a != nil && b != nil {
			out = append(out, Double{*a, *b, why[i]})
		}
	}
	return out, nil
}

// Merge makes two records one: keep stays, with the values of set; gone goes.
// It answers the batch by which it can be undone.
func (e *People) Merge(ctx context.Context, keep, gone int64, set person.Values, user int64) (int64, error) {
	if keep == gone {
		return 0, plainly.New("choose two different records")
	}
	var batch int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		cat, err := tx.Catalogue(ctx)
		if err != nil {
			return err
		}
		people, err := tx.PeopleByID(ctx, []int64{keep, gone})
		if err != nil {
			return err
		}
		a, b := people[keep], people[gone]
		if a == nil || b == nil {
			return store.ErrNotFound
		}
		// Each value comes from one of the two records: nothing can be smuggled in.
		va, vb := a.Values(), b.Values()
		final := person.Values{}
		for f, v := range set {
			d, ok := cat.Define(f)
			if !ok || d.Fixed || d.Company && f != person.Company || v != va[f] && v != vb[f] {
				continue
			}
			final[f] = v
			if f == person.Company && v != "" && v == vb[person.Company] {
				final[person.Domain] = vb[person.Domain]
			}
		}
		title := person.Full(b.First, b.Last, b.Email) + " into " + person.Full(a.First, a.Last, a.Email)
		now := e.Now()
		if batch, err = tx.AddBatch(ctx, store.Batch{Kind: "merge", Title: title, State: "done", Total: 1, By: &user},
			now); err != nil {
			return err
		}
		m, err := tx.Merge(ctx, keep, gone, final, store.Author{User: user, How: "merged", Batch: batch, At: now})
		if err != nil {
			return err
		}
		done, err := tx.LockBatch(ctx, batch)
		if err != nil {
			return err
		}
		done.Detail.V.Merge, done.Done, done.Ended = &m, 1, &now
		if err := tx.SetBatch(ctx, &done); err != nil {
			return err
		}
		if err := tx.Wake(ctx, []int64{keep}, now); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Person.AboutSomebody(), news.Desk)
	})
	if err == nil {
		e.Nudge()
	}
	return batch, err
}
