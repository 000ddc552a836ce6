package sequences

import (
	"errors"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/desk"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/web/shell"
)

// StepForm is the form of a kind of step.
type StepForm struct {
	Part string // the template that writes it
	// Read reads what was typed into a step, as far as it can be read; nil: there is
	// nothing to read.
	Read func(f Typed, s sequence.Step) error
}

// Typed is what somebody has typed into a step's form.
type Typed struct {
	url.Values
	Rules *rule.Catalogue
}

// Number is a field as a number; 0 where it is none.
func (f Typed) Number(name string) int64 { return shell.Number(f.Get(name)) }

// team is a field that names a team as "team 3"; 0 where it names none.
func (f Typed) team(name string) int64 {
	id, _ := strings.CutPrefix(f.Get(name), "team ")
	if id == f.Get(name) {
		return 0
	}
	return max(shell.Number(id), 0)
}

// Do is what a button of the form does, and to which; empty: it saves.
func (f Typed) Do() (what string, which int) {
	what, arg, _ := strings.Cut(f.Get("do"), " ")
	which, _ = strconv.Atoi(arg) // a path of a rule is for whoever reads the rule
	return what, which
}

// StepForms are the forms of the kinds of step, as templates/steps.html writes them.
var StepForms = map[string]StepForm{
	"email":         {"step-email", readEmail},
	"call":          {"step-call", readCall},
	"social touch":  {"step-social", readSocial},
	"task":          {"step-task", readTask},
	"post":          {"step-post", readPost},
	"pause":         {"step-pause", readPause},
	"watch":         {"step-watch", readWatch},
	"check":         {"step-check", readCheck},
	"sort":          {"step-sort", readSort},
	"change record": {"step-change", readChange},
	"alert":         {"step-alert", readAlert},
	"hand over": {"step-hand-over", func(f Typed, s sequence.Step) error {
		return readTiming(f, &s.(*sequence.Handover).Timing)
	}},
	"go on": {"step-go-on", func(f Typed, s sequence.Step) error {
		x := s.(*sequence.GoOn)
		x.Sequence = max(f.Number("sequence"), 0)
		return readTiming(f, &x.Timing)
	}},
	"end": {Part: "step-end"},
}

func readEmail(f Typed, s sequence.Step) error {
	e := s.(*sequence.Email)
	e.Message, e.Request = max(f.Number("message"), 0), f.Get("request") != ""
	e.Thread, e.Sender = sequence.StepID(f.Number("thread")), max(f.Number("by"), 0)
	e.Purpose = max(f.Number("purpose"), 0)
	return readTiming(f, &e.Timing)
}

func readCall(f Typed, s sequence.Step) error {
	x := s.(*sequence.Call)
	x.Guide, x.For = strings.TrimSpace(f.Get("guide")), max(f.Number("for"), 0)
	x.Team, x.Attempts = f.team("for"), int(min(max(f.Number("attempts"), 0), 100))
	if x.Attempts == desk.UsualAttempts {
		x.Attempts = 0
	}
	err := readToDo(f, &x.ToDo)
	if len(x.Guide) > 5000 {
		err = errors.Join(err, plainly.New("the guide is too long: at most 5,000 letters"))
	}
	return err
}

func readTask(f Typed, s sequence.Step) error {
	x := s.(*sequence.Task)
	x.What, x.For = strings.TrimSpace(f.Get("what")), max(f.Number("for"), 0)
	x.Team = f.team("for")
	err := readToDo(f, &x.ToDo)
	if len(x.What) > 5000 {
		err = errors.Join(err, plainly.New("what is to be done is too long: at most 5,000 letters"))
	}
	return err
}

func readSocial(f Typed, s sequence.Step) error {
	x := s.(*sequence.Social)
	x.What, x.Text = sequence.SocialAct(f.Get("act")), strings.TrimSpace(f.Get("words"))
	x.N, x.After = 0, 0
	switch x.What {
	case sequence.React, sequence.Vouch:
		x.N = int(f.Number("n"))
	case sequence.Connect:
		x.After = int(f.Number("after"))
	}
	if x.What == sequence.Visit || x.What == sequence.React || x.What == sequence.Vouch {
		x.Text = ""
	}
	err := readToDo(f, &x.ToDo)
	switch {
	case !slices.Contains(sequence.SocialActs(), x.What):
		x.What = sequence.Connect
		err = errors.Join(err, plainly.New("choose what is done on the network"))
	case x.N < 0 || x.N > sequence.MaxAtOnce:
		err = errors.Join(err, plainly.Errorf("at most %d at once", sequence.MaxAtOnce))
	case x.After < 0 || x.After > 365:
		err = errors.Join(err, plainly.New("a request stands for at most 365 days"))
	case utf8.RuneCountInString(x.Text) > sequence.MaxMessage:
		err = errors.Join(err, plainly.Errorf("the words are too many: at most %d letters", sequence.MaxMessage))
	}
	return err
}

func readPost(f Typed, s sequence.Step) error {
	x := s.(*sequence.Post)
	x.Card = strings.TrimSpace(f.Get("words"))
	err := readToDo(f, &x.ToDo)
	if utf8.RuneCountInString(x.Card) > sequence.MaxCard {
		err = errors.Join(err, plainly.Errorf("a card has at most %d letters", sequence.MaxCard))
	}
	return err
}

func readPause(f Typed, s sequence.Step) error {
	p := s.(*sequence.Pause)
	return readUntil(f, &p.For, &p.Until)
}

// readUntil reads how long something lasts: a while, or until before or after an event.
func readUntil(f Typed, long *calendar.Span, until **sequence.FromEvent) (err error) {
	*until = nil
	if side := f.Get("until"); side == "before" || side == "later" {
		*long = calendar.Span{}
		*until, err = readFromEvent(f, "till", side == "later")
		return err
	}
	if !f.Has("for") { // it was until an event, and is to be a while
		*long = calendar.Span{N: 3, Unit: calendar.Days}
		return nil
	}
	return ReadSpan(f, "for", long)
}

// readFromEvent reads an instant before or after an event from the fields name, name-unit,
// name-clock and name-event. Where there are none yet it is a day, at nine.
func readFromEvent(f Typed, name string, after bool) (*sequence.FromEvent, error) {
	x := &sequence.FromEvent{Event: max(f.Number(name+"-event"), 0)}
	x.After, x.Clock = after, 9*60
	if !f.Has(name) {
		x.Span = calendar.Span{N: 1, Unit: calendar.Days}
		return x, nil
	}
	err := ReadSpan(f, name, &x.Span)
	if text := f.Get(name + "-clock"); text != "" {
		clock, cerr := shell.ClockTime(text)
		if cerr == nil {
			x.Clock = clock
		}
		err = errors.Join(err, cerr)
	}
	return x, err
}

func readWatch(f Typed, s sequence.Step) error {
	w := s.(*sequence.Watch)
	w.Signal, w.Of = signal.Kind(f.Number("signal")), sequence.StepID(f.Number("of"))
	w.Page, w.Link, w.AtEnd = max(f.Number("page"), 0), int32(max(f.Number("link"), 0)), f.Get("atend") != ""
	w.Event = 0
	switch {
	case w.Signal.OfEvent():
		w.Of, w.Page, w.Event = 0, 0, max(f.Number("event"), 0)
	case w.Signal.OfPage():
		w.Of = 0 // these come from pages, not from emails
	default:
		w.Page = 0
	}
	if w.Signal != signal.Click || w.Of == 0 {
		w.Link = 0
	}
	err := readUntil(f, &w.For, &w.Until)
	n, nerr := strconv.Atoi(f.Get("times"))
	if nerr != nil || n < 1 || n > 1000 {
		return errors.Join(err, plainly.New("how often is a whole number from 1 to 1000"))
	}
	w.N = n
	return err
}

func readCheck(f Typed, s sequence.Step) error {
	r, there, err := shell.ReadRuleAt(f.Values, "r", f.Rules)
	if there && err == nil {
		s.(*sequence.Check).Rule = plainRule(r)
	}
	return err
}

// plainRule is a rule of one condition without the group that an editor puts around it.
func plainRule(r rule.Rule) rule.Rule {
	if len(r.All) == 1 && len(r.Any) == 0 && len(r.None) == 0 && r.All[0].If != nil {
		return r.All[0]
	}
	return r
}

// readSort reads the ways of a sort, each with its name and its rule. The buttons are
// "way" (one more), "unway 2" (of that key), "before 2".
func readSort(f Typed, s sequence.Step) error {
	x := s.(*sequence.Sort)
	do, key := f.Do()
	var ways []sequence.Way
	for _, k := range f.Values["way"] {
		n, err := strconv.Atoi(k)
		if err != nil || n < 1 || len(ways) > sequence.MaxWays {
			return plainly.New("there is no such rule of the sort")
		}
		if do == "unway" && n == key {
			continue
		}
		r, _, err := shell.ReadRuleAt(f.Values, "w"+k, f.Rules)
		if err != nil {
			return err
		}
		ways = append(ways, sequence.Way{Key: n, Name: person.Name(f.Get("way-name." + k)), Rule: plainRule(r)})
	}
	x.Ways = ways
	switch do {
	case "way":
		if len(x.Ways) < sequence.MaxWays {
			x.Ways = append(x.Ways, sequence.Way{Key: x.NewKey(), Rule: rule.ScoreAtLeast(15)})
		}
	case "before":
		i := slices.IndexFunc(x.Ways, func(w sequence.Way) bool { return w.Key == key })
		if i > 0 {
			x.Ways[i-1], x.Ways[i] = x.Ways[i], x.Ways[i-1]
		}
	}
	return nil
}

func readChange(f Typed, s sequence.Step) error {
	x := s.(*sequence.Change)
	x.Acts = readActs(f, act.OfRecord())
	return readTiming(f, &x.Timing)
}

func readAlert(f Typed, s sequence.Step) error {
	x := s.(*sequence.Alert)
	x.Acts = readActs(f, []*act.Kind{act.Alert{}.Kind()})
	return readTiming(f, &x.Timing)
}

// readActs reads the acts of a form, of some kinds. What is not whole is kept as it is:
// the checks name it.
func readActs(f Typed, of []*act.Kind) (out []act.Kept) {
	for i := range f.Values["act_do"] {
		if a := shell.TypedAct(f.Values, i); a != nil && slices.Contains(of, a.Kind()) && i < act.Max {
			out = append(out, act.Kept{Act: a})
		}
	}
	return out
}

func readToDo(f Typed, t *sequence.ToDo) error {
	t.NoWait = f.Get("nowait") != ""
	return errors.Join(readTiming(f, &t.Timing), ReadSpan(f, "limit", &t.Limit))
}

// readTiming reads when a step is due.
func readTiming(f Typed, t *sequence.Timing) error {
	var errs []error
	own := t.Own
	*t = sequence.Timing{}
	if f.Get("own") != "" {
		hours, err := shell.ReadHours(f.Values, "own", own)
		t.Own = hours
		errs = append(errs, err)
	}
	when := f.Get("when")
	if when == "date" || when == "before" || when == "later" {
		if t.Late = sequence.Late(f.Get("late")); !slices.Contains(sequence.Lates(), t.Late) {
			t.Late = sequence.LatePass
		}
	}
	if when == "before" || when == "later" {
		from, err := readFromEvent(f, "from", when == "later")
		t.From = from
		return errors.Join(append(errs, err)...)
	}
	if when != "date" {
		return errors.Join(append(errs, ReadSpan(f, "wait", &t.Wait))...)
	}
	day, err := time.Parse(time.DateOnly, f.Get("date"))
	if err != nil {
		t.Date = calendar.Date{Year: 2000, Month: 1, Day: 1} // a day that shows that it is none yet
		return errors.Join(append(errs, plainly.New("choose the day on which it is due"))...)
	}
	t.Date = calendar.DateOf(day, time.UTC)
	if t.Clock, err = shell.ClockTime(f.Get("clock")); err != nil {
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// ReadSpan reads a length of time from the fields name and name-unit.
func ReadSpan(f Typed, name string, s *calendar.Span) error {
	text := strings.TrimSpace(f.Get(name))
	n := 0
	if text != "" {
		var err error
		if n, err = strconv.Atoi(text); err != nil {
			return plainly.Errorf("%q is no whole number", text)
		}
	}
	x := calendar.Span{N: n, Unit: calendar.Unit(f.Get(name + "-unit"))}
	if n == 0 {
		x = calendar.Span{}
	}
	if err := x.Check(); err != nil {
		return err
	}
	*s = x
	return nil
}
