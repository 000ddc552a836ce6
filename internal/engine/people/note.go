package people

import (
	"context"
	"strings"

	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/store"
)

// ErrNote is answered to a note that is too short or too long.
var ErrNote = plainly.New("a note has between one letter and 10,000")

// MaxNote is how many bytes a note has at most.
const MaxNote = 10_000

// AddNote notes something about a person.
func (e *People) AddNote(ctx context.Context, id, user int64, text string) error {
	text = strings.TrimSpace(strings.ToValidUTF8(text, ""))
	if text == "" || len(text) > MaxNote {
		return ErrNote
	}
	if _, err := e.Store.Person(ctx, id); err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.AddNote(ctx, id, user, text, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Person.About(id))
	})
}

// RemoveNote removes a note about a person.
func (e *People) RemoveNote(ctx context.Context, id, note int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.RemoveNote(ctx, id, note); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Person.About(id))
	})
}

// NotDuplicates keeps that two records are of two people.
func (e *People) NotDuplicates(ctx context.Context, a, b int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.NotDouble(ctx, a, b) })
}
