package sequences

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/sequence"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// What is done to a whole sequence: launched, held, ended, copied, removed.

type launchData struct {
	Q store.Sequence
	flow.Launching
	Others   string // the ground besides what people agreed to
	Enters   string
	Touches  []touchDay
	Leaves   string
	Warnings []sequence.Problem
	Plan     *sequence.Plan
}

// touchDay is what goes out to those who enter together, on a day counted from then, where
// they wait everything out: to all of them at most.
type touchDay struct {
	Day   int
	Date  string // of a step that is due on one
	Icon  string
	Title string
	Kind  string
}

// touchDays lists the touches of a plan in the order of their days.
func touchDays(p *sequence.Plan) (out []touchDay) {
	days := p.Days()
	for _, l := range p.Outline() {
		any, _ := p.RestsAfter(l.Step.About().ID)
		_, work := l.Step.(sequence.Work)
		if l.Again || !any && !work && l.Step.Kind().Word != "email" {
			continue
		}
		d := touchDay{Day: int(days[l.Step.About().ID]), Icon: l.Step.Kind().Icon, Title: l.Step.About().Title,
			Kind: l.Step.Kind().Word}
		if t, ok := l.Step.(interface{ Due() sequence.Timing }); ok && t.Due().Bound() {
			d.Date = t.Due().Says()
		}
		out = append(out, d)
	}
	slices.SortStableFunc(out, func(a, b touchDay) int { return a.Day - b.Day })
	return out
}

// askLaunch shows what a launch would do, before it is done.
func (s *Place) askLaunch(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	d := launchData{}
	if d.Launching, err = s.Engine.Launching(ctx, id); err != nil {
		return err
	}
	if len(d.Problems) > 0 {
		return s.NotDone(c, fmt.Sprintf("/sequences/%d?view=draft", id),
			"It cannot be launched yet: first mend what the checks name.")
	}
	if d.Q, err = s.Store.Sequence(ctx, id); err != nil {
		return err
	}
	draft, err := s.Store.Draft(ctx, id)
	if err != nil {
		return err
	}
	d.Others = draft.Plan.V.Ground.Other
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	names, err := s.namesFor(ctx, cat)
	if err != nil {
		return err
	}
	d.Enters = names.enters(&d.Q.Entry.V)
	if d.Warnings, err = s.Engine.Warnings(ctx, d.Q, draft.Plan.V); err != nil {
		return err
	}
	d.Plan = draft.Plan.V
	d.Touches, d.Leaves = touchDays(draft.Plan.V), leaveWords(draft.Plan.V, cat)
	return s.Page(c, "launch.html", "", "Sequences", "Launch "+d.Q.Name, d)
}

func (s *Place) launch(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/sequences/%d", id)
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	var move []sequence.StepID
	for _, x := range form["id"] {
		move = append(move, sequence.StepID(shell.Number(x)))
	}
	err = s.Engine.LaunchSeen(c.Request().Context(), id, shell.UserOf(c).ID, c.FormValue("seen"), move...)
	if errors.Is(err, flow.ErrLaunchesOther) {
		return s.NotDone(c, to+"/launch",
			"Nothing was launched. "+shell.Sentence(err)+" This is what a launch would do now.")
	}
	if u, ok := errors.AsType[*flow.Unready](err); ok {
		return s.NotDone(c, to+"?view=draft", shell.Sentence(u))
	}
	if err != nil {
		return err
	}
	return s.Done(c, to, "Launched. People enter from now on.")
}

func (s *Place) hold(c *echo.Context) error {
	return s.setRunning(c, s.Engine.Hold, "Held. Nobody is walked on and nothing goes out until you let it run on.")
}

func (s *Place) resume(c *echo.Context) error {
	return s.setRunning(c, s.Engine.Resume, "Running again. What came due meanwhile goes out in its sending hours.")
}

// askHoldAll names what a hold of everything would stop.
func (s *Place) askHoldAll(c *echo.Context) error {
	list, err := s.Store.Running(c.Request().Context())
	if err != nil {
		return err
	}
	return s.Page(c, "holdall.html", "", "Sequences", "Hold all", list)
}

func (s *Place) holdAll(c *echo.Context) error {
	id, n, err := s.Engine.HoldAll(c.Request().Context(), shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	if n == 0 {
		return s.Done(c, "/sequences", "Nothing was running.")
	}
	return s.DoneUndo(c, "/sequences", fmt.Sprintf("%d held: nothing goes out until it runs on.", n),
		fmt.Sprintf("/sequences/hold-all/%d/undo", id))
}

// takeBackHold lets everything run on that one hold of everything held.
func (s *Place) takeBackHold(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	n, err := s.Engine.TakeBackHold(c.Request().Context(), id)
	if errors.Is(err, store.ErrOver) {
		return s.NotDone(c, "/sequences", "That hold was taken back already.")
	}
	if err != nil {
		return err
	}
	return s.Done(c, "/sequences",
		fmt.Sprintf("%d running again. What was held before, or decided about since, stays as it is.", n))
}

func (s *Place) copySequence(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	made, err := s.Engine.CopySequence(c.Request().Context(), id)
	if err != nil {
		return err
	}
	return s.Done(c, fmt.Sprintf("/sequences/%d?view=draft", made), "This is the copy. Nobody is in it.")
}

// askEnd says what ending a sequence would do.
func (s *Place) askEnd(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	q, err := s.Store.Sequence(c.Request().Context(), id)
	if err != nil {
		return err
	}
	return s.Page(c, "endsequence.html", "", "Sequences", "End "+q.Name, q)
}

func (s *Place) endSequence(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/sequences/%d", id)
	n, err := s.Engine.EndSequence(c.Request().Context(), id)
	if errors.Is(err, store.ErrOver) {
		return s.NotDone(c, to, "Only a sequence that runs or is held can be ended.")
	}
	if err != nil {
		return err
	}
	return s.Done(c, to, fmt.Sprintf("Ended. %s left it.", shell.PeopleWords(n)))
}

func (s *Place) removeSequence(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	at := fmt.Sprintf("/sequences/%d", id)
	back := strings.HasSuffix(c.Request().URL.Path, "/back")
	err = s.Engine.RemoveSequence(c.Request().Context(), id, back)
	if errors.Is(err, store.ErrOver) {
		return s.NotDone(c, at, "End it first: people are, or could be, on the way.")
	}
	if err != nil {
		return err
	}
	if back {
		return s.Done(c, at, "It is back.")
	}
	return s.DoneUndo(c, "/sequences", "The sequence is off the list. What it did still tells of it.", at+"/back")
}

func (s *Place) setRunning(c *echo.Context, f func(context.Context, int64) error, note string) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/sequences/%d", id)
	if err := f(c.Request().Context(), id); err != nil {
		return s.NotDone(c, to, shell.Sentence(err))
	}
	return s.Done(c, to, note)
}
