package settings

import (
	"fmt"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// lateAfter is how long something may wait for its turn before it is late.
const lateAfter = time.Minute

// lagging is what waits of one kind of work, as the page shows it.
type lagging struct {
	store.Lag
	More   bool   // than are counted
	Behind string // by how much; empty: by nothing
	Late   bool
}

type runsData struct {
	Room    string
	List    []lagging
	Late    int
	Workers []time.Time
	At      time.Time
}

// runs shows what is done in the background, and how far it is behind.
func (s *Place) runs(c *echo.Context) error {
	ctx := c.Request().Context()
	d := runsData{Room: "runs", At: s.Engine.Now()}
	list, err := s.Store.Lags(ctx, d.At)
	if err != nil {
		return err
	}
	for _, l := range list {
		x := lagging{Lag: l, More: l.Waiting > store.MostWaiting}
		x.Waiting = min(x.Waiting, store.MostWaiting)
		if l.Since != nil {
			by := max(d.At.Sub(*l.Since), 0)
			if x.Late = by >= lateAfter; x.Late {
				d.Late++
			}
			if x.Behind = shell.Waits(by); by < time.Minute {
				x.Behind = fmt.Sprintf("%d s", int(by.Seconds()))
			}
		}
		d.List = append(d.List, x)
	}
	if d.Workers, err = s.Store.Workers(ctx); err != nil {
		return err
	}
	return s.Page(c, "runs.html", "runs", "Settings", "Background work", d)
}
