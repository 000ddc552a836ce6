package score

import (
	"fmt"

	"ombak/internal/core/rule"
)

// Difference is one thing that a draft says otherwise: what it was, empty where it is new, and what it would be, empty
// where it goes.
type Difference struct{ Was, Is string }

// Differences lists what of a model a draft says otherwise: its rules by their ids, then what is made of their sum.
func Differences(was, is *Model, cat *rule.Catalogue) []Difference {
	var out []Difference
	say := func(a, b string) {
		if a != b {
			out = append(out, Difference{a, b})
		}
	}
	for i := range was.Rules {
		r, now := &was.Rules[i], ""
		if j := is.RuleOf(r.ID); j >= 0 {
			now = is.Rules[j].Words(cat)
		}
		say(r.Words(cat), now)
	}
	for i := range is.Rules {
		if r := &is.Rules[i]; was.RuleOf(r.ID) < 0 {
			say("", r.Words(cat))
		}
	}
	say(was.lineWords(), is.lineWords())
	say(was.boundWords(), is.boundWords())
	say(bandWords("band", was.Bands), bandWords("band", is.Bands))
	say(was.fitWords(cat), is.fitWords(cat))
	say(bandWords("band of the fit", was.FitBands), bandWords("band of the fit", is.FitBands))
	say(was.followWords(), is.followWords())
	return out
}

// followWords says what follows, without what the acts refer to by number.
func (m *Model) followWords() string {
	s := ""
	for i := range m.Follows {
		f := &m.Follows[i]
		at := "the ready line"
		if level, ok := f.Level(m); ok {
			at = fmt.Sprintf("%d points", level)
		}
		s += fmt.Sprintf("; who comes to %s:", at)
		for j, a := range f.Acts {
			if j > 0 {
				s += ","
			}
			if a.Act == nil {
				continue
			}
			s += " " + a.Kind().Menu
			if g := a.Kind().Given(a.Act); g.Words != "" {
				s += " “" + g.Words + "”"
			}
		}
	}
	if s == "" {
		return "nothing follows"
	}
	return s[2:]
}

func (m *Model) lineWords() string {
	if m.Line == 0 {
		return "no ready line"
	}
	s := fmt.Sprintf("ready from %d", m.Line)
	if m.FitLine > 0 {
		s += fmt.Sprintf(", with a fit of %d or more", m.FitLine)
	}
	if m.Margin > 0 {
		s += fmt.Sprintf(", again after falling %d below it", m.Margin)
	}
	if m.CoolOff > 0 {
		s += fmt.Sprintf(", or %s after being sent back", days(m.CoolOff))
	}
	return s
}

func (m *Model) boundWords() string {
	if m.Ceiling == 0 {
		return fmt.Sprintf("never below %d", m.Floor)
	}
	return fmt.Sprintf("from %d to %d", m.Floor, m.Ceiling)
}

func bandWords(what string, bands []rule.Band) string {
	s := ""
	for _, b := range bands {
		s += fmt.Sprintf(", %s “%s” from %d", what, b.Name, b.From)
	}
	if s == "" {
		return "no " + what
	}
	return s[2:]
}

func (m *Model) fitWords(cat *rule.Catalogue) string {
	s := ""
	for i := range m.Fit {
		s += fmt.Sprintf("; %d for whom %s", m.Fit[i].Points, m.Fit[i].If.Words(cat))
	}
	if s == "" {
		return "nothing makes a fit"
	}
	return "fit: " + s[2:]
}
