package sales

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"

	"ombak/internal/core/contact"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/phone"
	"ombak/internal/store"
)

// Errors of the phone.
var (
	ErrNoPhone  = plainly.New("no phone is connected: dial by yourself")
	ErrNoNumber = plainly.New("no number of theirs is known, or they are not to be called")
)

// Dial has the phone ring who is to be called, for who has the item in hand.
func (e *Sales) Dial(ctx context.Context, touch, user int64) (phone.Call, error) {
	if e.Phone == nil {
		return phone.Call{}, ErrNoPhone
	}
	var c store.PhoneCall
	to, from := "", ""
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayWork(ctx, tx, user, store.CallWork, touch); err != nil {
			return err
		}
		t, err := tx.Touch(ctx, touch)
		if err != nil {
			return err
		}
		people, err := tx.PeopleByID(ctx, []int64{t.Person})
		if err != nil {
			return err
		}
		p := people[t.Person]
		if t.Kind != "call" || p == nil || contact.Why(p.Reach(), contact.Call, contact.Ground{Other: "any"}) != "" {
			return ErrNoNumber
		}
		u, err := tx.User(ctx, user)
		if err != nil {
			return err
		}
		to, from = p.Phone, u.Phone
		c = store.PhoneCall{Touch: touch, Call: fmt.Sprintf("w%d-%s", touch, rand.Text()), User: user, At: e.Now()}
		return tx.KeepPhoneCall(ctx, c)
	})
	if err != nil {
		return phone.Call{}, err
	}
	return e.Phone.Dial(ctx, c.Call, from, to)
}

// LastCall is the last call for an item as it was kept, without asking the exchange: one that is not known to be over
// rings. False: none was made by the user.
func (e *Sales) LastCall(ctx context.Context, touch, user int64) (phone.Call, bool, error) {
	_, x, there, err := e.lastCall(ctx, touch, user)
	return x, there, err
}

func (e *Sales) lastCall(ctx context.Context, touch, user int64) (c store.PhoneCall, x phone.Call, there bool,
	err error) {
	c, err = e.Store.PhoneCall(ctx, touch)
	switch {
	case store.IsNotFound(err):
		return c, x, false, nil
	case err == nil && (c.User != user || e.Phone == nil || c.Ended && c.Outcome == ""):
		return c, x, false, nil
	case err != nil:
		return c, x, false, err
	case c.Ended:
		return c, phone.Call{State: phone.Ended, End: phone.End(c.Outcome), Seconds: c.Seconds}, true, nil
	}
	return c, phone.Call{State: phone.Ringing}, true, nil
}

// OnThePhone is how far the last call for an item is; false: none was made by the user, or the exchange knows nothing
// of it, and it can be made.
func (e *Sales) OnThePhone(ctx context.Context, touch, user int64) (phone.Call, bool, error) {
	c, x, there, err := e.lastCall(ctx, touch, user)
	if err != nil || !there || x.State == phone.Ended {
		return x, there, err
	}
	x, err = e.Phone.State(ctx, c.Call)
	if errors.Is(err, phone.ErrNoCall) {
		return phone.Call{}, false, e.ended(ctx, c, phone.Call{State: phone.Ended})
	}
	if err != nil {
		return x, true, err
	}
	return x, true, e.ended(ctx, c, x)
}

// HangUp ends the last call for an item.
func (e *Sales) HangUp(ctx context.Context, touch, user int64) (phone.Call, error) {
	c, err := e.Store.PhoneCall(ctx, touch)
	if err != nil || c.User != user || e.Phone == nil {
		return phone.Call{}, orMissing(err)
	}
	x, err := e.Phone.HangUp(ctx, c.Call)
	if errors.Is(err, phone.ErrNoCall) { // as good as hung up
		x, err = phone.Call{State: phone.Ended}, nil
	}
	if err != nil {
		return x, err
	}
	return x, e.ended(ctx, c, x)
}

func orMissing(err error) error {
	if err == nil {
		err = store.ErrNotFound
	}
	return err
}

// ended keeps how a call ended, once it has.
func (e *Sales) ended(ctx context.Context, c store.PhoneCall, x phone.Call) error {
	if x.State != phone.Ended || c.Ended {
		return nil
	}
	c.Ended, c.Outcome, c.Seconds = true, string(x.End), x.Seconds
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.KeepPhoneCall(ctx, c) })
}

// CameOf is the outcome that a call suggests by how it ended; empty: none.
func CameOf(x phone.Call) sequence.Outcome {
	if x.State == phone.Ringing {
		return ""
	}
	return map[phone.End]sequence.Outcome{phone.Answered: sequence.TheyTalked, phone.Voicemail: sequence.LeftMessage,
		phone.Engaged: sequence.NoAnswer, phone.NoAnswer: sequence.NoAnswer,
		phone.NoNumber: sequence.WrongNumber}[x.End]
}

// talked keeps with work that is done for how long somebody talked, where the phone made the call; a
// call that still goes on is over by that.
func (e *Sales) talked(ctx context.Context, touch, user int64) {
	x, there, err := e.OnThePhone(ctx, touch, user)
	if err == nil && there && x.State != phone.Ended {
		x, err = e.HangUp(ctx, touch, user)
	}
	if err == nil && there && x.Seconds > 0 {
		err = e.Store.InTx(ctx, func(tx store.Tx) error { return tx.SetTalked(ctx, touch, x.Seconds) })
	}
	if err != nil { // the outcome is kept all the same
		slog.Warn("how long a call took is not kept", "touch", touch, "error", err)
	}
}
