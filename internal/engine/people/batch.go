package people

import (
	"context"
	"errors"
	"log/slog"

	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// StopBatch stops a batch; what it has done stays and can be undone.
func (e *People) StopBatch(ctx context.Context, id int64) error { return e.Store.StopBatch(ctx, id) }

// RunBatches runs whatever waits, one after the other. It is for a clock that
// is moved by hand and for tests; workers do it by themselves.
func (e *People) RunBatches(ctx context.Context) error {
	waiting, err := e.Store.WaitingBatches(ctx)
	for _, id := range waiting {
		if err == nil {
			err = e.RunBatch(ctx, id)
		}
	}
	return err
}

// RunBatch does the work of a batch. A process that ends half way leaves what
// it has finished; the next one goes on from there.
func (e *People) RunBatch(ctx context.Context, id int64) error {
	release, ok, err := e.Store.LockBatch(ctx, id)
	if err != nil || !ok {
		return err
	}
	defer release()
	b, err := e.Store.Batch(ctx, id)
	if err != nil {
		return err
	}
	if b.Over() {
		return nil
	}
	undo := b.State == "undoing"
	if !undo && b.State != "running" {
		b.State = "running"
		if err := e.Store.KeepBatch(ctx, &b); err != nil {
			return err
		}
	}
	switch {
	case undo:
		err = e.undoBatch(ctx, &b)
	case b.Kind == "import":
		err = e.runImport(ctx, &b)
	case b.Kind == "recount":
		err = e.runRecount(ctx, &b)
	case b.Kind == "tally":
		err = e.runTally(ctx, &b)
	case b.Kind == "preview":
		err = e.runPreview(ctx, &b)
	case b.Kind == "export":
		err = e.runExport(ctx, &b)
	default:
		err = e.runBulk(ctx, &b)
	}
	if ctx.Err() != nil {
		return ctx.Err() // not failed: it goes on when a worker is there again
	}
	now := e.Now()
	switch {
	case errors.Is(err, errStopped):
		b.State, err = "stopped", nil
	case err != nil:
		slog.Error("a batch failed", "batch", id, "kind", b.Kind, "error", err)
		b.State, b.Trouble, err = "failed", base.Told(err), nil
	case undo:
		b.State = "undone"
	case b.State == "running":
		b.State = "done"
	}
	b.Ended = &now
	if kerr := e.Store.KeepBatch(ctx, &b); kerr != nil {
		return kerr
	}
	e.Nudge()
	return e.Store.Tell(ctx, news.Batch.Of(id), news.Person.AboutSomebody())
}

var errStopped = plainly.New("stopped")

// progress keeps how far a batch is, and reports errStopped where it is to stop.
func (e *People) progress(ctx context.Context, b *store.Batch) error {
	if err := e.Store.KeepBatch(ctx, b); err != nil {
		return err
	}
	return e.tellProgress(ctx, b)
}

// tellProgress tells whoever watches, and reports errStopped where it is to stop.
func (e *People) tellProgress(ctx context.Context, b *store.Batch) error {
	if err := e.Store.Tell(ctx, news.Batch.Of(b.ID)); err != nil {
		return err
	}
	stop, err := e.Store.BatchStopped(ctx, b.ID)
	if err == nil && stop && b.State == "running" {
		err = errStopped
	}
	return err
}

// Chosen is whom a bulk action is about: some people by hand, or everybody
// whom a list is about.
type Chosen struct {
	IDs []int64
	All *store.PeopleQuery
}

// maxBulk bounds how many people one bulk action can be about.
const maxBulk = 2_000_000

// Bulk begins a bulk action: kind is "set" (fields and marks of set) or
// "erase". It answers the batch.
func (e *People) Bulk(
	ctx context.Context, kind, title string, who Chosen, d store.BatchDetail, user int64,
) (int64, error) {
	if kind == "set" {
		cat, err := e.Store.Catalogue(ctx)
		if err != nil {
			return 0, err
		}
		for f, v := range d.Set {
			if k, _, _ := person.MarkOf(f); k != "" || f == person.Owner {
				continue
			}
			def, ok := cat.Define(f)
			if !ok || def.Fixed || def.Company || def.Type == person.EmailType || def.Type == person.PhoneType {
				return 0, plainly.Errorf("%q cannot be set for many people at once", f)
			}
			if d.Set[f], err = def.Tidy(v, ""); err != nil {
				return 0, &FieldError{f, def.Name, v, err}
			}
		}
	}
	return e.BeginBulk(ctx, kind, title, who, d, user)
}

// BeginBulk keeps a bulk action and has some worker do it.
func (e *People) BeginBulk(
	ctx context.Context, kind, title string, who Chosen, d store.BatchDetail, user int64,
) (int64, error) {
	var id int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		ids := who.IDs
		if who.All != nil {
			var err error
			if ids, err = tx.AllIDs(ctx, *who.All); err != nil {
				return err
			}
		}
		if len(ids) == 0 {
			return plainly.New("choose somebody first")
		}
		if len(ids) > maxBulk {
			return plainly.Errorf("this is about more than %d people: describe fewer", maxBulk)
		}
		var err error
		if id, err = tx.AddBatch(ctx,
			store.Batch{Kind: kind, Title: title, State: "waiting", By: &user,
				Detail: store.JSON[store.BatchDetail]{V: d}}, e.Now()); err != nil {
			return err
		}
		n, err := tx.AddBatchPeople(ctx, id, ids)
		if err != nil {
			return err
		}
		b, err := tx.LockBatch(ctx, id)
		if err != nil {
			return err
		}
		b.Total = n
		return tx.SetBatch(ctx, &b)
	})
	if err != nil {
		return 0, err
	}
	return id, e.Ask(ctx, id)
}

// bulkChunk is how many people one transaction of a bulk action changes.
const bulkChunk = 1000

func (e *People) runBulk(ctx context.Context, b *store.Batch) error {
	author := store.Author{How: "bulk: " + b.Title, Batch: b.ID}
	if b.By != nil {
		author.User = *b.By
	}
	for ctx.Err() == nil {
		if err := e.progress(ctx, b); err != nil {
			return err
		}
		done := 0
		err := e.Store.InTx(ctx, func(tx store.Tx) error {
			author.At = e.Now()
			ids, err := tx.NextBatchPeople(ctx, b.ID, bulkChunk)
			if err != nil || len(ids) == 0 {
				return err
			}
			next := *b
			next.Done += int64(len(ids))
			if w := b.Detail.V.Way; w != nil {
				n, err := e.DoByHand(ctx, tx, flow.ByHand{Do: flow.HandDeed(w.Do), Sequence: w.Sequence,
					Step: sequence.StepID(w.Step)}, ids)
				if err != nil {
					return err
				}
				next.Detail.V.Changed += n
			} else if b.Kind == "find" {
				n, err := tx.AskForAddresses(ctx, ids, b.Detail.V.Find, e.Now())
				if err != nil {
					return err
				}
				next.Detail.V.Changed += n
			} else if b.Kind == "erase" {
				for _, id := range ids {
					if err := e.erase(ctx, tx, id); err != nil {
						return err
					}
				}
				next.Detail.V.Changed += int64(len(ids))
			} else {
				n, err := e.setAll(ctx, tx, ids, b.Detail.V, author)
				if err != nil {
					return err
				}
				next.Detail.V.Changed += int64(n)
			}
			if err := tx.SetBatch(ctx, &next); err != nil {
				return err
			}
			*b, done = next, len(ids)
			return nil
		})
		if err != nil || done == 0 {
			return err
		}
	}
	return ctx.Err()
}

func (e *People) setAll(
	ctx context.Context, tx store.Tx, ids []int64, d store.BatchDetail, a store.Author,
) (int, error) {
	people, err := tx.PeopleByID(ctx, ids)
	if err != nil {
		return 0, err
	}
	var marks []person.Field
	for f := range d.Set {
		if kind, _, _ := person.MarkOf(f); kind != "" {
			marks = append(marks, f)
		}
	}
	have, err := tx.Marks(ctx, ids, marks)
	if err != nil {
		return 0, err
	}
	var edits []store.Edit
	n := 0
	for _, id := range ids {
		p := people[id]
		if p == nil {
			continue
		}
		now := p.Values()
		for f, v := range have[id] {
			now[f] = v
		}
		if _, after := person.Diff(now, d.Set); len(after) > 0 {
			n++
		}
		edits = append(edits, store.Edit{P: p, Now: now, Set: d.Set})
	}
	if d.Ground != "" {
		a.How += " (" + d.Ground + ")"
	}
	return n, e.Applied(ctx, tx, edits, a)
}

// UndoBatch begins to take a batch back: every record that nothing else has
// changed since is set back to what it was.
func (e *People) UndoBatch(ctx context.Context, id, user int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		b, err := tx.LockBatch(ctx, id)
		if err != nil {
			return err
		}
		if !b.Undoable() {
			return store.ErrOver
		}
		if b.Kind == "merge" && b.Detail.V.Merge != nil {
			if err := tx.Unmerge(ctx, *b.Detail.V.Merge,
				store.Author{User: user, How: "undone", Batch: id, At: e.Now()}); err != nil {
				return err
			}
			b.State = "undone"
			return tx.SetBatch(ctx, &b)
		}
		b.State, b.Stop, b.Ended, b.Done = "undoing", false, nil, 0
		b.Detail.V.Undone, b.Detail.V.Kept = 0, 0
		return tx.SetBatch(ctx, &b)
	})
	if err != nil {
		return err
	}
	b, err := e.Store.Batch(ctx, id)
	if err != nil || b.State == "undone" {
		return err
	}
	return e.Ask(ctx, id)
}

func (e *People) undoBatch(ctx context.Context, b *store.Batch) error {
	author := store.Author{How: "undone", Batch: b.ID}
	if b.By != nil {
		author.User = *b.By
	}
	var before int64
	for ctx.Err() == nil {
		if err := e.progress(ctx, b); err != nil {
			return err
		}
		n := 0
		err := e.Store.InTx(ctx, func(tx store.Tx) error {
			author.At = e.Now()
			list, err := tx.BatchChanges(ctx, b.ID, before, bulkChunk)
			if err != nil || len(list) == 0 {
				return err
			}
			reverted, kept, err := e.revert(ctx, tx, list, author)
			if err != nil {
				return err
			}
			n = len(list)
			before = list[n-1].ID
			b.Done += int64(n)
			b.Detail.V.Undone += int64(reverted)
			b.Detail.V.Kept += int64(kept)
			return nil
		})
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if b.Kind != "import" {
		return nil
	}
	return e.undoNew(ctx, b)
}
