package pipeline

import (
	"cmp"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/pipeline"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// mostMarks is how many deals a course draws, the largest.
const mostMarks = 200

type courseData struct {
	pipes
	Mine   bool
	N      int // months
	A      sales.Ahead
	Canvas pipeline.Canvas
	Height float64
	Wide   float64
	Lanes  []laneView
	Months []monthView
	Marks  []markView
	Open   int
	Rest   int  // deals that are not drawn
	Before bool // the forecast is from before
	Total  int64
	Target int64
	Sells  bool
	Leads  bool
}

type laneView struct {
	pipeline.Figures
	Y     float64
	Even  bool
	Deals int
}

// Chance is its chance in words, with what it rests on.
func (l laneView) Percent() string { return fmt.Sprintf("%.0f %%", l.Figures.Chance.Share*100) }

type monthView struct {
	Name               string
	X, Middle, End     float64
	E                  pipeline.Expectation
	BarX, BarW, BarEnd float64 // of the range
	High, BarH         float64
	Sum, Target        float64
}

type markView struct {
	pipeline.Mark
	D    store.Deal
	Slow bool
	Says string // what a mark says to who does not see it
}

// foreHeight is how high the forecast is drawn.
const foreHeight = 110.0

func (s *Place) course(c *echo.Context) error {
	u := shell.UserOf(c)
	d := courseData{Mine: c.QueryParam("whose") == "mine", N: 6}
	if n := shell.Number(c.QueryParam("months")); n >= 2 && n <= 12 {
		d.N = int(n)
	}
	rep := int64(0)
	if d.Mine {
		rep = u.ID
	}
	var err error
	if d.pipes, err = s.pipesOf(c); err != nil {
		return err
	}
	if d.A, err = s.Engine.AheadOf(c.Request().Context(), d.Pipe.ID, rep, d.N,
		mostMarks); err != nil {
		return err
	}
	d.Before = s.Engine.Now().Sub(d.A.At) >= time.Minute
	d.Sells = (shell.View{User: u}).May(sellers...)
	d.Leads = (shell.View{User: u}).May(leads...)
	d.Target = s.Engine.Workspace().Target
	d.draw(s.Engine.Workspace().Currency, s.Engine.Now())
	return s.PageCode(c, http.StatusOK, "course.html", "course", "Pipeline", "Course", d)
}

// draw lays the course and the forecast under it.
func (d *courseData) draw(currency string, now time.Time) {
	const left, top, wide, aside = 150.0, 26.0, 930.0, 110.0
	n := max(len(d.A.Stages), 1)
	d.Canvas = pipeline.Canvas{Left: left, Top: top, Month: (wide - aside) / float64(d.N),
		Lane: max(330/float64(n), 64), From: d.A.From, Months: d.N, Aside: aside, Small: 4, Big: 19}
	d.Wide, d.Height = left+wide, top+d.Canvas.Lane*float64(n)
	lane := map[int64]int{}
	for i, f := range d.A.Stages {
		lane[f.ID] = i
		d.Lanes = append(d.Lanes, laneView{Figures: f, Y: top + d.Canvas.Lane*float64(i), Even: i%2 == 0})
	}
	var marks []pipeline.Mark
	for i := range d.A.Deals {
		x := &d.A.Deals[i]
		l, ok := lane[x.Stage]
		if !ok {
			continue
		}
		marks = append(marks, pipeline.Mark{Deal: x.ID, Lane: l, Amount: x.Worth, Day: x.Expected})
		d.Marks = append(d.Marks, markView{D: *x, Slow: d.A.Slow[x.ID]})
	}
	for _, sum := range d.A.Sums {
		if l, ok := lane[sum.Stage]; ok {
			d.Lanes[l].Deals = sum.Deals
			d.Open, d.Total = d.Open+sum.Deals, d.Total+sum.Amount
		}
	}
	d.Rest = d.Open - len(marks)
	d.Canvas.Lay(marks)
	for i := range marks {
		m := &d.Marks[i]
		m.Mark = marks[i]
		for _, v := range []*float64{&m.X, &m.Y, &m.R} { // finer than anybody sees, and short
			*v = math.Round(*v*10) / 10
		}
		m.Says = fmt.Sprintf("%s, %s, in %s", m.D.Name, shell.Money(m.D.Amount, m.D.Currency), d.Lanes[m.Lane].Name)
		if m.D.Expected != nil {
			m.Says += ", expected on " + m.D.Expected.Format("2 Jan 2006")
		}
		if m.Slow {
			m.Says += ", longer there than others were"
		}
		if m.D.Next == "" {
			m.Says += ", no next step"
		}
	}
	highest := max(d.Target, 1)
	for _, e := range d.A.Months {
		highest = max(highest, e.High, e.Sum)
	}
	y := func(v int64) float64 { return foreHeight - (foreHeight-14)*float64(v)/float64(highest) }
	unit := int64(math.Pow10(pipeline.Digits(currency)))
	for i, e := range d.A.Months {
		m := d.A.From.Add(i)
		e.Sum, e.Low, e.High = e.Sum/unit*unit, e.Low/unit*unit, e.High/unit*unit // nobody expects cents
		v := monthView{Name: m.Month.String()[:3], X: left + d.Canvas.Month*float64(i), E: e, High: y(e.High),
			BarH: max(y(e.Low)-y(e.High), 2), Sum: y(e.Sum), Target: y(d.Target)}
		if i == 0 || m.Month == time.January {
			v.Name += " " + strconv.Itoa(m.Year)
		}
		v.Middle, v.End = v.X+d.Canvas.Month/2, v.X+d.Canvas.Month
		v.BarX, v.BarW = v.X+14, d.Canvas.Month-28
		v.BarEnd = v.BarX + v.BarW
		d.Months = append(d.Months, v)
	}
}

// placeDeal puts a deal where it was dragged to on the course.
func (s *Place) placeDeal(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	day, err := time.Parse(time.DateOnly, c.FormValue("day"))
	if err != nil {
		return echo.ErrBadRequest
	}
	return s.changed(c, id, "Moved.", s.Engine.PlaceDeal(c.Request().Context(), id, shell.Number(c.FormValue("stage")),
		day,
		shell.UserOf(c).ID))
}

// saveTarget keeps what is wanted of a month.
func (s *Place) saveTarget(c *echo.Context) error {
	w := s.Engine.Workspace()
	amount, err := pipeline.ParseAmount(cmp.Or(c.FormValue("target"), "0"), w.Currency)
	if err != nil {
		return s.NotDone(c, "/pipeline/course", shell.Sentence(err)+" It stays as it was.")
	}
	w.Target = amount
	if _, err := s.Engine.ChangeWorkspace(c.Request().Context(), w, shell.UserOf(c).ID); err != nil {
		return err
	}
	return s.Done(c, "/pipeline/course", "Saved.")
}
