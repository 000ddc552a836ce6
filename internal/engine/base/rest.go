package base

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/store"
)

// Holidays are those of a country; of an unknown one those of the workspace's.
func (e *Base) Holidays(country string) calendar.Holidays {
	all := e.rests.Load()
	if all == nil || len(*all) == 0 {
		return nil
	}
	if country == "" {
		country = e.Workspace().Country
	}
	return (*all)[country]
}

// Hours are those in which people work here.
func (e *Base) Hours() calendar.SendingHours {
	w := e.Workspace()
	return calendar.OfficeHours(w.From, w.To).Resting(e.Holidays(""))
}

// HoursOf are those in which a user works, and where: the workspace's where they say nothing else.
func (e *Base) HoursOf(w *desk.Worker) (calendar.SendingHours, *time.Location) {
	space := e.Workspace()
	return w.Works(calendar.OfficeHours(space.From, space.To), e.Holidays("")), w.In(e.Zone())
}

// Working says which dates are worked on here.
func (e *Base) Working() calendar.Working { return calendar.Working{Holidays: e.Holidays("")} }

// RestsChanged tells every process that holidays have changed.
func (e *Base) RestsChanged(ctx context.Context, tx store.Tx) error {
	w, err := e.WorkspaceNow(ctx, tx)
	if err != nil {
		return err
	}
	w.Rests++
	return tx.KeepSetting(ctx, workspaceSetting, w)
}

// WorkspaceNow is what holds here, as the database has it, locked until the transaction ends.
func (e *Base) WorkspaceNow(ctx context.Context, tx store.Tx) (Workspace, error) {
	w := usualWorkspace()
	if err := tx.LockSetting(ctx, workspaceSetting); err != nil {
		return w, err
	}
	_, err := tx.Setting(ctx, workspaceSetting, &w)
	return w, err
}

// ForgetRests has the holidays read again when the workspace is looked at next.
func (e *Base) ForgetRests() {
	e.restsOf.Store(-1)
	e.refreshed.Store(0)
}

// ReadRests reads the holidays and what holds here at once.
func (e *Base) ReadRests(ctx context.Context) error {
	e.restsOf.Store(-1)
	return e.readWorkspace(ctx)
}

// refreshRests reads the holidays where they are not those of a workspace.
func (e *Base) refreshRests(ctx context.Context, w *Workspace) error {
	if e.restsOf.Load() == w.Rests {
		return nil
	}
	all, err := e.Store.Holidays(ctx)
	if err != nil {
		return fmt.Errorf("reading the holidays: %w", err)
	}
	e.rests.Store(&all)
	e.restsOf.Store(w.Rests)
	return nil
}
