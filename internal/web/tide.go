package web

import (
	"fmt"
	"math"
	"strings"
)

// tide is a line that rises and falls over time, as a chart shows it.
type tide struct {
	W, H         float64
	Left, Bottom float64 // margins
	Mark         float64 // a level to draw across, such as the ready line; 0: none
	MarkText     string
	Steps        bool // the value jumps and holds, as a score does
	Now          int  // index of the point that is now; the line ahead of it is dashed. 0: all has been

	Points []tidePoint

	Top                  float64 // of the scale
	Area, Line, Ahead    string
	MarkY, NowX, BottomY float64
	Levels               []level
	Bars                 []bar
}

type tidePoint struct {
	X      float64 // 0 to 1, where it is not simply the next; set Spread
	Value  float64
	Second float64 // a bar under the line
	Tick   string
	Title  string

	PX, PY float64
}

type level struct {
	Y    float64
	Text string
}

type bar struct{ X, Y, W, H float64 }

// layout computes where everything stands. Points are spread evenly where none
// has an X.
func (t *tide) layout() {
	n := len(t.Points)
	if n == 0 {
		return
	}
	highest, spread := t.Mark, true
	for _, p := range t.Points {
		highest = max(highest, p.Value, p.Second)
		if p.X != 0 {
			spread = false
		}
	}
	t.Top = nice(highest)
	right, top := t.W-10, 12.0
	t.BottomY = t.H - t.Bottom
	y := func(v float64) float64 { return t.BottomY - v/t.Top*(t.BottomY-top) }
	for i := range t.Points {
		p := &t.Points[i]
		f := p.X
		if spread && n > 1 {
			f = float64(i) / float64(n-1)
		}
		p.PX, p.PY = t.Left+f*(right-t.Left), y(p.Value)
	}
	if t.Now == 0 {
		t.Now = n - 1
	}
	t.NowX = t.Points[t.Now].PX
	t.Line, t.Ahead = t.path(0, t.Now), t.path(t.Now, n-1)
	t.Area = t.path(0, t.Now) + fmt.Sprintf(" L%.1f %.1f L%.1f %.1f Z", t.NowX, t.BottomY, t.Points[0].PX, t.BottomY)
	if t.Mark > 0 {
		t.MarkY = y(t.Mark)
	}
	for _, v := range []float64{0, t.Top / 2, t.Top} {
		t.Levels = append(t.Levels, level{y(v), strings.TrimSuffix(fmt.Sprintf("%.1f", v), ".0")})
	}
	w := (right - t.Left) / float64(max(n, 1)) * 0.55
	for _, p := range t.Points {
		if p.Second > 0 {
			t.Bars = append(t.Bars, bar{p.PX - w/2, y(p.Second), w, t.BottomY - y(p.Second)})
		}
	}
}

func (t *tide) path(from, to int) string {
	var b strings.Builder
	for i := from; i <= to && i < len(t.Points); i++ {
		p := t.Points[i]
		switch {
		case i == from:
			fmt.Fprintf(&b, "M%.1f %.1f", p.PX, p.PY)
		case t.Steps:
			fmt.Fprintf(&b, " H%.1f V%.1f", p.PX, p.PY)
		default:
			q := t.Points[i-1]
			m := (p.PX + q.PX) / 2
			fmt.Fprintf(&b, " C%.1f %.1f %.1f %.1f %.1f %.1f", m, q.PY, m, p.PY, p.PX, p.PY)
		}
	}
	return b.String()
}

// nice rounds a scale's top up to 1, 2 or 5 times a power of ten.
func nice(v float64) float64 {
	if v <= 4 {
		return 4
	}
	p := math.Pow(10, math.Floor(math.Log10(v)))
	for _, m := range []float64{1, 2, 4, 5, 10} {
		if v <= m*p {
			return m * p
		}
	}
	return 10 * p
}
