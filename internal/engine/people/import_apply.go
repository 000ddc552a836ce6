package people

import (
	"context"
	"errors"
	"sync"

	"ombak/internal/core/plainly"
	"ombak/internal/store"
)

// apply makes people of the staged rows, piece by piece: each is kept as a
// whole, and is then no longer staged, so that a process that ends half way is
// followed by one that goes on with the rest.
func (e *People) apply(ctx context.Context, b *store.Batch, i *store.Import) error {
	pieces, err := e.Store.StagedPieces(ctx, b.ID, applyChunk)
	if err != nil {
		return err
	}
	b.Total = i.Counts.V.Rows - i.Counts.V.Rejected
	if len(pieces[0])+len(pieces[1]) == 0 && b.Done < b.Total {
		i.Checked = false
		return errors.Join(plainly.New("the database was restarted since the file was checked: check it once more; "+
			"rows that were brought in are known then"), e.Store.KeepImport(ctx, i))
	}
	author := store.Author{How: "import: " + b.Title, Batch: b.ID, At: e.Now()}
	if b.By != nil {
		author.User = *b.By
	}
	if b.Done == 0 {
		i.Counts.V = store.ImportCounts{Rows: i.Counts.V.Rows, Rejected: i.Counts.V.Rejected}
		if err := e.Store.KeepImport(ctx, i); err != nil {
			return err
		}
	}
	if err := e.Store.InTx(ctx, func(tx store.Tx) error {
		return tx.PrepareImport(ctx, &i.Options.V, author)
	}); err != nil {
		return err
	}
	if err := e.progress(ctx, b); err != nil {
		return err
	}
	var (
		mu      sync.Mutex
		wg      sync.WaitGroup
		stopped error
	)
	over := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return stopped != nil || ctx.Err() != nil
	}
	for _, share := range pieces {
		wg.Go(func() {
			for _, p := range share {
				if over() {
					return
				}
				var c store.ImportCounts
				piece := func(again bool) error {
					return e.Store.InTx(ctx, func(tx store.Tx) error {
						var err error
						if c, err = tx.ApplyRows(ctx, &i.Options.V, p, again, author); err != nil {
							return err
						}
						return tx.AddCounts(ctx, b.ID, c)
					})
				}
				err := piece(false)
				for try := 0; errors.Is(err, store.ErrTaken) && try < 5; try++ {
					err = piece(true)
				}
				mu.Lock()
				if err == nil {
					b.Done += c.New + c.Updated + c.Unchanged
					err = e.tellProgress(ctx, b)
				}
				if err != nil && stopped == nil {
					stopped = err
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if stopped != nil || ctx.Err() != nil {
		return errors.Join(stopped, ctx.Err())
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.ForgetFile(ctx, b.ID) })
}

// undoNew removes the people that an import made and nothing else has touched.
func (e *People) undoNew(ctx context.Context, b *store.Batch) error {
	var last int64
	for ctx.Err() == nil {
		more := false
		err := e.Store.InTx(ctx, func(tx store.Tx) error {
			to, gone, kept, err := tx.UndoNew(ctx, b.ID, last, bulkChunk)
			if err != nil || to == 0 {
				return err
			}
			last, more = to, true
			b.Done += gone + kept
			b.Detail.V.Undone += gone
			b.Detail.V.Kept += kept
			return nil
		})
		if err != nil {
			return err
		}
		if !more {
			return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.UndoRest(ctx, b.ID) })
		}
		if err := e.progress(ctx, b); err != nil {
			return err
		}
	}
	return ctx.Err()
}
