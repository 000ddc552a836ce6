package people

import (
	"fmt"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/score"
	"ombak/internal/engine/people"
	"ombak/internal/web/shell"
)

// ledgerData is how somebody's score came about.
type ledgerData struct {
	X     people.Explained
	Tide  shell.Tide
	Typed string // the instant that is asked for, as a field has it; empty: now
	More  int    // lines that are not shown
	Past  bool   // it is not now
}

// mostLines is how many lines of a ledger are shown.
const mostLines = 60

// Band is in which band they are; empty: in none.
func (d ledgerData) Band() string {
	if i := score.BandOf(d.X.Model.Bands, d.X.Shown); i >= 0 {
		return d.X.Model.Bands[i].Name
	}
	return ""
}

// ledgerOf reads it, at the instant that the address asks for, or now.
func (s *Place) ledgerOf(c *echo.Context, person int64) (d ledgerData, err error) {
	at := s.Engine.Now()
	if t, err := time.ParseInLocation("2006-01-02T15:04", c.QueryParam("at"), s.Engine.Zone()); err == nil &&
		t.Year() > 1999 && t.Before(at.AddDate(2, 0, 0)) {
		d.Typed, d.Past, at = c.QueryParam("at"), true, t
	}
	if d.X, err = s.Engine.Explain(c.Request().Context(), person, at); err != nil || d.X.Model.Name == "" {
		return d, err
	}
	d.Tide = scoreTide(&d.X, s.Engine.Zone())
	d.More = max(len(d.X.Lines)-mostLines, 0)
	d.X.Lines = d.X.Lines[:len(d.X.Lines)-d.More]
	return d, nil
}

func scoreTide(x *people.Explained, zone *time.Location) shell.Tide {
	from, to := x.At.AddDate(0, 0, -90), x.At.AddDate(0, 0, 30)
	whole := to.Sub(from).Seconds()
	t := shell.Tide{Name: "Score over 90 days, and the next 30", Each: "From", Names: [2]string{"Points"}, Level: true,
		W: 720, H: 170, Left: 34, Bottom: 22, Mark: float64(x.Model.Line), MarkText: "ready line"}
	add := func(at time.Time, v float64) {
		t.Points = append(t.Points,
			shell.TidePoint{X: at.Sub(from).Seconds() / whole, Value: v, Row: at.In(zone).Format(shell.LongForm),
				Title: at.In(zone).Format(shell.LongForm) + fmt.Sprintf(": %g", v)})
	}
	past, last := true, 0.0
	for _, p := range x.Tides {
		if past && p.At.After(x.At) {
			add(x.At, x.Shown)
			t.Now, past = len(t.Points)-1, false
		}
		add(p.At, p.Value)
		last = p.Value
	}
	if past {
		add(x.At, x.Shown)
		t.Now, last = len(t.Points)-1, x.Shown
	}
	add(to, last)
	t.Layout()
	return t
}
