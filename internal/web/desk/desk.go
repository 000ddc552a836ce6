package desk

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/core/touch"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// work is one thing on the desk.
type work struct {
	Key     string // "call-12", of whatever kind of touch
	Handoff *store.Handoff
	Touch   *store.Touch // what a step asks for: a call, a social touch, a task
	Task    *store.Task
}

type deskData struct {
	Work     []work
	Now      *work
	At       int    // which of Work it is, from 1
	Before   string // the key of the one before it, and of the next
	After    string
	Guide    string
	Words    string // ready to be copied
	Outcomes []sequence.Outcome
	Handoffs int
	Calls    int
	Social   int
	Tasks    int
	Alerts   []shell.Bundle
	When     string // their reader takes them
	Times    []string
	Network  *networkForm // nil: none is connected, or they do not sell
	Unsure   []store.Incoming
	Undo     string // what was done a moment ago, "task-12"
	All      bool   // a lead sees everybody's
	Signals  []store.TimelineSignal
	Wrong    string
}

func (s *Place) desk(c *echo.Context) error { return s.showDesk(c, http.StatusOK, "") }

func (s *Place) showDesk(c *echo.Context, code int, wrong string) error {
	ctx := c.Request().Context()
	u := shell.UserOf(c)
	rep := u.ID
	d := deskData{Wrong: wrong}
	if u.Role != right.Rep {
		rep, d.All = 0, true
	}
	handoffs, err := s.Store.OpenHandoffs(ctx, rep)
	if err != nil {
		return err
	}
	touches, err := s.Store.DeskWork(ctx, rep)
	if err != nil {
		return err
	}
	tasks, err := s.Store.OpenTasks(ctx, rep, false, s.Engine.Now())
	if err != nil {
		return err
	}
	if d.Alerts, err = s.Bundles(c, u.ID); err != nil {
		return err
	}
	if d.Unsure, err = s.Store.UnsureIncoming(ctx, 0, rep, 20); err != nil {
		return err
	}
	if d.When, err = s.Store.AlertsTo(ctx, u.ID); err != nil {
		return err
	}
	if d.Network, err = s.networkForm(ctx, u); err != nil {
		return err
	}
	d.Times, d.Undo = sales.AlertTimes(), c.QueryParam("undo")
	d.Handoffs, d.Tasks = len(handoffs), len(tasks)
	for i := range handoffs {
		d.Work = append(d.Work, work{Key: fmt.Sprintf("handoff-%d", handoffs[i].ID), Handoff: &handoffs[i]})
	}
	for i := range touches {
		switch touches[i].Kind {
		case touch.Task:
			d.Tasks++
		case touch.Social:
			d.Social++
		default:
			d.Calls++
		}
		d.Work = append(d.Work, work{Key: fmt.Sprintf("call-%d", touches[i].ID), Touch: &touches[i]})
	}
	for i := range tasks {
		d.Work = append(d.Work, work{Key: fmt.Sprintf("task-%d", tasks[i].ID), Task: &tasks[i]})
	}
	item := c.QueryParam("item")
	for i := range d.Work {
		if d.Work[i].Key == item || (i == 0 && d.Now == nil) {
			d.Now, d.At = &d.Work[i], i+1
		}
	}
	if d.Now != nil && item != "" && d.Now.Key != item && wrong == "" {
		d.Wrong = "What you had open is not on the desk any more. This is what comes first now."
	}
	if d.At > 1 {
		d.Before = d.Work[d.At-2].Key
	}
	if d.At > 0 && d.At < len(d.Work) {
		d.After = d.Work[d.At].Key
	}
	if d.Now != nil {
		who := int64(0)
		switch {
		case d.Now.Task != nil:
			who = d.Now.Task.Person
		case d.Now.Touch != nil:
			who = d.Now.Touch.Person
			step, err := s.Engine.WorkOf(ctx, d.Now.Touch)
			if err != nil {
				return err
			}
			d.Outcomes = step.Outcomes()
			if d.Guide, err = s.told(ctx, step.Tells(), who, shell.UserOf(c).ID); err != nil {
				return err
			}
			if d.Words, err = s.told(ctx, step.Words(), who, shell.UserOf(c).ID); err != nil {
				return err
			}
		default:
			who = d.Now.Handoff.Person
		}
		if d.Signals, err = s.Store.PersonTimeline(ctx, who); err != nil {
			return err
		}
		if len(d.Signals) > 8 {
			d.Signals = d.Signals[:8]
		}
	}
	return s.PageCode(c, code, "desk.html", "desk", "Desk", "Desk", d)
}

// told is what a step says with its merge fields filled in for one person. Where a field has
// no value, or is none, it is shown as it was written: a rep sees what to leave out.
func (s *Place) told(ctx context.Context, text string, who, user int64) (string, error) {
	if !strings.Contains(text, "{{") {
		return text, nil
	}
	said, err := s.Engine.TextFor(ctx, text, who, user)
	if _, plain := plainly.Says(err); err != nil && plain {
		return text, nil
	}
	return said, err
}

func (s *Place) finishWork(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	err = s.Engine.FinishWork(c.Request().Context(), id, shell.UserOf(c).ID, sequence.Outcome(c.FormValue("outcome")),
		c.FormValue("notes"))
	if errors.Is(err, base.ErrGone) {
		return s.NotDone(c, "/desk",
			"This is no longer on the desk: somebody else did it, or the sequence has gone on.")
	}
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if err != nil {
		return s.NotDone(c, fmt.Sprintf("/desk?item=call-%d", id), shell.Sentence(err))
	}
	return s.Done(c, "/desk", "Noted: "+c.FormValue("outcome")+".")
}

func (s *Place) accept(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	_, err = s.Engine.Accept(c.Request().Context(), id, shell.UserOf(c).ID)
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if err != nil {
		return s.NotDone(c, "/desk", shell.Sentence(err))
	}
	return s.DoneUndo(c, "/desk", "Accepted. A deal stands on the pipeline.", fmt.Sprintf("/desk/handoffs/%d/back", id))
}

// takeBack puts a handoff that was accepted or sent back on the desk again.
func (s *Place) takeBack(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	item := fmt.Sprintf("/desk?item=handoff-%d", id)
	switch err := s.Engine.TakeBack(c.Request().Context(), id, shell.UserOf(c).ID); {
	case err == nil:
		return s.Done(c, item, "It is back on the desk.")
	case errors.Is(err, sales.ErrMovedOn):
		return s.NotDone(c, "/desk", shell.Sentence(sales.ErrMovedOn))
	default:
		return shell.NotYours(err)
	}
}

func (s *Place) sendBack(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	err = s.Engine.SendBack(c.Request().Context(), id, shell.UserOf(c).ID, c.FormValue("reason"))
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if errors.Is(err, sales.ErrNoReason) {
		return s.NotDone(c, "/desk?item=handoff-"+strconv.FormatInt(id, 10), shell.Sentence(err))
	}
	if err != nil {
		return s.NotDone(c, "/desk", shell.Sentence(err))
	}
	return s.DoneUndo(c, "/desk", "Sent back. Marketing sees your reason.", fmt.Sprintf("/desk/handoffs/%d/back", id))
}

// sortLetter takes whether a letter is from whom it seems to be from.
func (s *Place) sortLetter(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := shell.LocalPath(c.FormValue("back"))
	if to == "" {
		to = "/desk"
	}
	theirs := c.FormValue("theirs") == "yes"
	if err := s.Engine.Sort(c.Request().Context(), id, shell.UserOf(c).ID, theirs); err != nil {
		if store.IsNotFound(err) {
			return s.NotDone(c, to, "Somebody else has sorted this letter meanwhile.")
		}
		return err
	}
	if theirs {
		return s.Done(c, to, "Noted as theirs. It counts from when it came.")
	}
	return s.Done(c, to, "Noted as not theirs. What waited for it goes on.")
}

// Routes are those of the place Desk.
func (s *Place) Routes(in *echo.Group) {
	sells := shell.Allow(right.Rep, right.Lead, right.Admin)
	in.GET("/desk", s.desk)
	in.POST("/desk/tasks/:id", s.finishTask)
	in.POST("/desk/tasks/back", s.reopenTask)
	in.POST("/desk/alerts", s.seeAlerts)
	in.POST("/desk/alerts/when", s.setAlerts)
	in.POST("/desk/network", s.setNetwork, sells)
	in.POST("/letters/:id/sort", s.sortLetter, shell.Allow(right.Marketer, right.Rep, right.Lead, right.Admin))
	in.POST("/desk/calls/:id", s.finishWork, sells)
	in.POST("/desk/handoffs/:id/accept", s.accept, sells)
	in.POST("/desk/handoffs/:id/send-back", s.sendBack, sells)
	in.POST("/desk/handoffs/:id/back", s.takeBack, sells)
}
