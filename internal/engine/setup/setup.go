// Package setup keeps what holds for everybody: who works here, stages, purposes,
// grounds.
package setup

import (
	"context"
	"encoding/json"
	"slices"

	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/engine/post"
	"ombak/internal/store"
)

// Setup keeps what holds for everybody.
type Setup struct {
	*base.Base
	*post.Post
}

// New readies the room.
func New(b *base.Base, t *post.Post) *Setup { return &Setup{b, t} }

// ErrNamePurpose is answered to a purpose without one.
var ErrNamePurpose = plainly.New("a purpose needs a name")

// AddPurpose adds something that people can agree to be written to for.
func (e *Setup) AddPurpose(ctx context.Context, name string) (id int64, err error) {
	if name = person.Name(name); name == "" {
		return 0, ErrNamePurpose
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.AddPurpose(ctx, name)
		return err
	})
	return id, err
}

// KeepStage changes a stage of the pipeline, or keeps a new one (ID 0).
func (e *Setup) KeepStage(ctx context.Context, st pipeline.Stage) (id int64, err error) {
	_, id, err = e.SetStage(ctx, st, 0)
	return id, err
}

// SetStage is KeepStage by a user (0: by nobody who signs in), and answers the change.
func (e *Setup) SetStage(ctx context.Context, st pipeline.Stage, user int64) (change, id int64, err error) {
	if err := st.Check(); err != nil {
		return 0, 0, err
	}
	if st.Nurture == 0 && st.After == 0 {
		st.After = usualAfter
	}
	change, err = e.changeStages(ctx, user, func(tx store.Tx) error {
		id, err = tx.KeepStage(ctx, st)
		return err
	})
	return change, id, err
}

// usualAfter is after how many days whoever is lost comes back, where nobody says (common practice, no source).
const usualAfter = 90

// ErrStageUsed is answered where a stage would go in which a deal has been.
var ErrStageUsed = plainly.New("deals are or were in this stage: it stays, and can be renamed")

// RemoveStage removes a stage in which no deal has been, and answers the change.
func (e *Setup) RemoveStage(ctx context.Context, id, user int64) (change int64, err error) {
	return e.changeStages(ctx, user, func(tx store.Tx) error { return removeStage(ctx, tx, id) })
}

func removeStage(ctx context.Context, tx store.Tx, id int64) error {
	n, err := tx.DealsIn(ctx, id)
	if err != nil {
		return err
	}
	if n > 0 {
		return ErrStageUsed
	}
	return tx.RemoveStage(ctx, id)
}

// MoveStage moves a stage up (−1) or down (1) in the order, and answers the change.
func (e *Setup) MoveStage(ctx context.Context, id int64, by int, user int64) (change int64, err error) {
	return e.changeStages(ctx, user, func(tx store.Tx) error {
		list, err := tx.LockStages(ctx)
		if err != nil {
			return err
		}
		var ids []int64
		for _, s := range list {
			ids = append(ids, s.ID)
		}
		i := slices.Index(ids, id)
		j := i + by
		if i < 0 || j < 0 || j >= len(ids) || list[i].Pipeline != list[j].Pipeline {
			return nil
		}
		ids[i], ids[j] = ids[j], ids[i]
		return tx.OrderStages(ctx, ids)
	})
}

// changeStages changes the stages, one user after the other, and keeps what was changed.
func (e *Setup) changeStages(
	ctx context.Context, user int64, f func(store.Tx) error,
) (change int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		was, err := tx.LockStages(ctx)
		if err != nil {
			return err
		}
		if err := f(tx); err != nil {
			return err
		}
		list, err := tx.LockStages(ctx)
		if err != nil {
			return err
		}
		in := map[int64]int{}
		for _, s := range list {
			if in[s.Pipeline]++; in[s.Pipeline] > pipeline.MaxStages {
				return plainly.Errorf("a pipeline has at most %d stages", pipeline.MaxStages)
			}
		}
		change, err = e.changed(ctx, tx, user,
			store.SettingChange{Kind: ofStages, Words: "the stages of the pipeline"}, was, list)
		if err != nil {
			return err
		}
		return tx.Notify(ctx, news.Pipeline)
	})
	return change, err
}

// restoreStages has the stages be as they were: those that came since go, where no deal has been in
// them, and those that went come back.
func (e *Setup) restoreStages(ctx context.Context, tx store.Tx, was []byte) error {
	var list []pipeline.Stage
	if err := json.Unmarshal(was, &list); err != nil {
		return err
	}
	now, err := tx.LockStages(ctx)
	if err != nil {
		return err
	}
	var ids []int64
	for _, st := range list {
		ids = append(ids, st.ID)
		if err := tx.RestoreStage(ctx, st); err != nil {
			return err
		}
	}
	for _, st := range now {
		if !slices.Contains(ids, st.ID) {
			if err := removeStage(ctx, tx, st.ID); err != nil {
				return err
			}
		}
	}
	if err := tx.OrderStages(ctx, ids); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Pipeline)
}

// UsualStages begins the pipeline with the stages many begin with, where there
// is none. Common practice, no source.
func (e *Setup) UsualStages(ctx context.Context) error {
	list, err := e.Store.Stages(ctx)
	if err != nil || len(list) > 0 {
		return err
	}
	for _, st := range []pipeline.Stage{{Name: "First talk", Share: 10}, {Name: "Need is clear", Share: 25},
		{Name: "Trial", Share: 50},
		{Name: "Offer", Share: 75}, {Name: "Won", Share: 100, Won: true}, {Name: "Lost", Lost: true}} {
		if _, err := e.KeepStage(ctx, st); err != nil {
			return err
		}
	}
	return nil
}

// AddGround lets another ground be named by sequences, and answers the change.
func (e *Setup) AddGround(ctx context.Context, name string, user int64) (change int64, err error) {
	if name = person.Name(name); name == "" || len(name) > 80 {
		return 0, plainly.New("a ground has a name of at most 80 letters")
	}
	return e.changeGrounds(ctx, user, func(tx store.Tx) error { return tx.AddGround(ctx, name) })
}

// RemoveGround lets a ground be named no more, and answers the change. Sequences that were launched on
// it go on.
func (e *Setup) RemoveGround(ctx context.Context, name string, user int64) (change int64, err error) {
	return e.changeGrounds(ctx, user, func(tx store.Tx) error { return tx.RemoveGround(ctx, name) })
}

func (e *Setup) changeGrounds(
	ctx context.Context, user int64, f func(store.Tx) error,
) (change int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		was, err := tx.Grounds(ctx)
		if err != nil {
			return err
		}
		if err := f(tx); err != nil {
			return err
		}
		is, err := tx.Grounds(ctx)
		if err != nil {
			return err
		}
		change, err = e.changed(ctx, tx, user,
			store.SettingChange{Kind: ofGrounds, Words: "the grounds that sequences can name"}, was, is)
		return err
	})
	return change, err
}

// restoreGrounds has the grounds be those that they were.
func restoreGrounds(ctx context.Context, tx store.Tx, was []byte) error {
	var list []string
	if err := json.Unmarshal(was, &list); err != nil {
		return err
	}
	now, err := tx.Grounds(ctx)
	if err != nil {
		return err
	}
	for _, name := range now {
		if !slices.Contains(list, name) {
			if err := tx.RemoveGround(ctx, name); err != nil {
				return err
			}
		}
	}
	for _, name := range list {
		if !slices.Contains(now, name) {
			if err := tx.AddGround(ctx, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// TestLetter sends a letter to a user by everybody's mail server, and keeps that
// it was taken.
func (e *Setup) TestLetter(ctx context.Context, to store.User) error {
	err := e.SendPlain(ctx, to, to.Email, "A test letter from Ombak",
		"This letter came from Ombak, by the mail server that everybody’s emails go out by.\n\nIf it lies among the "+
			"junk, set the DNS records that Ombak shows under Mailboxes.\n")
	if err != nil {
		return err
	}
	w := e.Workspace()
	w.Tried = e.Now()
	return e.SetWorkspace(ctx, w)
}
