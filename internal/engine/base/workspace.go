package base

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/handoff"
	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// Workspace is what holds for everybody here.
type Workspace struct {
	Name     string    `json:"name"`
	Zone     string    `json:"zone"`           // an IANA name; empty: as the machine's settings say
	From     int       `json:"from"`           // working hours, in minutes since midnight
	To       int       `json:"to"`             //
	Address  string    `json:"address"`        // of the sender, as the law wants it under each email; a line each
	Currency string    `json:"currency"`       // in which deals are worth something (ISO 4217)
	Tried    time.Time `json:"tried,omitzero"` // when the mail server last took a test letter

	Country string                 `json:"country,omitempty"` // whose holidays hold where nobody says; a code, or empty
	Calling *calendar.SendingHours `json:"calling,omitempty"` // when people are called; nil: as usual
	Sending *calendar.SendingHours `json:"sending,omitempty"` // of a new sequence; nil: as usual
	Rest    sequence.Rest          `json:"rest,omitzero"`     // of a new sequence
	NoHold  bool                   `json:"no_hold,omitempty"` // a new sequence is launched without a launch hold

	AnswerIn  int   `json:"answer_in,omitempty"`  // working hours in which an answer is answered; 0: 4
	RespondIn int   `json:"respond_in,omitempty"` // working hours in which a handoff is decided; 0: 4
	Target    int64 `json:"target,omitempty"`     // what is wanted to be won in a month, in minor units; 0: nobody says
	Silent    bool  `json:"silent,omitempty"`     // nobody is reminded at the end of the response clock
	TellLead  int   `json:"tell_lead,omitempty"`  // working hours after its end until the lead is told; 0: never
	OfferNext int   `json:"offer_next,omitempty"` // and until it is offered to the next; 0: never
	PoolFor   int   `json:"pool_for,omitempty"`   // minutes for which what was taken from a pool is kept; 0: 30
	Rests     int64 `json:"rests,omitempty"`      // goes up whenever holidays change

	Keep Keeping `json:"keep,omitzero"`
}

// Keeping says for how many months single records are kept; 0: for ever. Sums of them stay.
type Keeping struct {
	Visits   int `json:"visits,omitempty"`   // visits of pages
	Moves    int `json:"moves,omitempty"`    // who joined and left audiences
	Changes  int `json:"changes,omitempty"`  // changes of records, until when they can be taken back
	Browsers int `json:"browsers,omitempty"` // browsers that somebody is known by, since they last came

	// Months of signals that are so many months old lie apart, in a tablespace of the database; 0: none do. They stay
	// part of all signals.
	Apart int    `json:"apart,omitempty"`
	Space string `json:"space,omitempty"`
}

// The bounds of what a Keeping says. What pages show day by day is younger than keptLeast.
const (
	keptLeast = 3
	keptMost  = 240
)

// Check reports what cannot be.
func (k Keeping) Check() error {
	for _, n := range []int{k.Visits, k.Moves, k.Changes, k.Browsers} {
		if n != 0 && (n < keptLeast || n > keptMost) {
			return plainly.Errorf("records are kept for %d to %d months, or for ever", keptLeast, keptMost)
		}
	}
	if k.Apart != 0 && (k.Apart < keptLeast || k.Apart > keptMost || k.Space == "") {
		return plainly.Errorf("signals are set apart, in a tablespace, after %d to %d months", keptLeast, keptMost)
	}
	return nil
}

// usualWorkspace is one that nobody has said anything of. Its hours are common
// practice, no source.
func usualWorkspace() Workspace { return Workspace{From: 8*60 + 30, To: 17 * 60, Currency: "EUR"} }

const workspaceSetting = "workspace"

// refreshAfter is how old what a process knows of the workspace may be.
const refreshAfter = 3 * time.Second

// Workspace is what holds here, as this process knows it: another process's
// change is known within seconds where something is worked on.
func (e *Base) Workspace() Workspace {
	if w := e.workspace.Load(); w != nil {
		return *w
	}
	return usualWorkspace()
}

// Zone is the workspace's time zone.
func (e *Base) Zone() *time.Location {
	if z := e.zone.Load(); z != nil {
		return z
	}
	return e.Config.Zone
}

// RefreshWorkspace reads what holds here where what this process knows is old.
func (e *Base) RefreshWorkspace(ctx context.Context) error {
	last, now := e.refreshed.Load(), time.Now().UnixNano()
	if now-last <= int64(refreshAfter) || !e.refreshed.CompareAndSwap(last, now) {
		return nil
	}
	return e.readWorkspace(ctx)
}

// readWorkspace reads what holds here.
func (e *Base) readWorkspace(ctx context.Context) error {
	w := usualWorkspace()
	if _, err := e.Store.Setting(ctx, workspaceSetting, &w); err != nil {
		return fmt.Errorf("reading what holds in the workspace: %w", err)
	}
	if err := e.refreshRests(ctx, &w); err != nil {
		return err
	}
	e.Knows(w)
	return nil
}

// Knows has this process know what holds here from now on.
func (e *Base) Knows(w Workspace) {
	e.workspace.Store(&w)
	zone := e.Config.Zone
	if w.Zone != "" {
		if z, err := time.LoadLocation(w.Zone); err == nil { // checked when it was kept
			zone = z
		}
	}
	e.zone.Store(zone)
}

// Check tidies what would hold here and reports what is wrong with it.
func (w *Workspace) Check() error {
	w.Name = person.Name(w.Name)
	w.Address = strings.TrimSpace(strings.ReplaceAll(w.Address, "\r\n", "\n"))
	if w.Zone != "" {
		if _, err := time.LoadLocation(w.Zone); err != nil || w.Zone == "Local" {
			return plainly.Errorf("%q is no time zone, such as Europe/Oslo", w.Zone)
		}
	}
	if w.Currency = strings.ToUpper(strings.TrimSpace(w.Currency)); !pipeline.KnownCurrency(w.Currency) {
		return plainly.New("a currency is a code of three letters, such as EUR")
	}
	if w.Country != "" && !calendar.KnownCountry(w.Country) {
		return plainly.Errorf("%q is no country’s code, such as NO", w.Country)
	}
	hours := calendar.OfficeHours(w.From, w.To)
	for _, h := range []*calendar.SendingHours{&hours, w.Calling, w.Sending} {
		if h == nil {
			continue
		}
		if err := h.Check(); err != nil {
			return err
		}
	}
	if err := w.Rest.Check(); err != nil {
		return err
	}
	if w.Target < 0 || w.Target > 1e15 {
		return plainly.New("a target is an amount of money, not below zero")
	}
	clock := w.ResponseClock()
	if err := errors.Join(clock.Check(), w.Keep.Check()); err != nil {
		return err
	}
	if w.AnswerIn < 0 || w.AnswerIn > 80 || w.PoolFor < 0 || w.PoolFor > 24*60 {
		return plainly.New("an answer waits at most 80 working hours, and what was taken at most a day")
	}
	if len(w.Address) > 500 || strings.Count(w.Address, "\n") > 5 {
		return plainly.New("the sender’s address has at most six lines and 500 letters")
	}
	return nil
}

// SetWorkspace keeps what holds here. With another zone, scores whose days have
// moved are counted again.
func (e *Base) SetWorkspace(ctx context.Context, w Workspace) error {
	if err := w.Check(); err != nil {
		return err
	}
	var batch int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		now, err := e.WorkspaceNow(ctx, tx)
		if err != nil {
			return err
		}
		w.Rests = now.Rests // what this process knows of it may be old
		batch, err = e.KeepWorkspace(ctx, tx, w)
		return err
	})
	if err == nil {
		e.Knows(w)
	}
	return e.AskFor(ctx, batch, err)
}

// KeepWorkspace keeps what holds here, once it is checked; Knows follows when that is
// committed. It answers the work of counting scores again, which begins by AskFor.
func (e *Base) KeepWorkspace(ctx context.Context, tx store.Tx, w Workspace) (batch int64, err error) {
	if err := tx.KeepSetting(ctx, workspaceSetting, w); err != nil {
		return 0, err
	}
	if err := tx.WindClocks(ctx); err != nil || w.Zone == e.Workspace().Zone {
		return 0, err
	}
	if err := tx.DaysMoved(ctx); err != nil {
		return 0, err
	}
	return e.Recount(ctx, tx, 0)
}

// RespondIn is for how many working hours a handoff waits before it is late, where nobody says
// otherwise (common practice, no source).
const RespondIn = 4

// ResponseClock is what happens where a rep does not answer a handoff.
func (w *Workspace) ResponseClock() handoff.Clock {
	return handoff.Clock{Respond: cmp.Or(w.RespondIn, RespondIn), Silent: w.Silent, Lead: w.TellLead, Next: w.OfferNext}
}

// CallingHours are the hours in which people are called.
func (w *Workspace) CallingHours() calendar.SendingHours {
	if w.Calling != nil {
		return *w.Calling
	}
	return desk.UsualCalling()
}
