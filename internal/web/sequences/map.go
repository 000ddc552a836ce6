package sequences

import (
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/flowmap"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// drawn is a map ready for its template: the core's geometry with what each
// thing looks like and where pressing it leads.
type drawn struct {
	flowmap.Map
	Buoys   []buoy
	Streams []stream
	Words   string // the map in words, for those who do not see it
}

type buoy struct {
	flowmap.Buoy
	Icon, Class   string
	Title, Figure string
	Chosen        bool
	Missing       string // what it lacks
	Href          string
}

type stream struct {
	flowmap.Stream
	Class  string
	PlusTo string
	Chosen bool
	Says   string
}

// flowFigures are the people of a running sequence, as the store counts them.
type flowFigures struct {
	passed, here []store.StepFigure
	results      []store.StepResult
}

// Left and Top are where the part of the map begins that can be pressed for a buoy, and Foot
// where its label ends, all from its middle.
func (b buoy) Left() float64 { return b.Box.X - b.At.X }
func (b buoy) Top() float64  { return b.Box.Y - b.At.Y }
func (b buoy) Foot() float64 { return b.Label.Y - b.At.Y }

// Reach is how high that part is: from the top of its label to its foot.
func (b buoy) Reach() float64 { return b.At.Y + flowmap.Radius - b.Box.Y }

// drawMap lays a plan out with its figures, or in a draft with its timing.
func drawMap(d *sequenceData, f flowFigures) drawn {
	in := flowmap.Input{Start: int(d.Plan.Start), People: int(d.Q.Entered), Draft: d.Draft}
	if d.Span.Key != "" {
		in.People = f.came(int32(d.Plan.Start))
	}
	days := d.Plan.Days()
	problems := map[sequence.StepID]string{}
	for _, p := range d.Problems {
		if problems[p.Step] == "" {
			problems[p.Step] = p.Text
		}
	}
	differs := map[sequence.StepID]sequence.How{}
	for _, x := range d.Differs {
		differs[x.Step] = x.How
	}
	for _, s := range d.Plan.Steps {
		a := s.About()
		x := flowmap.Step{ID: int(a.ID), Day: days[a.ID], Title: flowmap.Cut(a.Title)}
		if on, fixed := d.dates[a.ID]; fixed {
			at := calendar.At(on, 0, time.UTC)
			x.Date, x.Off = at.Format("Mon 2 Jan"), !calendar.Working{}.On(on) ||
				slices.Contains(d.Plan.Hours.Off, on)
		}
		if d.Draft {
			x.Figure = d.says(s)
			if how := differs[a.ID]; how != "" {
				x.Figure = string(how) + ": " + x.Figure
			}
			x.Figure = flowmap.Cut(strings.TrimSuffix(x.Figure, ": "))
		} else {
			if line := s.Kind().Line; len(line) > 0 {
				x.Figure = flowmap.Cut(f.counts(s.About().ID).line(line))
			} else {
				x.Figure = flowmap.Cut(d.says(s))
			}
			x.Left, x.Why = f.left(int32(a.ID))
		}
		for _, e := range s.Exits() {
			exit := flowmap.Exit{Name: string(e), Label: s.Answer(e), To: int(a.To[e]),
				People: f.took(int32(a.ID), string(e))}
			// Exits that lead to the same step are one stream.
			if i := slices.IndexFunc(x.Exits, func(o flowmap.Exit) bool { return o.To == exit.To }); i >= 0 {
				o := &x.Exits[i]
				o.Name, o.People = o.Name+"|"+exit.Name, o.People+exit.People
				o.Label += ", " + strings.ToLower(exit.Label)
				continue
			}
			x.Exits = append(x.Exits, exit)
		}
		in.Steps = append(in.Steps, x)
	}
	m := flowmap.Layout(in)
	out := drawn{Map: m}
	base := fmt.Sprintf("/sequences/%d", d.Q.ID)
	if d.Draft {
		base += "?view=draft&"
	} else {
		base += "?" + d.Span.Query()
	}
	for _, b := range m.Buoys {
		s := d.Plan.Step(sequence.StepID(b.ID))
		v := buoy{Buoy: b, Icon: s.Kind().Icon, Title: flowmap.Cut(s.About().Title),
			Href: fmt.Sprintf("%sstep=%d", base, b.ID), Missing: problems[s.About().ID]}
		for _, x := range in.Steps {
			if x.ID == b.ID {
				v.Figure = x.Figure
			}
		}
		if s.Kind().Look == sequence.Handing {
			v.Class = string(sequence.Handing)
		}
		if v.Missing != "" {
			v.Class += " missing"
		}
		if differs[s.About().ID] != "" {
			v.Class += " differs"
		}
		v.Chosen = d.Step != nil && d.Step.About().ID == s.About().ID
		out.Buoys = append(out.Buoys, v)
	}
	for _, x := range m.Streams {
		v := stream{Stream: x, PlusTo: fmt.Sprintf("%splus=%d.%s", base, x.From, url.QueryEscape(x.Exit))}
		to := d.Plan.Step(sequence.StepID(x.To))
		switch {
		case x.Empty:
			v.Class = "none"
		default:
			v.Class = string(to.Kind().Look)
		}
		v.Chosen = d.Panel == "insert" && int(d.From) == x.From && string(d.Exit) == x.Exit
		where := "the start"
		if from := d.Plan.Step(sequence.StepID(x.From)); from != nil {
			where = from.About().Title
		}
		v.Says = where + " to " + to.About().Title
		if x.Label != "" {
			v.Says = where + ", " + x.Label + ", to " + to.About().Title
		}
		if !d.Draft {
			v.Says = fmt.Sprintf("%d people: %s", x.People, v.Says)
		}
		out.Streams = append(out.Streams, v)
	}
	// Wide streams first, so that thin ones stay visible over them.
	sort.SliceStable(out.Streams, func(i, j int) bool { return out.Streams[i].Width > out.Streams[j].Width })
	return out
}

func (f flowFigures) took(step int32, exit string) (n int) {
	for _, x := range f.passed { // by the exit as usual, or passed over
		if x.Step == step && x.Exit == exit {
			n += int(x.N)
		}
	}
	return n
}

// came counts who came through a step.
func (f flowFigures) came(step int32) (n int) {
	for _, x := range f.passed {
		if x.Step == step {
			n += int(x.N)
		}
	}
	return n
}

// left counts who left at a step before it was done, and says why.
func (f flowFigures) left(step int32) (int, string) {
	total := 0
	var why []store.StepFigure
	for _, x := range f.passed {
		if x.Step == step && x.Exit == "" && !sequence.Reason(x.Reason).Planned() {
			total += int(x.N)
			why = append(why, x)
		}
	}
	sort.Slice(why, func(i, j int) bool { return why[i].N > why[j].N })
	var words []string
	for _, x := range why {
		words = append(words, fmt.Sprintf("%s %d", x.Reason, x.N))
	}
	return total, strings.Join(words, ", ")
}

// counts is what is counted of the people at a step.
type counts map[sequence.Count]int64

func (f flowFigures) counts(id sequence.StepID) counts {
	out := counts{}
	for _, x := range f.here {
		if x.Step == int32(id) {
			out[sequence.Here] = x.N
		}
	}
	for _, x := range f.passed {
		if x.Step == int32(id) && x.Exit == "" && sequence.Reason(x.Reason).Planned() {
			out[sequence.Ended] += x.N
		}
	}
	for _, r := range f.results {
		if r.Step == int32(id) {
			out[sequence.Sent], out[sequence.Opened], out[sequence.Clicked] = r.Sent, r.Opened, r.Clicked
			out[sequence.Replied], out[sequence.InDoubt] = r.Replied, r.Trouble
			out[sequence.OnDesk], out[sequence.WorkDone], out[sequence.NotDone] = r.Desk, r.Done, r.Missed
		}
	}
	return out
}

// line says figures in one line: "1,204 sent · 31 % opened".
func (c counts) line(figures []sequence.Figure) string {
	var words []string
	for _, f := range figures {
		n, of := c[f.Count], c[f.Of]
		switch {
		case f.Any && n == 0 || f.Of != "" && of == 0:
		case f.Of != "": // as the side says it
			words = append(words, fmt.Sprintf("%.0f %% %s", float64(n)/float64(of)*100, f.Word))
		default:
			words = append(words, strings.TrimSpace(shell.Thousands(n)+" "+f.Word))
		}
	}
	return strings.Join(words, " · ")
}

// counted is a figure of a step beside its map, which leads to the people behind it.
type counted struct {
	sequence.Figure
	N, Base int64
}

func (c counts) each(figures []sequence.Figure) (out []counted) {
	for _, f := range figures {
		if n := c[f.Count]; n > 0 || !f.Any {
			out = append(out, counted{f, n, c[f.Of]})
		}
	}
	return out
}
