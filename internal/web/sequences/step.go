package sequences

import (
	"errors"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/web/shell"
)

// StepForm is the form of a kind of step.
type StepForm struct {
	Part string                                       // the template that writes it
	Read func(c *echo.Context, s sequence.Step) error // nil: there is nothing to read
}

// StepForms are the forms of the kinds of step, as templates/steps.html writes them.
var StepForms = map[string]StepForm{
	"email": {"step-email", func(c *echo.Context, s sequence.Step) error {
		e := s.(*sequence.Email)
		e.Message, _ = strconv.ParseInt(c.FormValue("message"), 10, 64)
		e.Request = c.FormValue("request") != ""
		thread, _ := strconv.Atoi(c.FormValue("thread")) // none: a new one
		e.Thread = sequence.StepID(thread)
		return ReadSpan(c, "wait", &e.Wait)
	}},
	"call": {"step-call", func(c *echo.Context, s sequence.Step) error {
		x := s.(*sequence.Call)
		x.Guide = strings.TrimSpace(c.FormValue("guide"))
		if len(x.Guide) > 5000 {
			return plainly.New("the guide is too long: at most 5,000 letters")
		}
		x.NoWait = c.FormValue("nowait") != ""
		return errors.Join(ReadSpan(c, "wait", &x.Wait), ReadSpan(c, "limit", &x.Limit))
	}},
	"pause": {"step-pause", func(c *echo.Context, s sequence.Step) error {
		return ReadSpan(c, "for", &s.(*sequence.Pause).For)
	}},
	"watch": {"step-watch", func(c *echo.Context, s sequence.Step) error {
		w := s.(*sequence.Watch)
		kind, _ := strconv.Atoi(c.FormValue("signal"))
		of, _ := strconv.Atoi(c.FormValue("of"))
		w.Signal, w.Of = signal.Kind(kind), sequence.StepID(of)
		w.Page, _ = strconv.ParseInt(c.FormValue("page"), 10, 64)
		n, err := strconv.Atoi(c.FormValue("times"))
		if err != nil || n < 1 || n > 1000 {
			return plainly.New("how often is a whole number from 1 to 1000")
		}
		w.N, w.AtEnd = n, c.FormValue("atend") != ""
		if w.Signal.OfPage() {
			w.Of = 0 // these come from pages, not from emails
		} else {
			w.Page = 0
		}
		return ReadSpan(c, "for", &w.For)
	}},
	"check": {"step-check", func(c *echo.Context, s sequence.Step) error {
		k := s.(*sequence.Check)
		value := strings.TrimSpace(c.FormValue("value"))
		if id, ok := shell.AudienceOf(c.FormValue("asks")); ok {
			k.Rule = rule.ThingIs(rule.Audience, id)
			return nil
		}
		if c.FormValue("asks") == "score" {
			n, err := strconv.Atoi(value)
			if err != nil {
				return plainly.New("a score is a whole number")
			}
			k.Rule = rule.ScoreAtLeast(n)
			return nil
		}
		r := rule.FieldIs(rule.Field(c.FormValue("asks")), value)
		if err := r.Check(nil); err != nil {
			return err
		}
		k.Rule = r
		return nil
	}},
	"hand over": {Part: "step-hand-over"},
	"end":       {Part: "step-end"},
}

// ReadSpan reads a length of time from the fields name and name-unit.
func ReadSpan(c *echo.Context, name string, s *calendar.Span) error {
	text := strings.TrimSpace(c.FormValue(name))
	n := 0
	if text != "" {
		var err error
		if n, err = strconv.Atoi(text); err != nil {
			return plainly.Errorf("%q is no whole number", text)
		}
	}
	x := calendar.Span{N: n, Unit: calendar.Unit(c.FormValue(name + "-unit"))}
	if n == 0 {
		x = calendar.Span{}
	}
	if err := x.Check(); err != nil {
		return err
	}
	*s = x
	return nil
}
