package web

import (
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strings"

	"ombak/internal/core/flowmap"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
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

var kindIcons = map[string]string{
	"email": "envelope-simple", "call": "phone", "pause": "hourglass-medium", "watch": "binoculars", "check": "scales", "hand over": "handshake", "end": "flag",
}

// flowFigures are the people of a running sequence, as the store counts them.
type flowFigures struct {
	passed, here []store.StepFigure
	results      []store.StepResult
}

// Reach is how high the part of the map is that can be pressed for a buoy:
// from the top of its label to its foot.
func (b buoy) Reach() float64 { return b.At.Y + flowmap.Radius - b.Box.Y }

// drawMap lays a plan out with its figures, or in a draft with its timing.
func drawMap(d *sequenceData, f flowFigures) drawn {
	in := flowmap.Input{Start: int(d.Plan.Start), People: int(d.Q.Entered), Draft: d.Draft}
	days := d.Plan.Days()
	problems := map[sequence.StepID]string{}
	for _, p := range d.Problems {
		if problems[p.Step] == "" {
			problems[p.Step] = p.Text
		}
	}
	for _, s := range d.Plan.Steps {
		a := s.About()
		x := flowmap.Step{ID: int(a.ID), Day: days[a.ID], Title: flowmap.Cut(a.Title), Figure: flowmap.Cut(d.says(s))}
		if !d.Draft {
			x.Figure = flowmap.Cut(f.of(s))
			if _, asks := s.(*sequence.Check); asks {
				x.Figure = flowmap.Cut(d.says(s))
			}
			x.Left, x.Why = f.left(int32(a.ID))
		}
		for _, e := range s.Kind().Exits {
			exit := flowmap.Exit{Name: string(e), Label: exitLabel(s, e), To: int(a.To[e]), People: f.took(int32(a.ID), string(e))}
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
		base += "?"
	}
	for _, b := range m.Buoys {
		s := d.Plan.Step(sequence.StepID(b.ID))
		v := buoy{Buoy: b, Icon: kindIcons[s.Kind().Word], Title: flowmap.Cut(s.About().Title), Href: fmt.Sprintf("%sstep=%d", base, b.ID), Missing: problems[s.About().ID]}
		for _, x := range in.Steps {
			if x.ID == b.ID {
				v.Figure = x.Figure
			}
		}
		if s.Kind().Word == "hand over" {
			v.Class = "hand"
		}
		if v.Missing != "" {
			v.Class += " missing"
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
		case to.Kind().Word == "hand over":
			v.Class = "hand"
		case to.Kind().Word == "end":
			v.Class = "quiet"
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

// exitLabel is the answer an exit stands for, in a word or two.
func exitLabel(s sequence.Step, e sequence.Exit) string {
	switch e {
	case sequence.Happened:
		if w, ok := s.(*sequence.Watch); ok {
			word := map[signal.Kind]string{signal.Click: "Clicked", signal.Open: "Opened", signal.Form: "Filled in", signal.PageView: "Looked", signal.Download: "Took it", signal.Reply: "Answered", signal.Meeting: "Booked"}[w.Signal]
			if word == "" {
				word = "It happened"
			}
			if w.N > 1 {
				word += fmt.Sprintf(" %d×", w.N)
			}
			return word
		}
	case sequence.NotInTime:
		if w, ok := s.(*sequence.Watch); ok {
			return "Not in " + w.For.String()
		}
	case sequence.Yes:
		return "Yes"
	case sequence.No:
		return "No"
	case sequence.Talked:
		return "Talked"
	case sequence.NotReached:
		return "Not reached"
	case sequence.NotInterested:
		return "Not interested"
	case sequence.Missed:
		return "Missed"
	}
	return ""
}

func (f flowFigures) took(step int32, exit string) (n int) {
	for _, x := range f.passed { // by the exit as usual, or passed over
		if x.Step == step && x.Exit == exit {
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
		if x.Step == step && x.Exit == "" && x.Reason != string(sequence.Finished) && x.Reason != string(sequence.HandedOver) {
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

// of is the one figure under a running step's title.
func (f flowFigures) of(s sequence.Step) string {
	id := int32(s.About().ID)
	here := int64(0)
	for _, x := range f.here {
		if x.Step == id {
			here = x.N
		}
	}
	var r store.StepResult
	for _, x := range f.results {
		if x.Step == id {
			r = x
		}
	}
	ended := int64(0)
	for _, x := range f.passed {
		if x.Step == id && x.Exit == "" && (x.Reason == string(sequence.Finished) || x.Reason == string(sequence.HandedOver)) {
			ended += x.N
		}
	}
	switch s.Kind().Word {
	case "email":
		text := thousands(r.Sent) + " sent"
		if r.Sent > 0 {
			text += fmt.Sprintf(" · %.0f %% opened", float64(r.Opened)/float64(r.Sent)*100) // as the side says it
		}
		if r.Trouble > 0 {
			text += fmt.Sprintf(" · %d held", r.Trouble)
		}
		return text
	case "call":
		return fmt.Sprintf("%s made · %s waiting", thousands(r.Done), thousands(r.Desk))
	case "hand over", "end":
		return thousands(ended)
	case "check":
		return s.Says()
	}
	return thousands(here) + " on the way"
}
