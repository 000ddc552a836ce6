package sequences

import (
	"fmt"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// partLine is a line of the parts list: what a step is made of, and who makes what is
// missing, by when.
type partLine struct {
	sequence.Part
	Title string // of the step
	Icon  string
	What  string // "a message"
	Name  string // of what is there; empty: it is missing
	Href  string // where it is
	Make  sequence.Making
	Who   string // makes it
	Late  bool   // it should be there already
}

// Missing reports whether it is still to be made.
func (p partLine) Missing() bool { return p.Name == "" }

var partWords = map[sequence.PartKind]string{sequence.MessagePart: "a message", sequence.SequencePart: "a sequence",
	sequence.WordsPart: "words", sequence.EventPart: "an event"}

// partLines lists the parts of a plan.
func (s *Place) partLines(d *sequenceData, messages []store.MessageName) []partLine {
	today := calendar.DateOf(s.Engine.Now(), s.Engine.Zone()).String()
	var out []partLine
	for _, x := range d.Plan.Parts() {
		step := d.Plan.Step(x.Step)
		p := partLine{Part: x, Title: step.About().Title, Icon: step.Kind().Icon, What: partWords[x.What],
			Make: step.About().Make}
		switch x.What {
		case sequence.MessagePart:
			for _, m := range messages {
				if m.ID == x.ID {
					p.Name, p.Href = m.Name, fmt.Sprintf("/content/messages/%d", m.ID)
				}
			}
		case sequence.SequencePart:
			if x.ID != 0 {
				p.Name, p.Href = d.choices.Sequence(x.ID), fmt.Sprintf("/sequences/%d", x.ID)
			}
		case sequence.EventPart:
			p.Href = fmt.Sprintf("/content/events/new?sequence=%d", d.Q.ID)
			for _, e := range d.Events {
				if e.ID == x.ID {
					p.Name, p.Href = e.Name, fmt.Sprintf("/content/events/%d", e.ID)
				}
			}
		case sequence.WordsPart:
			p.Href = fmt.Sprintf("/sequences/%d?view=draft&step=%d", d.Q.ID, x.Step)
			if x.ID != 0 {
				p.Name = "written"
			}
		}
		if p.Make.Who != 0 {
			p.Who = d.choices.User(p.Make.Who)
		}
		p.Late = p.Missing() && p.Make.By != calendar.Date{} && p.Make.By.String() < today
		out = append(out, p)
	}
	return out
}

type partsData struct {
	Q     store.Sequence
	N     int
	Lines []partLine
	Left  int // still to be made
	Users []store.User
}

// parts shows the parts list of a draft, to be worked through and printed.
func (s *Place) parts(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	d := sequenceData{}
	if d.Q, err = s.Store.Sequence(ctx, id); err != nil {
		return err
	}
	draft, err := s.Store.Draft(ctx, id)
	if err != nil {
		return err
	}
	d.Plan = draft.Plan.V
	if d.choices, err = s.ActChoices(ctx); err != nil {
		return err
	}
	if d.Events, err = s.Store.EventNames(ctx); err != nil {
		return err
	}
	messages, err := s.Store.MessageNames(ctx)
	if err != nil {
		return err
	}
	x := partsData{Q: d.Q, N: draft.N, Lines: s.partLines(&d, messages), Users: d.choices.Users}
	for _, p := range x.Lines {
		if p.Missing() {
			x.Left++
		}
	}
	return s.Page(c, "partslist.html", "", "Sequences", "Parts of "+d.Q.Name, x)
}

// setMaking keeps who makes a part, and by when.
func (s *Place) setMaking(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	x := sequence.SetMaking{ID: sequence.StepID(shell.Number(c.Param("step")))}
	x.Make.Who = max(shell.Number(c.FormValue("who")), 0)
	to := fmt.Sprintf("/sequences/%d/parts", id)
	if by := c.FormValue("by"); by != "" {
		day, err := time.Parse(time.DateOnly, by)
		if err != nil {
			return s.NotDone(c, to, "Choose a day by which it is made.")
		}
		x.Make.By = calendar.DateOf(day, time.UTC)
	}
	if _, err := s.Engine.EditPlan(c.Request().Context(), id, stateN(c), x); err != nil {
		if store.IsNotFound(err) {
			return err
		}
		return s.NotDone(c, to, shell.Sentence(err))
	}
	return s.Done(c, to, "Noted.")
}

// makePart makes what a step is missing, and goes there.
func (s *Place) makePart(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	what, made, err := s.Engine.MakePart(c.Request().Context(), id, stateN(c),
		sequence.StepID(shell.Number(c.Param("step"))), shell.UserOf(c).ID)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.NotDone(c, fmt.Sprintf("/sequences/%d/parts", id), shell.Sentence(err))
	}
	if what == sequence.SequencePart {
		return s.Done(c, fmt.Sprintf("/sequences/%d?view=draft", made), "This is the sequence that they go on to.")
	}
	return s.Done(c, fmt.Sprintf("/content/messages/%d", made), "")
}
