// Package social has done on the network what steps ask of reps who leave it to the network, and
// takes in what people did there.
//
// An errand is written down before the network is asked, and asked for by its touch's number: it
// is done once, whatever fails in between.
package social

import (
	"context"
	"errors"
	"log/slog"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/core/social"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/post"
	"ombak/internal/engine/sales"
	"ombak/internal/network"
	"ombak/internal/store"
)

// Social meets the network.
type Social struct {
	*base.Base
	flow  *flow.Flow
	post  *post.Post
	sales *sales.Sales
}

// New readies it.
func New(b *base.Base, f *flow.Flow, t *post.Post, s *sales.Sales) *Social {
	return &Social{b, f, t, s}
}

// SetNetworkAccount has the network do a user's social touches, at most so many on a day, or with
// nil has them do it.
func (e *Social) SetNetworkAccount(ctx context.Context, user int64, limits *social.Limits) error {
	if limits != nil {
		if e.Network == nil {
			return plainly.New("no network is connected here")
		}
		if err := limits.Check(); err != nil {
			return err
		}
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.SetNetworkAccount(ctx, user, limits) })
}

// SetSocial keeps how often on a day a user does each act, and whether the network does them or
// they do.
func (e *Social) SetSocial(ctx context.Context, user int64, limits social.Limits, network bool) error {
	if err := limits.Check(); err != nil {
		return err
	}
	if network {
		return e.SetNetworkAccount(ctx, user, &limits)
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.SetSocialLimits(ctx, user, limits); err != nil {
			return err
		}
		return tx.SetNetworkAccount(ctx, user, nil)
	})
}

// perTurn is how much of one user a turn does.
const perTurn = 20

// MeetNetwork does a turn: it takes in what people did, does what waits and withdraws requests
// that have stood for long enough. It answers whether there was something to do. Without a
// network there is nothing.
func (e *Social) MeetNetwork(ctx context.Context) (bool, error) {
	if e.Network == nil {
		return false, nil
	}
	release, ok, err := e.Store.LockNetwork(ctx)
	if err != nil || !ok {
		return false, err
	}
	defer release()
	heard, err := e.hear(ctx)
	if err != nil {
		return heard, err
	}
	accounts, err := e.Store.NetworkAccounts(ctx)
	if err != nil {
		return heard, err
	}
	did := heard
	var wrong []error // of one of them, which keeps none of the others
	for _, a := range accounts {
		some, err := e.doFor(ctx, a)
		did, wrong = did || some, append(wrong, err)
	}
	some, err := e.withdraw(ctx)
	return did || some, errors.Join(append(wrong, err)...)
}

// doFor does what waits for a user, as far as the day has room.
func (e *Social) doFor(ctx context.Context, a store.NetworkAccount) (did bool, err error) {
	now := e.Now()
	list, err := e.Store.SocialWork(ctx, a.User, now, perTurn)
	if err != nil || len(list) == 0 {
		return false, err
	}
	today := calendar.At(calendar.DateOf(now, e.Zone()), 0, e.Zone())
	done, err := e.Store.ErrandsSince(ctx, a.User, today)
	if err != nil {
		return false, err
	}
	for i := range list {
		t := &list[i]
		begun, err := e.Store.BegunErrand(ctx, t.ID)
		if err != nil {
			return did, err
		}
		work, err := e.sales.WorkOf(ctx, t)
		if err != nil {
			return did, err
		}
		step, ok := work.(*sequence.Social)
		if !ok { // set aside by itself, for somebody to look at on the desk
			slog.Error("a touch on the network has another kind of step", "touch", t.ID, "kind", work.Kind().Word)
			if err := e.putOff(ctx, t.ID, now.Add(time.Hour)); err != nil {
				return did, err
			}
			continue
		}
		if !begun {
			until, err := e.mayBe(ctx, t, now)
			if err != nil {
				return did, err
			}
			if a.Limits.V.Room(step.What, done[string(step.What)]) == 0 {
				until = calendar.At(calendar.DateOf(now.In(e.Zone()).AddDate(0, 0, 1), e.Zone()), 0, e.Zone())
			}
			if until.After(now) { // a limit or the hours move it later
				if err := e.putOff(ctx, t.ID, until); err != nil {
					return did, err
				}
				continue
			}
		}
		if err := e.errand(ctx, a, t, step); err != nil {
			return did, err
		}
		done[string(step.What)]++
		did = true
	}
	return did, nil
}

// mayBe is when a touch may be made: in the hours of its step.
func (e *Social) mayBe(ctx context.Context, t *store.Touch, now time.Time) (time.Time, error) {
	p, err := e.flow.PlanOf(ctx, e.Store.Queries, t.Version)
	if err != nil {
		return now, err
	}
	zone, _ := calendar.ZoneFor(calendar.Whereabouts{Zone: t.Zone, Country: t.Country, City: t.City}, e.Zone())
	return p.MayGoOut(sequence.StepID(t.Step), now, zone, e.Holidays(t.Country))
}

func (e *Social) putOff(ctx context.Context, touch int64, until time.Time) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.PutOffWork(ctx, touch, until) })
}

// errand does one thing on the network.
func (e *Social) errand(ctx context.Context, a store.NetworkAccount, t *store.Touch, step *sequence.Social) error {
	now := e.Now()
	text, err := e.post.TextFor(ctx, step.Words(), t.Person, a.User)
	if _, plain := plainly.Says(err); plain { // a field of theirs is not known: no words go out with a gap
		return e.sales.FinishWork(ctx, t.ID, a.User, sequence.CouldNot, err.Error())
	}
	if err != nil {
		return err
	}
	x := store.Errand{Touch: t.ID, User: a.User, What: string(step.What)}
	if step.What == sequence.Connect && step.After > 0 {
		until := now.AddDate(0, 0, step.After)
		x.Withdraw = &until
	}
	may := false
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		may, err = tx.BeginErrand(ctx, x, now)
		return err
	})
	if err != nil || !may {
		return err
	}
	done, err := e.Network.Do(ctx, network.Errand{ID: idOf(t.ID), From: a.Email, Profile: t.Profile,
		What: string(step.What), Text: text, N: max(step.N, 1)})
	if err != nil {
		// It stays open, and is asked for again by the same number.
		return errors.Join(err, e.putOff(ctx, t.ID, now.Add(time.Minute)))
	}
	outcome := sequence.DidIt
	if !done {
		outcome = sequence.CouldNot
	}
	err = e.sales.FinishWork(ctx, t.ID, a.User, outcome, "by the network")
	if errors.Is(err, base.ErrGone) {
		return nil // somebody has recorded it meanwhile
	}
	return err
}

func idOf(touch int64) string { return "t" + strconv.FormatInt(touch, 10) }

// withdraw takes back the requests that have stood for long enough.
func (e *Social) withdraw(ctx context.Context) (bool, error) {
	list, err := e.Store.ToWithdraw(ctx, e.Now(), perTurn)
	if err != nil {
		return false, err
	}
	for _, id := range list {
		if err := e.Network.Withdraw(ctx, idOf(id)); err != nil {
			return false, err
		}
		if err := e.Store.InTx(ctx, func(tx store.Tx) error { return tx.Withdrew(ctx, id, e.Now()) }); err != nil {
			return false, err
		}
	}
	return len(list) > 0, nil
}

// How much is taken in at once, and how long what names it may be.
const (
	mostNews   = 500
	mostCursor = 500
)

// heard is the setting that says how far the network's news were taken in.
const heard = "network_heard"

// hear takes in what people did on the network, each once: how far it has come is kept in the same
// transaction.
func (e *Social) hear(ctx context.Context) (bool, error) {
	after := ""
	if _, err := e.Store.Setting(ctx, heard, &after); err != nil {
		return false, err
	}
	list, err := e.Network.News(ctx, after)
	if err != nil || len(list) == 0 {
		return false, err
	}
	if list = list[:min(len(list), mostNews)]; len(list[len(list)-1].Cursor) > mostCursor {
		return false, errors.New("the network's cursor is too long to be kept")
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		var out []store.Signal
		for _, n := range list {
			kind := social.News(n.What).Signal()
			touch, err := strconv.ParseInt(strings.TrimPrefix(n.Errand, "t"), 10, 64)
			if kind == 0 || err != nil {
				slog.Warn("the network tells what is not known", "what", n.What, "errand", n.Errand)
				continue
			}
			t, err := tx.Touch(ctx, touch)
			if store.IsNotFound(err) {
				continue // the record it was about is gone
			}
			if err != nil {
				return err
			}
			at := n.At // whatever its clock says, between the touch and now
			if now := e.Now(); at.After(now) {
				at = now
			}
			if at.Before(t.Made) {
				at = t.Made
			}
			if kind == signal.SocialReply {
				if err := e.answered(ctx, tx, &t, n, at); err != nil {
					return err
				}
			}
			out = append(out, store.Signal{Person: t.Person, Touch: t.ID, Detail: base.Cut(n.Text, 2000),
				Signal: signal.Signal{At: at, Kind: kind, Place: signal.Place{Sequence: t.Sequence, Step: t.Step}}})
		}
		if len(out) > 0 {
			if err := e.flow.RecordSignals(ctx, tx, out); err != nil {
				return err
			}
		}
		return tx.SetSetting(ctx, heard, list[len(list)-1].Cursor)
	})
	if err == nil {
		e.Nudge()
	}
	return true, err
}

// answered lays what somebody answered on the network on the desk of who answers them.
func (e *Social) answered(ctx context.Context, tx store.Tx, t *store.Touch, n network.News, at time.Time) error {
	in := store.Incoming{MailID: "network:" + base.Cut(n.Cursor, mostCursor), Person: &t.Person, Touch: &t.ID, At: at,
		Kind: signal.SocialReply, Sender: "the network", Said: base.Cut(n.Text, 2000), Body: base.Cut(n.Text, 2000)}
	if err := e.post.Answerable(ctx, tx, &in); err != nil {
		return err
	}
	if _, err := tx.AddIncoming(ctx, in); err != nil {
		return err
	}
	return tx.Notify(ctx, news.Desk.About(t.Person))
}
