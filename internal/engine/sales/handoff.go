// Package sales hands people over to reps and keeps their desks and deals.
package sales

import (
	"context"
	"errors"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/post"
	"ombak/internal/store"
)

// Sales hands over.
type Sales struct {
	*base.Base
	*flow.Flow
	post    *post.Post
	learned learned // of stages, from the moves of deals
}

// New readies the room; the flow has it do what comes to desks.
func New(b *base.Base, f *flow.Flow, p *post.Post) *Sales {
	e := &Sales{Base: b, Flow: f, post: p}
	f.Does("task", flow.Each(e.giveTasks))
	f.Does("move deal", flow.Each(e.moveDeals))
	f.Does("alert", flow.Each(e.giveAlerts))
	f.Does("hand over", flow.Each(e.handOver))
	return e
}

// HandOver hands a person over by hand.
func (e *Sales) HandOver(ctx context.Context, person int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		can, err := tx.Handable(ctx, []int64{person})
		if err != nil {
			return err
		}
		if len(can) == 0 {
			return ErrHanded
		}
		return e.Do(ctx, tx,
			[]flow.Deed{{Act: act.HandOver{}, Occasion: flow.Occasion{Person: person, At: e.Now(), By: "hand"}}})
	})
}

// Errors of handing over.
var (
	ErrHanded   = plainly.New("they are with a rep already: an open handoff or an open deal")
	ErrNoReason = plainly.New("sending back needs a reason")
	ErrNoStage  = plainly.New("the pipeline has no stage yet: an admin or a lead names the stages in the settings")
)

// Accept accepts a handoff for a rep: a deal is opened in the first stage, or
// they join the open one, and the person leaves every sequence. It answers the deal.
func (e *Sales) Accept(ctx context.Context, id, rep int64) (deal int64, err error) {
	now := e.Now()
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayWork(ctx, tx, rep, store.HandoffWork, id); err != nil {
			return err
		}
		deal, _, err = e.accept(ctx, tx, id, rep, now)
		return err
	})
	return deal, err
}

// accept is Accept for who may; fresh says that it opened the deal.
func (e *Sales) accept(
	ctx context.Context, tx store.Tx, id, rep int64, now time.Time,
) (deal int64, fresh bool, err error) {
	h, err := tx.DecideHandoff(ctx, id, rep, "accepted", "", now)
	if store.IsNotFound(err) {
		return 0, false, base.ErrGone
	}
	if err != nil {
		return 0, false, err
	}
	if err := tx.EndClockAlerts(ctx, h.Person, now); err != nil {
		return 0, false, err
	}
	if ok, err := tx.AnyOpenStage(ctx); err != nil || !ok {
		return 0, false, errors.Join(err, ErrNoStage)
	}
	did := store.Accepted{Handoff: id}
	if did.Ways.V, err = tx.OpenWays(ctx, h.Person); err != nil {
		return 0, false, err
	}
	if did.Deal, did.Fresh, err = tx.OpenDeal(ctx, h, rep, now); err != nil {
		return 0, false, err
	}
	if err := tx.KeepAccepted(ctx, did); err != nil {
		return 0, false, err
	}
	if err := e.Leave(ctx, tx, h.Person, sequence.DealOpened, now); err != nil {
		return 0, false, err
	}
	return did.Deal, did.Fresh, tx.Notify(ctx, news.Desk.About(h.Person), news.Pipeline)
}

// ErrMovedOn is answered where something cannot be taken back any more.
var ErrMovedOn = plainly.New("it cannot be taken back any more: things have gone on since")

// TakeBack puts a handoff that a user accepted or sent back on the desk again.
// What accepting it did is undone: the deal goes, and the person is back in
// their sequences where they stood. It answers ErrMovedOn where somebody has
// worked on the deal since, or the person was handed over anew.
func (e *Sales) TakeBack(ctx context.Context, id, user int64) error {
	now := e.Now()
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		h, err := tx.LockHandoff(ctx, id)
		if err != nil {
			return err
		}
		if err := base.May(ctx, tx, user, h.Rep); err != nil {
			return err
		}
		if h.State == "accepted" {
			did, err := tx.TakeAccepted(ctx, id)
			if store.IsNotFound(err) {
				return ErrMovedOn
			}
			if err != nil {
				return err
			}
			if did.Fresh {
				gone, err := tx.RemoveFreshDeal(ctx, did.Deal)
				if err != nil || !gone {
					return errors.Join(err, ErrMovedOn)
				}
			}
			if err := tx.ReopenWays(ctx, did.Ways.V, sequence.DealOpened, *h.Decided, now); err != nil {
				return err
			}
		}
		if h.Comeback != 0 {
			if ok, err := tx.RemoveComeback(ctx, h.Comeback); err != nil || !ok {
				return errors.Join(err, ErrMovedOn)
			}
		}
		if err := tx.SetBack(ctx, id, nil, 0); err != nil {
			return err
		}
		if ok, err := tx.ReopenHandoff(ctx, id); err != nil || !ok {
			return errors.Join(err, ErrMovedOn)
		}
		return tx.Notify(ctx, news.Desk.About(h.Person), news.Pipeline)
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// MoveDeal puts a deal into a stage, before another one of it (0: at its end).
func (e *Sales) MoveDeal(ctx context.Context, deal, stage, before, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, _ *int64, _ int64) error {
		if _, err := tx.MoveDeal(ctx, deal, stage, before, user, e.Now()); err != nil {
			return err
		}
		return tx.FollowLost(ctx, []int64{deal}, e.Now())
	})
}

// SetAmount keeps what a deal is worth, in minor units of its currency.
func (e *Sales) SetAmount(ctx context.Context, deal, amount, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, _ *int64, was int64) error {
		if was == amount {
			return nil
		}
		return tx.SetAmount(ctx, deal, was, amount, user, e.Now())
	})
}

// GiveDeal gives a deal to a rep; 0: to nobody.
func (e *Sales) GiveDeal(ctx context.Context, deal, rep, user int64) error {
	return e.changeDeal(ctx, deal, user, func(tx store.Tx, was *int64, _ int64) error {
		var to *int64
		if rep != 0 {
			if role, err := tx.RoleOf(ctx, rep); err != nil || role == right.Marketer {
				return errors.Join(err, plainly.New("a deal is for a rep, a lead or an admin"))
			}
			to = &rep
		}
		if was == to || was != nil && to != nil && *was == *to {
			return nil
		}
		return tx.SetDealOwner(ctx, deal, was, to, user, e.Now())
	})
}

// changeDeal changes a deal that is the user's to change.
func (e *Sales) changeDeal(
	ctx context.Context, deal, user int64, change func(tx store.Tx, rep *int64, amount int64) error,
) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		rep, amount, err := tx.LockDeal(ctx, deal)
		if err != nil {
			return err
		}
		if err := base.May(ctx, tx, user, rep); err != nil {
			return err
		}
		if err := change(tx, rep, amount); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Pipeline.AboutSomebody())
	})
}
