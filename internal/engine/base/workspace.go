package base

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
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
	e.knows(w)
	return nil
}

func (e *Base) knows(w Workspace) {
	e.workspace.Store(&w)
	zone := e.Config.Zone
	if w.Zone != "" {
		if z, err := time.LoadLocation(w.Zone); err == nil { // checked when it was kept
			zone = z
		}
	}
	e.zone.Store(zone)
}

// SetWorkspace keeps what holds here. With another zone, scores whose days have
// moved are counted again.
func (e *Base) SetWorkspace(ctx context.Context, w Workspace) error {
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
	hours := calendar.OfficeHours(w.From, w.To)
	if err := hours.Check(); err != nil {
		return err
	}
	if len(w.Address) > 500 || strings.Count(w.Address, "\n") > 5 {
		return plainly.New("the sender’s address has at most six lines and 500 letters")
	}
	moved := w.Zone != e.Workspace().Zone
	var batch int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.KeepSetting(ctx, workspaceSetting, w); err != nil || !moved {
			return err
		}
		err := tx.DaysMoved(ctx)
		if err == nil {
			batch, err = e.Recount(ctx, tx)
		}
		return err
	})
	if err == nil {
		e.knows(w)
	}
	return e.AskFor(ctx, batch, err)
}
