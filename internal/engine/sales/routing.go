package sales

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/handoff"
	"ombak/internal/core/news"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
)

// cases readies what decides who gets people, whose owners are given.
func (e *Sales) cases(
	ctx context.Context, q store.Queries, owners map[int64]int64,
) (map[int64]handoff.Case, error) {
	ids := slices.Sorted(maps.Keys(owners))
	company, err := q.CompanyOwners(ctx, ids)
	if err != nil {
		return nil, err
	}
	places, err := q.Territories(ctx)
	if err != nil {
		return nil, err
	}
	var records map[int64]*rule.Record
	var kept map[int64]flow.Kept
	if len(places) > 0 {
		if records, err = q.Records(ctx, ids); err != nil {
			return nil, err
		}
		if kept, err = e.KeptOf(ctx, q, ids); err != nil {
			return nil, err
		}
	}
	now := e.Now()
	out := make(map[int64]handoff.Case, len(ids))
	for _, id := range ids {
		c := handoff.Case{Owner: owners[id], Company: company[id]}
		who := flow.NewStanding(records[id], nil, kept[id])
		for _, p := range places {
			if records[id] != nil && p.Rule.V.Holds(who, now) {
				c.Places = append(c.Places, handoff.Territory{ID: p.ID, Name: p.Name, Rep: p.User, Team: p.Team})
			}
		}
		out[id] = c
	}
	return out, nil
}

// WhoWouldGet is who would get somebody who was handed over now, and why. Nothing comes of it.
func (e *Sales) WhoWouldGet(ctx context.Context, person int64) (d handoff.Decision, name string, err error) {
	p, err := e.Store.Person(ctx, person)
	if err != nil {
		return d, "", err
	}
	owner := int64(0)
	if p.OwnerID != nil {
		owner = *p.OwnerID
	}
	reps, err := e.Store.RepsNow(ctx, e.Now(), e.Zone())
	if err != nil {
		return d, "", err
	}
	cases, err := e.cases(ctx, e.Store.Queries, map[int64]int64{person: owner})
	if err != nil {
		return d, "", err
	}
	d = handoff.Route(cases[person], reps)
	if i := slices.IndexFunc(reps, func(r handoff.Rep) bool { return r.ID == d.Rep }); i >= 0 {
		name = reps[i].Name
	}
	return d, name, nil
}

// ErrTheirs is answered where somebody asks for a person who is another rep’s; who that is is told of it.
var ErrTheirs = plainly.New("they are another rep’s, who is told that you ask for them")

// AskForThem has a rep get somebody who is nobody’s or theirs. Where they are another’s, that one is told, and it is
// ErrTheirs.
func (e *Sales) AskForThem(ctx context.Context, person, user int64) error {
	var told error
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		can, err := tx.Handable(ctx, []int64{person})
		if err != nil {
			return err
		}
		owner, ok := can[person]
		if !ok {
			return ErrHanded
		}
		if owner != 0 && owner != user {
			name, err := tx.UserName(ctx, user)
			if err != nil {
				return err
			}
			told = ErrTheirs
			return e.told(ctx, tx, []store.NewTask{{Person: person, To: owner, Alert: true,
				Words: name + " asks for them.", How: "asked for", At: e.Now()}})
		}
		list := []store.NewHandoff{{Person: person, Rep: user, MadeBy: "hand", How: "asked for them", At: e.Now()}}
		if err := e.brief(ctx, tx, list); err != nil {
			return err
		}
		if _, err := tx.AddHandoffs(ctx, list); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.About(person))
	})
	if err == nil {
		err = told
	}
	return err
}

// RunClocks looks at up to n handoffs whose response clock has come to a step: their reps are reminded, the leads are
// told, or they are offered to the next. It answers how many it looked at. A clock is late by as long as no worker was
// there, and each step is done once.
func (e *Sales) RunClocks(ctx context.Context, n int) (int, error) {
	looked := 0
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		now := e.Now()
		list, err := tx.DueClocks(ctx, now, n)
		if looked = len(list); err != nil || looked == 0 {
			return err
		}
		w := e.Workspace()
		ticks := w.ResponseClock().Ticks()
		users := map[int64]works{}
		for i := range list {
			if err := e.runClock(ctx, tx, &list[i], ticks, users, now); err != nil {
				return err
			}
		}
		return nil
	})
	return looked, err
}

// runClock does the steps of one clock that have come, and says when it is looked at again.
func (e *Sales) runClock(
	ctx context.Context, tx store.Tx, h *store.Clocked, ticks []handoff.Tick, users map[int64]works, now time.Time,
) error {
	own, ok := users[h.Rep]
	if !ok {
		var err error
		if own, err = e.worksOf(ctx, h.Rep); err != nil {
			return err
		}
		users[h.Rep] = own
	}
	step := h.Step
	for ; step < len(ticks); step++ {
		due, err := own.hours.After(h.From, ticks[step].After, own.zone)
		if err != nil {
			return err
		}
		if due.After(now) {
			return tx.SetClock(ctx, h.ID, step, &due)
		}
		on, err := e.tick(ctx, tx, h, ticks[step].Do, now)
		if err != nil || on { // its clock runs anew, for another
			return err
		}
	}
	return tx.SetClock(ctx, h.ID, step, nil)
}

// tick does one step of a clock; on: another rep has it now.
func (e *Sales) tick(
	ctx context.Context, tx store.Tx, h *store.Clocked, do handoff.Deed, now time.Time,
) (on bool, err error) {
	alert := store.NewTask{Person: h.Person, Alert: true, How: store.ClockAlert, At: now}
	switch do {
	case handoff.Remind:
		alert.To, alert.Words = h.Rep, "The time to answer a handoff has run out."
	case handoff.TellLead:
		alert.Role, alert.Words = right.Lead, h.RepName+" has not answered a handoff in time."
	default:
		return e.offerOn(ctx, tx, h, now)
	}
	return false, e.told(ctx, tx, []store.NewTask{alert})
}

// offerOn offers a handoff to whoever is next; where there is nobody it stays where it is.
func (e *Sales) offerOn(ctx context.Context, tx store.Tx, h *store.Clocked, now time.Time) (on bool, err error) {
	reps, err := tx.RepsInTurn(ctx, now, e.Zone())
	if err != nil {
		return false, err
	}
	cases, err := e.cases(ctx, tx.Queries, map[int64]int64{h.Person: 0})
	if err != nil {
		return false, err
	}
	c := cases[h.Person]
	c.Not = append(slices.Clone(h.Offered.V), h.Rep)
	d := handoff.Route(c, reps)
	if d.Rep == 0 {
		return false, nil
	}
	d.Why = append([]string{h.RepName + " did not answer in time"}, d.Why...)
	if err := errsOf(tx.OfferOn(ctx, h.ID, d, now), tx.EndClockAlerts(ctx, h.Person, now)); err != nil {
		return false, err
	}
	handoff.Given(reps, d.Rep, now)
	if err := errsOf(tx.HadTurn(ctx, d.Rep, now), tx.KeepTurns(ctx, reps)); err != nil {
		return false, err
	}
	return true, tx.Notify(ctx, news.Desk.About(h.Person))
}

func errsOf(list ...error) error {
	for _, err := range list {
		if err != nil {
			return err
		}
	}
	return nil
}

// Back is why somebody is sent back, and what follows.
type Back struct {
	Reason   string
	CoolOff  int    // days in which they do not cross the ready line again
	GoesOn   string // store.Nowhere, store.WhereFrom or store.OnWith
	Sequence int64  // of store.OnWith
	Step     int32  // of the sequence; 0: its beginning
}

// MostCoolOff bounds for how long somebody is left in peace, in days.
const MostCoolOff = 366

// SendBack sends a handoff back for a reason. They can cross the ready line again once the cool-off is over, and
// nurture goes on for them at that time where the reason says.
func (e *Sales) SendBack(ctx context.Context, id, rep int64, b Back) error {
	b.Reason = base.Cut(strings.TrimSpace(b.Reason), 500)
	if b.Reason == "" {
		return ErrNoReason
	}
	if b.CoolOff < 0 || b.CoolOff > MostCoolOff {
		return plainly.Errorf("the cool-off is 0 to %d days", MostCoolOff)
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayWork(ctx, tx, rep, store.HandoffWork, id); err != nil {
			return err
		}
		now := e.Now()
		h, err := tx.DecideHandoff(ctx, id, rep, "sent back", b.Reason, now)
		if store.IsNotFound(err) {
			return base.ErrGone
		}
		if err != nil {
			return err
		}
		if err := tx.EndClockAlerts(ctx, h.Person, now); err != nil {
			return err
		}
		var until *time.Time
		if b.CoolOff > 0 {
			t := calendar.Span{N: b.CoolOff, Unit: calendar.Days}.After(now, e.Zone(), calendar.Working{})
			until = &t
		}
		comeback, err := e.nurture(ctx, tx, &h, &b, until, rep)
		if err != nil {
			return err
		}
		if err := errsOf(tx.SetBack(ctx, id, until, comeback), tx.Rearm(ctx, h.Person, now)); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.About(h.Person))
	})
}

// nurture has somebody who is sent back come into a sequence again once the cool-off is over.
func (e *Sales) nurture(
	ctx context.Context, tx store.Tx, h *store.Handoff, b *Back, until *time.Time, user int64,
) (int64, error) {
	seq := b.Sequence
	switch b.GoesOn {
	case store.OnWith:
		if seq <= 0 {
			return 0, plainly.New("choose the sequence in which nurture goes on")
		}
	case store.WhereFrom:
		if seq = 0; h.Sequence != nil {
			seq = *h.Sequence
		}
		if seq == 0 {
			var err error
			if seq, err = tx.CameFrom(ctx, h.Person, h.Made); err != nil || seq == 0 {
				return 0, err
			}
		}
	default:
		return 0, nil
	}
	if _, err := tx.Sequence(ctx, seq); err != nil {
		if store.IsNotFound(err) {
			return 0, plainly.New("choose the sequence in which nurture goes on")
		}
		return 0, err
	}
	due := e.Now()
	if until != nil {
		due = *until
	}
	return tx.AddComeback(ctx, store.NewComeback{Person: h.Person, Sequence: seq, Step: b.Step, Due: due, Made: e.Now(),
		Why: fmt.Sprintf("sent back: %s", b.Reason), User: user})
}
