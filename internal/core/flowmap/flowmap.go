// Package flowmap computes the geometry of a sequence map: where each step
// floats and the outline of every stream of people between them.
//
// Left to right is time: one column for each instant of the plan's time axis
// at which something happens, and several for steps that follow each other on
// one day. Top to bottom are branches, each in a lane of its own. A stream is
// as wide as the people in it. All lengths are in the drawing's own units,
// which a page shows as pixels at full size; y grows downwards.
//
// The layout is a function of its input: equal input, equal picture. In a plan
// where no two exits lead to the same step, no two streams cross.
package flowmap

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"
)

// Step is a step to be placed.
type Step struct {
	ID     int
	Day    float64 // on the plan's time axis
	Date   string  // on which it is whoever comes to it; empty: that follows from when they do
	Off    bool    // Date is no working day
	Title  string
	Figure string
	Exits  []Exit // in the order in which they are drawn, top first
	Left   int    // people who left at this step
	Why    string // their reasons, in words
}

// Exit leads to another step.
type Exit struct {
	Name   string // the exit's own name
	Label  string // the answer it stands for; empty: nothing to say
	To     int
	People int
}

// Input is a plan to be drawn. Start must be the ID of one of Steps and the
// exits must not lead in a circle.
type Input struct {
	Start  int
	Steps  []Step
	People int  // who came in
	Draft  bool // nobody is on it yet: streams share a fixed width, with room to insert
}

// Point is a place on the drawing.
type Point struct{ X, Y float64 }

// Box is a rectangle on the drawing.
type Box struct{ X, Y, W, H float64 }

func (b Box) meets(o Box) bool {
	return b.X < o.X+o.W && o.X < b.X+b.W && b.Y < o.Y+o.H && o.Y < b.Y+b.H
}

// Column is a stretch of the time axis with the steps of one instant.
type Column struct {
	X    float64
	Day  float64
	Head string // "Day 5" over the first column of a day, else empty
	Fold bool   // a long wait before this column is folded
	Date string // on which all of its steps are, whoever comes to them; said once for columns side by side
	Off  bool   // that is no working day
	W    float64
}

// Buoy is a placed step.
type Buoy struct {
	ID    int
	At    Point
	Label Point // bottom middle of its two lines of text
	Box   Box   // what the two lines cover
	Lane  int
}

// Stream is a placed exit, or the way in (From 0).
type Stream struct {
	From, To int
	Exit     string
	People   int
	Width    float64
	Path     string // SVG path of its outline, closed
	Spine    string // SVG path of its middle
	Label    string
	Pill     Box   // where the label stands; zero without one
	Plus     Point // where a step can be inserted
	Empty    bool  // nobody took it
}

// Thread is people who left at a step, running down.
type Thread struct {
	Step   int
	People int
	Path   string
	Text   string
	At     Point // left middle of the text
}

// Map is a finished drawing.
type Map struct {
	W, H    float64
	Top     float64 // y where the columns' guide lines begin
	Bottom  float64 // and end
	Columns []Column
	Buoys   []Buoy
	Streams []Stream
	Threads []Thread
}

// The measures of the drawing.
const (
	Radius    = 17.0
	widest    = 44.0
	thinnest  = 3.0
	lineH     = 15.0 // a line of a label
	labelGap  = 7.0
	laneGap   = 22.0
	headH     = 48.0
	tintW     = 64.0 // of the tint of a day that is no working day
	left      = 66.0
	right     = 62.0
	minGap    = 84.0
	bend      = 52.0
	pillH     = 20.0
	maxText   = 150.0 // labels are cut to this width
	plusR     = 9.0
	foldDays  = 9.0
	threadGap = 18.0
)

// TextWidth estimates how wide a text in the drawing's letters is.
func TextWidth(s string, size float64) float64 {
	return float64(utf8.RuneCountInString(s)) * size * 0.545
}

// Cut shortens a text to what a label can show, with an ellipsis.
func Cut(s string) string {
	for n := utf8.RuneCountInString(s); TextWidth(s, 12) > maxText; n-- {
		r := []rune(s)
		s = strings.TrimRight(string(r[:len(r)-2]), " ") + "…"
	}
	return s
}

type placed struct {
	*Step
	col     int
	rank    int
	parent  int     // index of the step it hangs from in the tree of lanes
	lane    float64 // in lanes; leaves have whole numbers
	y       float64
	x       float64
	in, out []int // stream indices
	half    float64
	label   float64 // half width of its label
}

// Layout draws a plan. A plan without its start gives an empty map.
func Layout(in Input) Map {
	l := newLayout(in)
	if l == nil {
		return Map{W: left + right, H: headH * 2}
	}
	l.columns()
	l.streams()
	l.lanes()
	l.place()
	m := l.draw()
	m.round()
	return m
}

type layout struct {
	in    Input
	nodes []placed // in topological order, start first
	at    map[int]int
	cols  []Column
	dates []string // of the columns
	flows []Stream
	gaps  []float64
	past  map[int]float64 // where a stream runs that goes past other steps: y, by its index
}

func newLayout(in Input) *layout {
	byID := map[int]*Step{}
	for i := range in.Steps {
		byID[in.Steps[i].ID] = &in.Steps[i]
	}
	if byID[in.Start] == nil {
		return nil
	}
	l := &layout{in: in, at: map[int]int{}, past: map[int]float64{}}
	done := map[int]bool{}
	var order []*Step
	var visit func(id int)
	visit = func(id int) {
		s := byID[id]
		if s == nil || done[id] {
			return
		}
		done[id] = true
		for i := len(s.Exits) - 1; i >= 0; i-- {
			visit(s.Exits[i].To)
		}
		order = append(order, s)
	}
	visit(in.Start)
	slices.Reverse(order)
	for i, s := range order {
		l.at[s.ID] = i
		l.nodes = append(l.nodes, placed{Step: s, parent: -1})
	}
	return l
}

// columns gives each step its column: by day, then by how many steps of the
// same day come before it.
func (l *layout) columns() {
	for i := range l.nodes {
		n := &l.nodes[i]
		for _, e := range n.Exits {
			if j, ok := l.at[e.To]; ok && l.nodes[j].Day <= n.Day {
				l.nodes[j].Day = n.Day // never to the left of what leads to it
				l.nodes[j].rank = max(l.nodes[j].rank, n.rank+1)
			}
		}
	}
	type key struct {
		day  float64
		rank int
	}
	var keys []key
	for i := range l.nodes {
		keys = append(keys, key{l.nodes[i].Day, l.nodes[i].rank})
	}
	sort.Slice(keys, func(i, j int) bool {
		if keys[i].day != keys[j].day {
			return keys[i].day < keys[j].day
		}
		return keys[i].rank < keys[j].rank
	})
	keys = slices.Compact(keys)
	for c, k := range keys {
		col := Column{Day: k.day}
		if c == 0 || keys[c-1].day != k.day {
			col.Head = "Day " + trim(k.day)
			col.Fold = c > 0 && k.day-keys[c-1].day > foldDays
		}
		l.cols = append(l.cols, col)
	}
	shared := make([]bool, len(keys))
	for i := range l.nodes {
		n := &l.nodes[i]
		n.col = slices.Index(keys, key{n.Day, n.rank})
		switch col := &l.cols[n.col]; {
		case !shared[n.col]:
			col.Date, col.Off, shared[n.col] = n.Date, n.Off, true
		case col.Date != n.Date:
			col.Date, col.Off = "", false
		}
		n.label = min(max(TextWidth(n.Title, 12), TextWidth(n.Figure, 11)), maxText) / 2
	}
}

func trim(f float64) string {
	if f == math.Trunc(f) {
		return fmt.Sprintf("%.0f", f)
	}
	return fmt.Sprintf("%.1f", f)
}

// streams gives each exit its width and hangs each step from one of those that
// lead to it: the one furthest right, so that the tree's lines stay short.
func (l *layout) streams() {
	most := max(l.in.People, 1)
	weight := make([]float64, len(l.nodes))
	weight[0] = 1
	for i := range l.nodes {
		n := &l.nodes[i]
		for _, e := range n.Exits {
			j, ok := l.at[e.To]
			if !ok {
				continue
			}
			most = max(most, e.People)
			s := Stream{From: n.ID, To: e.To, Exit: e.Name, People: e.People, Label: e.Label}
			if l.in.Draft {
				share := weight[i] / float64(len(n.Exits))
				weight[j] += share
				s.Width = max(6, 26*share)
			}
			f := len(l.flows)
			l.flows = append(l.flows, s)
			n.out = append(n.out, f)
			l.nodes[j].in = append(l.nodes[j].in, f)
			if p := l.nodes[j].parent; p < 0 || l.nodes[p].col < n.col {
				l.nodes[j].parent = i
			}
		}
	}
	entry := Stream{To: l.in.Start, Exit: "", People: l.in.People}
	if l.in.Draft {
		entry.Width = 26
	}
	l.nodes[0].in = append(l.nodes[0].in, len(l.flows))
	l.flows = append(l.flows, entry)
	for f := range l.flows {
		s := &l.flows[f]
		if l.in.Draft {
			continue
		}
		s.Empty = s.People == 0
		s.Width = max(thinnest, widest*float64(s.People)/float64(most))
	}
	for i := range l.nodes {
		n := &l.nodes[i]
		width := func(list []int) (w float64) {
			for _, f := range list {
				w += l.flows[f].Width
			}
			return
		}
		n.half = max(Radius, width(n.in)/2, width(n.out)/2)
	}
}

// branches lists what hangs from a step, in the order of its exits: steps, and streams that
// run past others to a step that hangs elsewhere, which get a lane of their own.
func (l *layout) branches(i int) (out []branch) {
	n := &l.nodes[i]
	seen := map[int]bool{}
	for _, f := range n.out {
		t := l.at[l.flows[f].To]
		switch {
		case l.nodes[t].parent == i && !seen[t]:
			seen[t] = true
			out = append(out, branch{step: t, flow: -1})
		case l.nodes[t].parent != i && l.nodes[t].col > n.col+1:
			out = append(out, branch{step: -1, flow: f})
		}
	}
	return out
}

// branch is a step that hangs from another, or a stream that runs past.
type branch struct{ step, flow int }

// lanes stacks the leaves of the tree top to bottom and centres each step on
// what hangs from it. Lanes are as far apart as what lies in them needs.
func (l *layout) lanes() {
	count := 0
	past := map[int]int{} // flow → lane
	var collect func(i int)
	collect = func(i int) {
		list := l.branches(i)
		if len(list) == 0 {
			l.nodes[i].lane = float64(count)
			count++
			return
		}
		lane := make([]float64, len(list))
		for k, b := range list {
			if b.step < 0 {
				past[b.flow], lane[k] = count, float64(count)
				count++
				continue
			}
			collect(b.step)
			lane[k] = l.nodes[b.step].lane
		}
		l.nodes[i].lane = (lane[0] + lane[len(lane)-1]) / 2
	}
	collect(0)

	up := make([]float64, count) // room above and below each lane's middle
	down := make([]float64, count)
	for i := range l.nodes {
		n := &l.nodes[i]
		if k := int(n.lane); n.lane == float64(k) {
			up[k] = max(up[k], n.half+labelGap+2*lineH)
			down[k] = max(down[k], n.half)
		}
	}
	for f, k := range past {
		room := max(l.flows[f].Width/2, pillH/2) + 4
		up[k], down[k] = max(up[k], room), max(down[k], room)
	}
	y := make([]float64, count)
	y[0] = headH + 14 + max(up[0], l.overhang(0))
	for k := 1; k < count; k++ {
		y[k] = y[k-1] + down[k-1] + laneGap + up[k]
	}
	for i := range l.nodes {
		n := &l.nodes[i]
		lo := int(n.lane)
		n.y = y[lo]
		if frac := n.lane - float64(lo); frac > 0 {
			n.y += frac * (y[lo+1] - y[lo])
		}
	}
	for f, k := range past {
		l.past[f] = y[k]
	}
}

// overhang is how far a step between the lanes could reach above lane k.
func (l *layout) overhang(k int) float64 {
	need := 0.0
	for i := range l.nodes {
		if n := &l.nodes[i]; n.lane > float64(k) && n.lane < float64(k)+0.75 {
			need = max(need, n.half+labelGap+2*lineH-(n.lane-float64(k))*(2*Radius+laneGap))
		}
	}
	return need
}

// place sets the columns as far apart as labels, bends and pills need.
func (l *layout) place() {
	l.gaps = make([]float64, len(l.cols))
	for c := range l.gaps {
		l.gaps[c] = minGap
	}
	for i := range l.nodes {
		n := &l.nodes[i]
		for j := range l.nodes {
			if o := &l.nodes[j]; o.col == n.col+1 && math.Abs(o.y-n.y) < 60 {
				l.gaps[o.col] = max(l.gaps[o.col], n.label+o.label+12)
			}
		}
		for _, f := range n.out {
			s := &l.flows[f]
			t := &l.nodes[l.at[s.To]]
			need := Radius*2 + 20
			if _, past := l.past[f]; past {
				need += l.lead(n) - Radius + 2*bend
			} else if t.y != n.y {
				need += l.lead(n) - Radius + bend
			}
			if s.Label != "" {
				need += pillWidth(s.Label) + 6
			}
			if l.in.Draft {
				need += 2*plusR + 8
			}
			// What the first gaps give already counts; the last one gives the rest.
			for c := n.col + 1; c < t.col; c++ {
				need -= l.gaps[c]
			}
			l.gaps[t.col] = max(l.gaps[t.col], need)
		}
	}
	x := max(left, l.nodes[0].label+8)
	for c := range l.cols {
		if c > 0 {
			x += l.gaps[c]
			if l.cols[c].Fold {
				x += 24
			}
		}
		l.cols[c].X = x
	}
	for i := range l.nodes {
		l.nodes[i].x = l.cols[l.nodes[i].col].X
	}
}

// lead is how far a step's streams run straight before they bend: past its
// label where one of them goes up.
func (l *layout) lead(n *placed) float64 {
	for _, f := range n.out {
		if l.end(f) < n.y {
			return max(Radius+6, min(n.label+4, 70))
		}
	}
	return Radius + 6
}

// end is where a flow goes when it has left its step.
func (l *layout) end(f int) float64 {
	if yl, past := l.past[f]; past {
		return yl
	}
	return l.nodes[l.at[l.flows[f].To]].y
}

func pillWidth(s string) float64 { return TextWidth(s, 11) + 18 }

func (l *layout) draw() Map {
	m := Map{Columns: l.cols, Top: headH}
	l.dates = nil
	for _, col := range l.cols {
		l.dates = append(l.dates, col.Date)
	}
	for c := range m.Columns {
		col := &m.Columns[c]
		if col.Off {
			col.W = tintW
		}
		if c > 0 && col.Date != "" && col.Date == l.dates[c-1] {
			col.Date = ""
		}
	}
	for f := range l.flows {
		m.Streams = append(m.Streams, l.stream(f))
	}
	bottom := 0.0
	for i := range l.nodes {
		n := &l.nodes[i]
		base := n.y - n.half - labelGap
		b := Buoy{ID: n.ID, At: Point{n.x, n.y}, Label: Point{n.x, base}, Lane: int(n.lane),
			Box: Box{n.x - n.label, base - 2*lineH, 2 * n.label, 2 * lineH}}
		m.Buoys = append(m.Buoys, b)
		bottom = max(bottom, n.y+n.half)
		m.W = max(m.W, n.x+max(right, n.label+16))
	}
	m.Threads, bottom = l.threads(bottom + 18)
	for _, t := range m.Threads {
		m.W = max(m.W, t.At.X+TextWidth(t.Text, 11)+12)
	}
	m.Bottom = bottom
	m.H = bottom + 10
	return m
}

// stream outlines one flow: straight out of its step, one bend, straight in.
func (l *layout) stream(f int) Stream {
	s := l.flows[f]
	t := &l.nodes[l.at[s.To]]
	y2 := t.y + l.offset(t.in, f, func(g int) float64 {
		if l.flows[g].From == 0 {
			return t.y
		}
		if yl, past := l.past[g]; past {
			return yl
		}
		return l.nodes[l.at[l.flows[g].From]].y
	})
	if s.From == 0 {
		s.Path = ribbon(0, y2, left*0.4, t.x, t.x, y2, s.Width)
		s.Spine = fmt.Sprintf("M0 %s H%s", num(y2), num(t.x))
		s.Plus = Point{t.x - Radius - 30, y2}
		return s
	}
	n := &l.nodes[l.at[s.From]]
	y1 := n.y + l.offset(n.out, f, l.end)
	x1 := n.x + l.lead(n)
	if yl, past := l.past[f]; past {
		return l.passing(s, n, t, y1, yl, y2)
	}
	x2 := min(x1+bend, t.x-Radius)
	if math.Abs(y2-y1) < 0.5 {
		x2 = x1
	}
	s.Path = ribbon(n.x, y1, x1, x2, t.x, y2, s.Width)
	s.Spine = fmt.Sprintf("M%s %s H%s C%s %s %s %s %s %s H%s", num(n.x), num(y1), num(x1),
		num((x1+x2)/2), num(y1), num((x1+x2)/2), num(y2), num(x2), num(y2), num(t.x))
	from := max(x2, n.x+Radius) + 6
	if s.Label != "" {
		s.Pill = Box{from, y2 - pillH/2, pillWidth(s.Label), pillH}
		from += s.Pill.W + 6
	}
	s.Plus = Point{from + plusR, y2}
	if s.Label == "" {
		s.Plus.X = max(from+plusR, (x2+t.x)/2)
	}
	return s
}

// passing outlines a flow that runs past other steps in a lane of its own, at yl, and bends
// into its step at the end.
func (l *layout) passing(s Stream, n, t *placed, y1, yl, y2 float64) Stream {
	x1 := n.x + l.lead(n)
	x2, x4 := x1+bend, t.x-Radius-2
	x3 := max(x2, x4-bend)
	h := s.Width / 2
	c, d := (x1+x2)/2, (x3+x4)/2
	s.Path = fmt.Sprintf("M%s %s H%s C%s %s %s %s %s %s H%s C%s %s %s %s %s %s H%s V%s H%s C%s %s %s %s %s %s H%s "+
		"C%s %s %s %s %s %s H%s Z",
		num(n.x), num(y1-h), num(x1), num(c), num(y1-h), num(c), num(yl-h), num(x2), num(yl-h), num(x3),
		num(d), num(yl-h), num(d), num(y2-h), num(x4), num(y2-h), num(t.x),
		num(y2+h), num(x4), num(d), num(y2+h), num(d), num(yl+h), num(x3), num(yl+h), num(x2),
		num(c), num(yl+h), num(c), num(y1+h), num(x1), num(y1+h), num(n.x))
	s.Spine = fmt.Sprintf("M%s %s H%s C%s %s %s %s %s %s H%s C%s %s %s %s %s %s H%s", num(n.x), num(y1), num(x1),
		num(c), num(y1), num(c), num(yl), num(x2), num(yl), num(x3),
		num(d), num(yl), num(d), num(y2), num(x4), num(y2), num(t.x))
	from := x2 + 6
	if s.Label != "" {
		s.Pill = Box{from, yl - pillH/2, pillWidth(s.Label), pillH}
		from += s.Pill.W + 6
	}
	s.Plus = Point{from + plusR, yl}
	return s
}

// offset stacks the flows that meet at a step, ordered by where their other
// ends are, and returns the middle of flow f from the step's middle.
func (l *layout) offset(list []int, f int, y func(int) float64) float64 {
	order := slices.Clone(list)
	sort.SliceStable(order, func(a, b int) bool { return y(order[a]) < y(order[b]) })
	total := 0.0
	for _, g := range order {
		total += l.flows[g].Width
	}
	at := -total / 2
	for _, g := range order {
		if g == f {
			return at + l.flows[g].Width/2
		}
		at += l.flows[g].Width
	}
	return 0
}

// ribbon outlines a band of width w from (x0, y1) to (x3, y2) that bends between x1 and x2.
func ribbon(x0, y1, x1, x2, x3, y2, w float64) string {
	h, c := w/2, (x1+x2)/2
	return fmt.Sprintf("M%s %s H%s C%s %s %s %s %s %s H%s V%s H%s C%s %s %s %s %s %s H%s Z",
		num(x0), num(y1-h), num(x1), num(c), num(y1-h), num(c), num(y2-h), num(x2), num(y2-h), num(x3),
		num(y2+h), num(x2), num(c), num(y2+h), num(c), num(y1+h), num(x1), num(y1+h), num(x0))
}

func num(f float64) string {
	s := fmt.Sprintf("%.1f", f)
	return strings.TrimSuffix(s, ".0")
}

// threads runs those who left down to the foot, each text in the first row
// where it meets no other, and returns the foot.
func (l *layout) threads(top float64) ([]Thread, float64) {
	var out []Thread
	order := make([]int, 0, len(l.nodes))
	for i := range l.nodes {
		if l.nodes[i].Left > 0 {
			order = append(order, i)
		}
	}
	sort.SliceStable(order, func(a, b int) bool { return l.nodes[order[a]].x < l.nodes[order[b]].x })
	var ends []float64 // right end of each row so far
	for _, i := range order {
		n := &l.nodes[i]
		t := Thread{Step: n.ID, People: n.Left, Text: fmt.Sprintf("%d left: %s", n.Left, n.Why)}
		row := 0
		for row < len(ends) && ends[row] > n.x {
			row++
		}
		if row == len(ends) {
			ends = append(ends, 0)
		}
		y := top + float64(row)*threadGap + 6
		// Beside the buoys of the same column, not through them.
		side := n.x + Radius + 9
		t.At = Point{side + 10, y}
		ends[row] = t.At.X + TextWidth(t.Text, 11) + 10
		t.Path = fmt.Sprintf("M%s %s C%s %s %s %s %s %s V%s Q%s %s %s %s", num(n.x), num(n.y), num(n.x), num(n.y+24),
			num(side), num(n.y+18), num(side), num(n.y+40),
			num(y-7), num(side), num(y), num(side+7), num(y))
		out = append(out, t)
	}
	return out, top + float64(len(ends))*threadGap
}
