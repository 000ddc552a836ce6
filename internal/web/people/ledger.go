package people

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/score"
	"ombak/internal/engine/people"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// ledgerData is how somebody's score came about.
type ledgerData struct {
	X     people.Explained
	Tide  shell.Tide
	Typed string // the instant that is asked for, as a field has it; empty: now
	More  int    // lines that are not shown
	Past  bool   // it is not now
	Model int64  // whose score it is, as the address says; 0: that of the first
	All   []standsBy
}

// standsBy is how somebody stands by one of several models.
type standsBy struct {
	Name   string
	Query  string // of the address
	Score  float64
	Line   int
	Chosen bool
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

// ledgerOf reads it, at the instant and by the model that the address asks for, or now and by the first.
func (s *Place) ledgerOf(ctx context.Context, person int64, asks url.Values) (d ledgerData, err error) {
	at := s.Engine.Now()
	if t, err := time.ParseInLocation("2006-01-02T15:04", asks.Get("at"), s.Engine.Zone()); err == nil &&
		t.Year() > 1999 && t.Before(at.AddDate(2, 0, 0)) {
		d.Typed, d.Past, at = asks.Get("at"), true, t
	}
	models, err := s.Store.Models(ctx)
	if err != nil {
		return d, err
	}
	asked := shell.Number(asks.Get("model"))
	if i := slices.IndexFunc(models, func(m store.Model) bool { return m.ID == asked }); i > 0 {
		d.Model = asked
	}
	if d.X, err = s.Engine.Explain(ctx, person, d.Model, at); err != nil || d.X.Model.Name == "" {
		return d, err
	}
	if len(models) > 1 {
		if d.All, err = s.standsBy(ctx, person, models, d.Model); err != nil {
			return d, err
		}
	}
	d.Tide = scoreTide(&d.X, s.Engine.Zone())
	d.More = max(len(d.X.Lines)-mostLines, 0)
	d.X.Lines = d.X.Lines[:len(d.X.Lines)-d.More]
	return d, nil
}

// standsBy is how somebody stands by each model now.
func (s *Place) standsBy(ctx context.Context, person int64, models []store.Model, chosen int64) ([]standsBy, error) {
	kept, err := s.Engine.KeptOf(ctx, s.Store.Queries, []int64{person})
	if err != nil {
		return nil, err
	}
	var out []standsBy
	for i := range models {
		x := standsBy{Name: models[i].Name, Line: models[i].Line,
			Chosen: models[i].ID == chosen || i == 0 && chosen == 0}
		if i > 0 {
			x.Query = "?model=" + strconv.FormatInt(models[i].ID, 10)
		}
		for _, k := range kept[person] {
			if k.Model == models[i].ID {
				x.Score = k.Score
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// mostTides is how many changes of a score are drawn one by one.
const mostTides = 150

// byDay are the first, and the last of each day of a zone.
func byDay(list []score.Tide, zone *time.Location) []score.Tide {
	out := list[:1:1]
	for i, t := range list[1:] {
		if next := i + 2; next == len(list) ||
			calendar.DateOf(list[next].At, zone) != calendar.DateOf(t.At, zone) {
			out = append(out, t)
		}
	}
	return out
}

func scoreTide(x *people.Explained, zone *time.Location) shell.Tide {
	from, to := x.At.AddDate(0, 0, -90), x.At.AddDate(0, 0, 30)
	whole := to.Sub(from).Seconds()
	t := shell.Tide{Name: "Score over 90 days, and the next 30", Each: "From", Names: [2]string{"Points"}, Level: true,
		W: 720, H: 170, Left: 34, Bottom: 22, Mark: float64(x.Model.Line), MarkText: "ready line"}
	for _, b := range x.Model.Bands {
		t.Bands = append(t.Bands, shell.TideBand{From: float64(b.From), Name: b.Name})
	}
	add := func(at time.Time, v float64) {
		t.Points = append(t.Points,
			shell.TidePoint{X: at.Sub(from).Seconds() / whole, Value: v, Row: at.In(zone).Format(shell.LongForm),
				Title: at.In(zone).Format(shell.LongForm) + fmt.Sprintf(": %g", v)})
	}
	tides := x.Tides
	if len(tides) > mostTides {
		t.Name, t.Each = "Score at the end of each of 90 days, and of the next 30", "After"
		tides = byDay(tides, zone)
	}
	past, last := true, 0.0
	for _, p := range tides {
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
