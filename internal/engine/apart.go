package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// SetApart moves months of signals to where the settings have old ones lie, and back to the others those that are not
// old by them any more. A month that somebody is at stays until the next night.
func (e *Engine) SetApart(ctx context.Context) error {
	if err := e.RefreshWorkspace(ctx); err != nil {
		return err
	}
	keep := e.Workspace().Keep
	months, err := e.Store.SignalMonths(ctx)
	if err != nil {
		return err
	}
	spaces, err := e.Store.Spaces(ctx)
	if err != nil {
		return err
	}
	if keep.Apart != 0 && !slices.Contains(spaces, keep.Space) {
		return fmt.Errorf("old months of signals cannot be set apart: there is no tablespace %q any more", keep.Space)
	}
	var errs []error
	for _, m := range months {
		space := spaceOf(keep, m, e.Now())
		if m.Space == space || ctx.Err() != nil {
			continue
		}
		start := time.Now()
		moved, err := e.Store.MoveMonth(ctx, m.Name, space)
		if errs = append(errs, err); err != nil {
			continue // one that cannot be moved keeps no other
		}
		if !moved {
			slog.WarnContext(ctx, "a month of signals was in use, and is moved another night", "month", m.Name)
			continue
		}
		slog.InfoContext(ctx, "a month of signals was moved", "month", m.Name, "to", space, "bytes", m.Bytes,
			"took", time.Since(start))
	}
	return errors.Join(append(errs, ctx.Err())...)
}

// spaceOf is where a month of signals is to lie at an instant: a month is as old as its last signal can be.
func spaceOf(k base.Keeping, m store.Month, now time.Time) string {
	if k.Apart == 0 || m.To().After(now.AddDate(0, -k.Apart, 0)) {
		return ""
	}
	return k.Space
}

// ApartIn is how much of the signals lies where.
type ApartIn struct {
	Space  string // empty: with everything else
	Months int
	Bytes  int64
	Moves  int // of them, how many are to lie elsewhere
}

// Apart tells where the months of signals lie, those with everything else first, and where they could.
func (e *Engine) Apart(ctx context.Context) (in []ApartIn, spaces []string, err error) {
	months, err := e.Store.SignalMonths(ctx)
	if err != nil {
		return nil, nil, err
	}
	in = []ApartIn{{}}
	keep, now := e.Workspace().Keep, e.Now()
	for _, m := range months {
		i := 0
		for i < len(in) && in[i].Space != m.Space {
			i++
		}
		if i == len(in) {
			in = append(in, ApartIn{Space: m.Space})
		}
		in[i].Months++
		in[i].Bytes += m.Bytes
		if spaceOf(keep, m, now) != m.Space {
			in[i].Moves++
		}
	}
	spaces, err = e.Store.Spaces(ctx)
	return in, spaces, err
}
