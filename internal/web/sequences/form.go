package sequences

import (
	"bytes"
	"context"
	"fmt"
	"html/template"
	"strconv"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// formData is what the form of a step is written with.
type formData struct {
	S        sequence.Step
	Messages []store.MessageName
	Pages    []store.PageName
	Events   []store.EventName
	Emails   []sequence.Step // before it
	Touches  []sequence.Step // before it, that somebody can answer to
	Links    []shell.Choice  // of the email it watches
	Kinds    []signal.Kind
	Units    []calendar.Unit
	Choices  *shell.ActChoices
	Others   []store.SequenceName
	Editor   shell.RuleView
	Ways     []wayForm
	Acts     []shell.ActRow
}

// wayForm is a way of a sort.
type wayForm struct {
	sequence.Way
	Editor shell.RuleView
}

// stepForm renders the form of a step's kind.
func (s *Place) stepForm(
	ctx context.Context, d *sequenceData, messages []store.MessageName,
) (template.HTML, error) {
	form, ok := StepForms[d.Step.Kind().Word]
	if !ok {
		return "", nil // a kind without settings
	}
	t, err := shell.TemplateOf("sequence.html", form.Part)
	if err != nil {
		return "", err
	}
	id := d.Step.About().ID
	f := formData{S: d.Step, Messages: messages, Pages: d.Pages, Events: d.Events,
		Emails:  d.Plan.Touches(id, "email"),
		Touches: d.Plan.Touches(id, ""), Kinds: signal.Kinds(), Choices: d.choices,
		Units: []calendar.Unit{calendar.Minutes, calendar.Hours, calendar.Days, calendar.WorkingDays}}
	for _, q := range d.choices.Sequences {
		if q.ID != d.Q.ID {
			f.Others = append(f.Others, q)
		}
	}
	switch x := d.Step.(type) {
	case *sequence.Check:
		f.Editor = shell.ViewRule(x.Rule, d.cat)
	case *sequence.Sort:
		for _, w := range x.Ways {
			f.Ways = append(f.Ways, wayForm{w,
				shell.ViewRuleAt(w.Rule, "w"+strconv.Itoa(w.Key), d.cat, rule.Subjects(d.cat))})
		}
	case *sequence.Change:
		f.Acts = shell.ActRows(acts(x.Acts), act.OfRecord(), d.choices)
	case *sequence.Alert:
		f.Acts = shell.ActRows(acts(x.Acts), []*act.Kind{act.Alert{}.Kind()}, d.choices)
	case *sequence.Watch:
		if f.Links, err = s.linksOf(ctx, d.Plan, x); err != nil {
			return "", err
		}
	}
	var b bytes.Buffer
	err = t.ExecuteTemplate(&b, form.Part, f)
	return template.HTML(b.String()), err
}

func acts(list []act.Kept) []act.Act {
	out := make([]act.Act, len(list))
	for i, a := range list {
		out[i] = a.Act
	}
	return out
}

// linksOf lists the links of the email that a watch waits for an answer to.
func (s *Place) linksOf(ctx context.Context, p *sequence.Plan, w *sequence.Watch) ([]shell.Choice, error) {
	e, ok := p.Step(w.Of).(*sequence.Email)
	if !ok || e.Message == 0 || w.Signal != signal.Click {
		return nil, nil
	}
	m, err := s.Store.MessageText(ctx, e.Message)
	if store.IsNotFound(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []shell.Choice
	for _, l := range m.Doc.V.Links() {
		words := l.Words
		if words == "" {
			words = l.Target
		}
		out = append(out, shell.Choice{Value: fmt.Sprint(l.N), Words: words, Chosen: int32(l.N) == w.Link})
	}
	return out, nil
}
