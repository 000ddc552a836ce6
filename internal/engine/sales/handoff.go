// Package sales hands people over to reps and keeps their desks and deals.
package sales

import (
	"context"
	"errors"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/news"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
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
	post     *post.Post
	learned  base.Kept[[]pipeline.Figures] // of stages, from the moves of deals
	outlooks base.KeptBy[outlook, Forecast]
	handed   base.KeptBy[handedKey, HandoffFigures]
}

// New readies the room; the flow has it do what comes to desks.
func New(b *base.Base, f *flow.Flow, p *post.Post) *Sales {
	e := &Sales{Base: b, Flow: f, post: p}
	f.Does("task", flow.Each(e.giveTasks))
	f.Does("open deal", flow.Each(e.openDeals))
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
	return e.AcceptInto(ctx, id, rep, 0)
}

// AcceptInto is Accept into an open deal, in which they take part from then on; 0: into one of their own.
func (e *Sales) AcceptInto(ctx context.Context, id, rep, join int64) (deal int64, err error) {
	now := e.Now()
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayWork(ctx, tx, rep, store.HandoffWork, id); err != nil {
			return err
		}
		deal, _, err = e.accept(ctx, tx, id, rep, join, now)
		return err
	})
	return deal, err
}

// accept is Accept for who may; fresh says that it opened the deal.
func (e *Sales) accept(
	ctx context.Context, tx store.Tx, id, rep, join int64, now time.Time,
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
	if join != 0 {
		did.Deal, did.Joined = join, true
		err = e.join(ctx, tx, join, h.Person, rep)
	} else {
		n := store.NewDeal{Person: h.Person, Rep: rep, Handoff: id}
		if h.Sequence != nil {
			n.Sequence = *h.Sequence
		}
		did.Deal, did.Fresh, err = e.openDeal(ctx, tx, n, now)
	}
	if err != nil {
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
			if did.Joined {
				if _, err := tx.RemovePart(ctx, did.Deal, h.Person); err != nil {
					return err
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
