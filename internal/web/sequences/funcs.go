package sequences

import (
	"fmt"
	"html/template"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
)

func stepTitle(p *sequence.Plan, id sequence.StepID) string {
	if s := p.Step(id); s != nil {
		return s.About().Title
	}
	return ""
}

// hour is the beginning (0) or the end (1) of the hours of a Monday.
func hour(h calendar.SendingHours, end int) string {
	list := h.Days[time.Monday]
	if len(list) == 0 {
		return ""
	}
	m := list[0].From
	if end == 1 {
		m = list[0].To
	}
	return fmt.Sprintf("%02d:%02d", m/60, m%60)
}

var stepFuncs = template.FuncMap{
	"stepTitle":   stepTitle,
	"hour":        hour,
	"weekend":     func(h calendar.SendingHours) bool { return len(h.Days[time.Saturday]) > 0 },
	"checksScore": func(s *sequence.Check) bool { return s.Rule.If != nil && s.Rule.If.Score },
	"checkField": func(s *sequence.Check) rule.Field {
		if s.Rule.If == nil {
			return ""
		}
		if q := s.Rule.If; q.About == rule.Audience {
			return rule.Field(fmt.Sprintf("audience %d", q.ID))
		}
		return s.Rule.If.Field
	},
	"checkValue": func(s *sequence.Check) string {
		switch {
		case s.Rule.If == nil:
			return ""
		case s.Rule.If.Score:
			return fmt.Sprint(s.Rule.If.N)
		}
		return s.Rule.If.Value
	},
}
