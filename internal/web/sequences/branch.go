package sequences

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/sequence"
	"ombak/internal/web/shell"
)

// What somebody has copied or cut lies in their session, so that it can be put in in
// another sequence, or in another tab.
const clipboard = "branch"

// copied is what the user has copied or cut last; nil: nothing, or nothing that can be
// read any more.
func (s *Place) copied(ctx context.Context) *sequence.Branch {
	data := s.Sessions.GetBytes(ctx, clipboard)
	if len(data) == 0 {
		return nil
	}
	b, err := sequence.ReadBranch(data)
	if err != nil { // an earlier version of the program has kept it
		s.Sessions.Remove(ctx, clipboard)
		return nil
	}
	return b
}

// keep copies a step of a plan, with all that it leads to where the form says so.
func (s *Place) keep(c *echo.Context, id int64, p *sequence.Plan, step sequence.StepID) (*sequence.Branch, error) {
	b, err := p.Copy(step, c.FormValue("whole") != "")
	if err != nil {
		return nil, err
	}
	b.From = id
	data, err := b.Keep()
	if err == nil {
		s.Sessions.Put(c.Request().Context(), clipboard, data)
	}
	return b, err
}

// copyStep copies a step of what is shown, the draft or what runs.
func (s *Place) copyStep(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	draft, err := s.Store.Draft(c.Request().Context(), id)
	if err != nil {
		return err
	}
	step := sequence.StepID(shell.Number(c.Param("step")))
	b, err := s.keep(c, id, draft.Plan.V, step)
	if err != nil {
		return s.edited(c, id, sequence.CutBranch{ID: step}, 0, err)
	}
	return s.showSequence(c, http.StatusOK, id, func(d *sequenceData) {
		d.Copied = b
		d.Noted = fmt.Sprintf("Copied: %s. Press a plus and put it in.", branchWords(b))
		if d.Step = d.Plan.Step(step); d.Step != nil {
			d.Panel, d.Said = "step", d.says(d.Step)
		}
	})
}

// branchWords names a branch: “Takes it?” and 3 more.
func branchWords(b *sequence.Branch) string {
	s := "“" + b.Title() + "”"
	if n := b.Size() - 1; n > 0 {
		s += fmt.Sprintf(" and %d more", n)
	}
	return s
}

// cutStep copies a step and takes it out.
func (s *Place) cutStep(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	draft, err := s.Store.Draft(c.Request().Context(), id)
	if err != nil {
		return err
	}
	x := sequence.CutBranch{ID: sequence.StepID(shell.Number(c.Param("step"))), Whole: c.FormValue("whole") != ""}
	if _, err := s.keep(c, id, draft.Plan.V, x.ID); err != nil {
		return s.edited(c, id, x, 0, err)
	}
	return s.edit(c, x)
}

// place reads the stream that a form names.
func place(c *echo.Context) (from sequence.StepID, exits []sequence.Exit) {
	for _, e := range strings.Split(c.FormValue("exit"), "|") {
		exits = append(exits, sequence.Exit(e))
	}
	return sequence.StepID(shell.Number(c.FormValue("from"))), exits
}

// putBranch puts in what was copied or cut.
func (s *Place) putBranch(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	x := sequence.PutBranch{Branch: s.copied(c.Request().Context())}
	x.From, x.Exits = place(c)
	x.Same = x.Branch != nil && x.Branch.From == id
	return s.edit(c, x)
}

// moveStep moves a step to another stream.
func (s *Place) moveStep(c *echo.Context) error {
	x := sequence.MoveBranch{ID: sequence.StepID(shell.Number(c.FormValue("step"))), Whole: c.FormValue("whole") != ""}
	x.From, x.Exits = place(c)
	return s.edit(c, x)
}

// joinStream leads a stream to a step that is there.
func (s *Place) joinStream(c *echo.Context) error {
	x := sequence.JoinStream{To: sequence.StepID(shell.Number(c.FormValue("to")))}
	x.From, x.Exits = place(c)
	return s.edit(c, x)
}

// Joins lists the steps to which the chosen stream can lead without leading back.
func (d sequenceData) Joins() (out []sequence.Step) {
	if d.From == 0 {
		return nil
	}
	for _, s := range d.Plan.Steps {
		x := sequence.JoinStream{From: d.From, To: s.About().ID}
		for _, e := range strings.Split(string(d.Exit), "|") {
			x.Exits = append(x.Exits, sequence.Exit(e))
		}
		if from := d.Plan.Step(d.From); from != nil && from.About().To[x.Exits[0]] == x.To {
			continue
		}
		if _, _, err := x.Apply(d.Plan.Clone()); err == nil {
			out = append(out, s)
		}
	}
	return out
}
