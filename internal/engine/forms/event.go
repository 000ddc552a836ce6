package forms

import (
	"context"
	"slices"
	"time"

	"ombak/internal/core/event"
	"ombak/internal/core/message"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// Errors of events that users may read.
var (
	ErrFull     = plainly.New("all seats are taken")
	ErrIsOver   = plainly.New("the event is over")
	ErrIsOff    = plainly.New("the event is cancelled")
	ErrAttended = plainly.New("this event has people: cancel it instead, and they are told")
	ErrStanding = plainly.New("they cannot come from where they stand to that")
)

// Word is what is written to everybody registered when an event is moved or cancelled. The
// zero Word writes nothing.
type Word struct {
	Subject, Text string // as typed; a blank line parts paragraphs
}

// SaveEvent keeps an event, new where its id is 0. With another time it is moved: whoever
// waits for it on a sequence is looked at again. With a word, everybody who is registered
// gets it; told is how many.
func (e *Forms) SaveEvent(
	ctx context.Context, x event.Event, w Word, user int64,
) (id int64, told int64, err error) {
	x.Name, x.Note = person.Name(x.Name), base.Cut(x.Note, 500)
	x.Place, x.Link = base.Cut(person.Name(x.Place), 200), base.Cut(x.Link, 500)
	if err := x.Check(); err != nil {
		return 0, 0, err
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if x.ID == 0 {
			id, err = tx.SaveEvent(ctx, x, user, e.Now())
			return err
		}
		id = x.ID
		now, err := tx.LockEvent(ctx, id)
		if err != nil {
			return err
		}
		was := now.Core()
		x.Revision, x.Moved, x.Cancelled = was.Revision, was.Moved, was.Cancelled
		if moved := !x.Starts.Equal(was.Starts) || !x.Ends.Equal(was.Ends) || x.Zone != was.Zone; moved ||
			x.Place != was.Place || x.Link != was.Link {
			x.Revision++
			if moved {
				x.Moved = e.Now()
			}
		} else {
			w = Word{} // there is nothing to tell
		}
		told, err = e.changed(ctx, tx, x, w, user)
		return err
	})
	if err == nil {
		e.Nudge()
	}
	return id, told, err
}

// CancelEvent has an event not take place, or take place again.
func (e *Forms) CancelEvent(ctx context.Context, id int64, off bool, w Word, user int64) (told int64, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		now, err := tx.LockEvent(ctx, id)
		if err != nil {
			return err
		}
		x := now.Core()
		if x.Off() == off {
			return nil
		}
		x.Revision++
		if off {
			x.Cancelled = e.Now()
		} else {
			x.Cancelled, x.Moved = time.Time{}, e.Now()
		}
		told, err = e.changed(ctx, tx, x, w, user)
		return err
	})
	if err == nil {
		e.Nudge()
	}
	return told, err
}

// changed keeps an event as it is now, has those looked at who wait for it, and writes to
// those registered.
func (e *Forms) changed(ctx context.Context, tx store.Tx, x event.Event, w Word, user int64) (told int64, err error) {
	if _, err := tx.SaveEvent(ctx, x, user, e.Now()); err != nil {
		return 0, err
	}
	versions, err := tx.OpenVersions(ctx)
	if err != nil {
		return 0, err
	}
	var wake []int64
	for _, v := range versions {
		if events, _ := v.Plan.V.Events(); slices.Contains(events, x.ID) {
			wake = append(wake, v.ID)
		}
	}
	if len(wake) > 0 {
		if err := tx.WakeVersions(ctx, wake, e.Now()); err != nil {
			return 0, err
		}
	}
	if err := tx.Notify(ctx, news.Event.Of(x.ID)); err != nil || w == (Word{}) {
		return 0, err
	}
	doc, err := e.wordOf(ctx, x, w)
	if err != nil {
		return 0, err
	}
	m := store.Message{Name: "Word of “" + x.Name + "”", Doc: store.JSON[message.Document]{V: doc}, SenderID: &user}
	return tx.MailEvent(ctx, x, m, user, e.Now())
}

// wordOf is the letter that tells of an event.
func (e *Forms) wordOf(ctx context.Context, x event.Event, w Word) (message.Document, error) {
	if w.Subject == "" || w.Text == "" {
		return message.Document{}, plainly.New("write a subject and a few words to those who registered")
	}
	doc := message.Simple(w.Subject, message.Paragraphs(w.Text))
	doc.Event = x.ID
	fields, err := e.Fields(ctx)
	if err != nil {
		return doc, err
	}
	return doc, doc.Check(fields)
}

// RemoveEvent removes an event to which nobody stands.
func (e *Forms) RemoveEvent(ctx context.Context, id int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveEvent(ctx, id) })
	if err == store.ErrOver {
		return ErrAttended
	}
	return err
}

// kindOf are the signals of coming to a state.
var kindOf = map[event.State]signal.Kind{event.Registered: signal.Registered, event.Cancelled: signal.Cancelled,
	event.Came: signal.Came, event.StayedAway: signal.StayedAway}

// Attend has people stand to an event in a state from now on, each who can: nobody
// registers for more seats than there are, or for what is over or cancelled. It answers how
// many came to it, and why the first of the others did not; nil: none was left.
func (e *Forms) Attend(
	ctx context.Context, id int64, people []int64, to event.State, a store.Author,
) (done int, why error, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		done, why, err = e.attend(ctx, tx, id, people, to, a)
		return err
	})
	if err == nil {
		e.Nudge()
	}
	return done, why, err
}

func (e *Forms) attend(
	ctx context.Context, tx store.Tx, id int64, people []int64, to event.State, a store.Author,
) (done int, why error, err error) {
	a.At = e.Now()
	x, err := tx.LockEvent(ctx, id)
	if err != nil {
		return 0, nil, err
	}
	ev := x.Core()
	states, err := tx.StatesAt(ctx, id, people)
	if err != nil {
		return 0, nil, err
	}
	free := -1 // as many as come
	if x.Seats > 0 {
		free = max(x.Seats-int(x.Registered), 0)
	}
	var who []int64
	for _, p := range people {
		from := states[p]
		switch no := mayStand(&ev, from, to, free, a); {
		case from == to: // it is so already
			continue
		case no != nil:
			if why == nil {
				why = no
			}
			continue
		}
		if to == event.Registered && free > 0 {
			free--
		}
		states[p] = to // somebody who is named twice
		who = append(who, p)
	}
	if len(who) == 0 {
		return 0, why, nil
	}
	if err := tx.Attend(ctx, id, who, to, a); err != nil {
		return 0, nil, err
	}
	list := make([]store.Signal, len(who))
	for i, p := range who {
		list[i] = store.Signal{Person: p, Detail: ev.Name,
			Signal: signal.Signal{At: a.At, Kind: kindOf[to], Place: signal.Place{Event: id}}}
	}
	if err := tx.Notify(ctx, news.Event.Of(id)); err != nil {
		return 0, nil, err
	}
	return len(who), why, e.RecordSignals(ctx, tx, list)
}

// mayStand is why somebody cannot come from one state to another, or nil. Who is in charge
// (a user) may note afterwards what was so.
func mayStand(x *event.Event, from, to event.State, free int, a store.Author) error {
	switch {
	case from == to:
		return nil
	case !from.To(to):
		return ErrStanding
	case x.Off() && to != event.Cancelled:
		return ErrIsOff
	case a.User == 0 && (to == event.Registered || to == event.Cancelled) && !a.At.Before(x.Ends):
		return ErrIsOver
	case to == event.Registered && free == 0:
		return ErrFull
	}
	return nil
}

// CloseList notes of everybody who is registered still that they stayed away.
func (e *Forms) CloseList(ctx context.Context, id, user int64) (n int, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		x, err := tx.LockEvent(ctx, id)
		if err != nil {
			return err
		}
		if e.Now().Before(x.Ends) {
			return plainly.New("the event is not over yet")
		}
		rest, err := tx.Attending(ctx, id, event.Registered)
		if err != nil || len(rest) == 0 {
			return err
		}
		n, _, err = e.attend(ctx, tx, id, rest, event.StayedAway, store.Author{User: user, How: "list closed"})
		return err
	})
	if err == nil {
		e.Nudge()
	}
	return n, err
}

// registered registers whoever has filled in a page for the events it is the form of. Of
// one that is full or over it is an error, so that they are told.
func (e *Forms) registered(ctx context.Context, tx store.Tx, page, person int64, how string) error {
	events, err := tx.EventsOfPage(ctx, page)
	if err != nil {
		return err
	}
	for i := range events {
		x := events[i].Core()
		if x.Off() || !e.Now().Before(x.Ends) {
			continue // a form may serve one event after the other
		}
		_, why, err := e.attend(ctx, tx, x.ID, []int64{person}, event.Registered, store.Author{How: how})
		if err != nil {
			return err
		}
		if why == ErrFull {
			return why
		}
		return nil // the next one
	}
	return nil
}

// AddEvent makes the event that a sequence's draft in state n is still missing.
func (e *Forms) AddEvent(
	ctx context.Context, x event.Event, sequenceID int64, user int64,
) (id int64, err error) {
	if id, _, err = e.SaveEvent(ctx, x, Word{}, user); err != nil || sequenceID == 0 {
		return id, err
	}
	draft, err := e.Store.Draft(ctx, sequenceID)
	if err != nil {
		return id, err
	}
	_, err = e.EditPlan(ctx, sequenceID, draft.N, sequence.SetEvent{Event: id})
	return id, err
}
