package today

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/right"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// home leads everybody to where their work begins.
func (s *Place) home(c *echo.Context) error {
	if shell.UserOf(c).Role == right.Rep {
		return c.Redirect(http.StatusSeeOther, "/desk")
	}
	return c.Redirect(http.StatusSeeOther, "/today")
}

// handoffsShown is how many of the handoffs that wait are shown.
const handoffsShown = 6

type todayData struct {
	Figures   store.Figures
	Trouble   []store.Touch
	Stopped   []store.Outbox
	Handoffs  []store.Handoff
	Alerts    []shell.Bundle
	Undo      string
	Risers    []store.Person
	Replies   []store.Incoming
	Unsure    []store.Incoming
	Sequences []store.Sequence
	Tide      shell.Tide
	Line      int
	Begin     []beginning // until a first sequence runs
	BeginDone int
}

// countedLately is what is counted over everybody.
func (s *Place) countedLately(ctx context.Context, now time.Time) (counted, error) {
	return shell.Lately(ctx, s.Shell, &s.counted, "", func(ctx context.Context) (counted, error) {
		return s.countAll(ctx, now, now.In(s.Engine.Zone()).AddDate(0, 0, 1-daysShown))
	})
}

// Warm counts it before anybody asks.
func (s *Place) Warm(ctx context.Context) error {
	_, err := s.countedLately(ctx, s.Engine.Now())
	return err
}

func (s *Place) today(c *echo.Context) error {
	ctx := c.Request().Context()
	now := s.Engine.Now()
	var d todayData
	var err error
	from := now.In(s.Engine.Zone()).AddDate(0, 0, 1-daysShown)
	all, err := s.countedLately(ctx, now)
	if err != nil {
		return err
	}
	d.Figures, d.Risers = all.figures, all.risers
	if d.Trouble, err = s.Store.Trouble(ctx, 20); err != nil {
		return err
	}
	if d.Stopped, err = s.Store.Stopped(ctx); err != nil {
		return err
	}
	d.Undo = c.QueryParam("undo")
	if d.Alerts, err = s.Bundles(ctx, shell.UserOf(c).ID); err != nil {
		return err
	}
	if d.Handoffs, err = s.Store.OpenHandoffs(ctx, 0, handoffsShown); err != nil {
		return err
	}
	if d.Replies, err = s.Store.LastReplies(ctx, 5); err != nil {
		return err
	}
	if d.Unsure, err = s.Store.UnsureIncoming(ctx, 0, 0, 20); err != nil {
		return err
	}
	if d.Sequences, err = s.Store.Sequences(ctx); err != nil {
		return err
	}
	if m, err := s.Store.Model(ctx); err == nil {
		d.Line = m.Line
	} else if !store.IsNotFound(err) {
		return err
	}
	if (shell.View{User: shell.UserOf(c)}).Writes() {
		if d.Begin, err = s.beginnings(c); err != nil {
			return err
		}
		for _, b := range d.Begin {
			if b.Done {
				d.BeginDone++
			}
		}
	}
	d.Tide = dayTide(all.days, from, daysShown)
	return s.Page(c, "today.html", "today", "Today", "Today", d)
}

// daysShown is over how many days it is shown what people did.
const daysShown = 42

// counted is what the page counts over everybody.
type counted struct {
	figures store.Figures
	risers  []store.Person
	days    []store.Day
}

func (s *Place) countAll(ctx context.Context, now, from time.Time) (x counted, err error) {
	if x.figures, err = s.Store.Figures(ctx, now.Add(-24*time.Hour)); err != nil {
		return x, err
	}
	if x.risers, err = s.Store.Risers(ctx, now.AddDate(0, 0, -7), 8); err != nil {
		return x, err
	}
	x.days, err = s.Store.Days(ctx, calendar.At(calendar.DateOf(from, s.Engine.Zone()), 0, s.Engine.Zone()),
		s.Engine.Zone().String())
	return x, err
}

// dayTide draws what people did by day, over the mail that went out.
func dayTide(days []store.Day, from time.Time, n int) shell.Tide {
	by := map[string]store.Day{}
	for _, d := range days {
		by[d.Day.Format("2006-01-02")] = d
	}
	t := shell.Tide{Name: "What people did, by day", Each: "Day",
		Names: [2]string{"Opened, clicked, answered or filled in", "Emails sent"}, Unfinished: true,
		W: 720, H: 150, Left: 40, Bottom: 22}
	for i := range n {
		day := from.AddDate(0, 0, i)
		d := by[day.Format("2006-01-02")]
		p := shell.TidePoint{Value: float64(d.Opens + d.Acts), Second: float64(d.Sent), Row: day.Format(shell.DayForm)}
		p.Title = fmt.Sprintf("%s: %d opened, clicked, answered or filled in; %d emails sent", day.Format("Mon 2 Jan"),
			d.Opens+d.Acts, d.Sent)
		if day.Weekday() == time.Monday {
			p.Tick = day.Format("2 Jan")
		}
		t.Points = append(t.Points, p)
	}
	t.Layout()
	return t
}

func (s *Place) resolve(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	how := c.FormValue("how")
	if how != "sent" && how != "again" && how != "pass" {
		return echo.ErrBadRequest
	}
	if err := s.Engine.Resolve(c.Request().Context(), id, how); err != nil {
		if store.IsNotFound(err) {
			return s.NotDone(c, "/today", "Somebody else has decided about this email meanwhile.")
		}
		return err
	}
	return s.Done(c, "/today",
		map[string]string{"sent": "Noted as sent. The sequence goes on.",
			"again": "It goes out again, under the same Message-ID.",
			"pass":  "Passed over. The sequence goes on without it."}[how])
}

// Routes are those of the place Today.
func (s *Place) Routes(in *echo.Group) {
	in.GET("/", s.home)
	in.GET("/today", s.today)
	in.POST("/touches/:id/resolve", s.resolve, shell.Allow(right.Marketer, right.Lead, right.Admin))
}
