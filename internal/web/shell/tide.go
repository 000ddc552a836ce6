package shell

import (
	"fmt"
	"math"
	"strings"
)

// Tide is a chart of what rises and falls: counts by hour, day or band, drawn as
// bars, or a level that holds between changes, such as a score, drawn as steps.
// It shows what was counted and no more, and can be read as a table.
type Tide struct {
	Name  string    // what the chart shows
	Each  string    // what a point is: "Day"
	Names [2]string // what is counted: in front, and behind in grey; the second may be empty

	W, H         float64
	Left, Bottom float64 // margins
	Level        bool    // a level that holds; otherwise counts
	Mark         float64 // a level to draw across, such as the ready line; 0: none
	MarkText     string
	Bands        []TideBand // named ranges of a level, the lowest first
	Up           float64    // a place between points to draw a line up at, in points from the first; 0: none
	UpText       string
	Unfinished   bool // the last count is not over yet
	Now          int  // of a level, the index of the point that is now; what is ahead of it is dashed. 0: all has been

	Points []TidePoint

	Top            float64 // of the scale
	Area, Line     string
	Ahead          string
	MarkY, BottomY float64
	UpX            float64
	Levels         []level
	BandLines      []bandLine
	Bars           []bar
}

// TideBand is a named range of the level, from a number up.
type TideBand struct {
	From float64
	Name string
}

// bandLine is where a band begins, and its name above it; no name where there is no room for it.
type bandLine struct {
	Y    float64
	Text string
	Line bool // nothing else is drawn there
}

// TidePoint is one of its values.
type TidePoint struct {
	X      float64 // of a level: 0 to 1, where it stands
	Value  float64
	Second float64 // a count behind it
	Tick   string
	Title  string // in full, for who points at it
	Row    string // its head in the table; Tick where it is empty

	PX, PY float64
	Anchor string // of the tick
}

type level struct {
	Y    float64
	Text string
}

type bar struct {
	X, Y, W, H float64
	Class      string
}

// chartTop is the space above the highest level.
const chartTop = 14.0

// Layout computes where everything stands.
func (t *Tide) Layout() {
	n := len(t.Points)
	if n == 0 {
		return
	}
	highest := t.Mark
	for _, p := range t.Points {
		highest = max(highest, p.Value, p.Second)
	}
	t.Top = nice(highest)
	t.BottomY = t.H - t.Bottom
	right := t.W - 10
	slot := (right - t.Left) / float64(n)
	for i := range t.Points {
		p := &t.Points[i]
		p.PX = t.Left + (float64(i)+0.5)*slot
		if t.Level {
			p.PX = t.Left + p.X*(right-t.Left)
		}
		p.PY = t.y(p.Value)
		// No label is cut off at an edge.
		switch half := float64(len(p.Tick)) * 3; {
		case p.PX+half > t.W:
			p.Anchor = "end"
		case p.PX-half < 0:
			p.Anchor = "start"
		default:
			p.Anchor = "middle"
		}
	}
	if t.Mark > 0 {
		t.MarkY = t.y(t.Mark)
	}
	t.bandLines()
	if t.Up > 0 {
		t.UpX = t.Left + t.Up*slot
	}
	for _, v := range []float64{0, t.Top / 2, t.Top} {
		t.Levels = append(t.Levels, level{t.y(v), Thousands(int64(v))})
	}
	if t.Level {
		t.steps()
	} else {
		t.bars(slot)
	}
}

// wordsHigh is the room that a line of words takes.
const wordsHigh = 13

// bandLines are those of the bands that begin within the chart, each with its name where it fits below the next.
func (t *Tide) bandLines() {
	for i, b := range t.Bands {
		y := t.y(b.From)
		if y < chartTop {
			return
		}
		above := chartTop - wordsHigh // there is room above the highest level
		if i+1 < len(t.Bands) {
			above = max(above, t.y(t.Bands[i+1].From))
		}
		l := bandLine{Y: y, Line: b.From > 0 && b.From != t.Mark}
		if y-above >= wordsHigh {
			l.Text = b.Name
		}
		t.BandLines = append(t.BandLines, l)
	}
}

func (t *Tide) y(v float64) float64 { return t.BottomY - v/t.Top*(t.BottomY-chartTop) }

// bars draws counts: those behind wide and grey, those in front narrow.
func (t *Tide) bars(slot float64) {
	put := func(i int, v, width float64, class string) {
		if v <= 0 {
			return
		}
		if t.Unfinished && i == len(t.Points)-1 {
			class += " unfinished"
		}
		y := t.y(v)
		t.Bars = append(t.Bars, bar{t.Points[i].PX - width/2, y, width, t.BottomY - y, class})
	}
	for i, p := range t.Points {
		put(i, p.Second, slot*0.86, "behind")
	}
	for i, p := range t.Points {
		width := slot * 0.7
		if t.Names[1] != "" {
			width = slot * 0.46
		}
		put(i, p.Value, width, "count")
	}
}

// steps draws a level that holds between changes.
func (t *Tide) steps() {
	if t.Now == 0 {
		t.Now = len(t.Points) - 1
	}
	t.Line, t.Ahead = t.path(0, t.Now), t.path(t.Now, len(t.Points)-1)
	t.Area = t.Line + fmt.Sprintf(" V%.1f H%.1f Z", t.BottomY, t.Points[0].PX)
}

func (t *Tide) path(from, to int) string {
	var b strings.Builder
	for i := from; i <= to && i < len(t.Points); i++ {
		if p := t.Points[i]; i == from {
			fmt.Fprintf(&b, "M%.1f %.1f", p.PX, p.PY)
		} else {
			fmt.Fprintf(&b, " H%.1f V%.1f", p.PX, p.PY)
		}
	}
	return b.String()
}

// Rows are the chart as a table: of counts every one, of a level every change.
func (t Tide) Rows() [][]string {
	var out [][]string
	for i, p := range t.Points {
		head := p.Row
		if head == "" {
			head = p.Tick
		}
		if t.Unfinished && i == len(t.Points)-1 {
			head += ", so far"
		}
		row := []string{head, plainNumber(p.Value)}
		if t.Names[1] != "" {
			row = append(row, plainNumber(p.Second))
		}
		out = append(out, row)
	}
	return out
}

func plainNumber(v float64) string {
	if v == math.Trunc(v) {
		return Thousands(int64(v))
	}
	return fmt.Sprintf("%.1f", v)
}

// nice rounds a scale's top up so that it and its half are whole numbers: to 1,
// 2 or 4 times a power of ten, at least 4.
func nice(v float64) float64 {
	if v <= 4 {
		return 4
	}
	p := math.Pow(10, math.Floor(math.Log10(v)))
	for _, m := range []float64{1, 2, 4, 6, 8, 10} {
		if top := m * p; v <= top && math.Mod(top, 2) == 0 {
			return top
		}
	}
	return 10 * p
}
