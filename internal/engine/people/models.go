package people

import (
	"context"
	"slices"

	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/store"
)

// MaxModels bounds how many models count beside each other: each counts everything that anybody does.
const MaxModels = 12

// Errors of there being several models.
var (
	ErrManyModels = plainly.Errorf("there are at most %d models", MaxModels)
	ErrModelName  = plainly.New("a model has a name, of at most 80 letters, that no other has")
	ErrFirstModel = plainly.New("the first model is whose score is meant where none is named: it stays")
)

// AddModel begins another model, for another product, with a draft: as another one is (0: with nothing). It counts
// nothing until the draft takes over. It answers its id.
func (e *People) AddModel(ctx context.Context, name string, like, user int64) (id int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.LockModel(ctx, 0); err != nil { // one after the other
			return orNoModel(err)
		}
		models, err := tx.Models(ctx)
		if err != nil {
			return err
		}
		if len(models) >= MaxModels {
			return ErrManyModels
		}
		if name, err = freeName(models, name, 0); err != nil {
			return err
		}
		draft := score.Model{Line: 15, CoolOff: 30}
		if like != 0 {
			i := slices.IndexFunc(models, func(m store.Model) bool { return m.ID == like })
			if i < 0 {
				return ErrNoModel
			}
			draft = models[i].Clone()
		}
		draft.Name = name
		if err := e.tidyModel(ctx, tx, &draft); err != nil {
			return err
		}
		if id, err = tx.AddModel(ctx, draft, store.Made{User: user, At: e.Now()}); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Model)
	})
	return id, err
}

// RenameModel gives a model another name.
func (e *People) RenameModel(ctx context.Context, id int64, name string) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if _, err := tx.LockModel(ctx, 0); err != nil {
			return orNoModel(err)
		}
		m, err := tx.LockModel(ctx, id)
		if err != nil {
			return orNoModel(err)
		}
		models, err := tx.Models(ctx)
		if err != nil {
			return err
		}
		if name, err = freeName(models, name, m.ID); err != nil {
			return err
		}
		if err := tx.RenameModel(ctx, m.ID, name); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Model)
	})
}

// RemoveModel has a model that nothing asks for count nothing any more, with its draft and its versions. The first one
// stays. What its crossings brought about stays as it is.
func (e *People) RemoveModel(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		first, err := tx.LockModel(ctx, 0)
		if err != nil {
			return orNoModel(err)
		}
		if id == 0 || id == first.ID {
			return ErrFirstModel
		}
		if _, err := tx.LockModel(ctx, id); err != nil {
			return orNoModel(err)
		}
		use, err := tx.ModelUse(ctx, id)
		if err != nil {
			return err
		}
		if err := InUse(use); err != nil {
			return err
		}
		for _, kind := range []string{"recount", "preview", "tally"} {
			if err := tx.StopBatches(ctx, kind, id); err != nil {
				return err
			}
		}
		if err := tx.RemoveModel(ctx, id, e.Now()); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Model)
	})
}

// dropAtOnce is how many scores of a model that was removed are dropped at a time.
const dropAtOnce = 20_000

// DropRemoved drops what models keep that were removed.
func (e *People) DropRemoved(ctx context.Context) error {
	for {
		var n int64
		err := e.Store.InTx(ctx, func(tx store.Tx) (err error) {
			n, err = tx.DropStandings(ctx, dropAtOnce)
			return err
		})
		if err != nil || n == 0 {
			return err
		}
	}
}

// freeName is a name that no other model has.
func freeName(models []store.Model, name string, of int64) (string, error) {
	name = person.Name(name)
	taken := slices.ContainsFunc(models, func(m store.Model) bool {
		return m.ID != of && rule.Fold(m.Name) == rule.Fold(name)
	})
	if name == "" || len(name) > score.MaxName || taken {
		return "", ErrModelName
	}
	return name, nil
}

func orNoModel(err error) error {
	if store.IsNotFound(err) {
		return ErrNoModel
	}
	return err
}
