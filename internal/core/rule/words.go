package rule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/signal"
)

// Words says the rule in one sentence's worth of words: "country is Canada and
// at least 3 clicks within 180 days".
func (r *Rule) Words(cat *Catalogue) string {
	if !r.Asks() {
		return "everybody"
	}
	return r.words(cat, false)
}

func (r *Rule) words(cat *Catalogue, inside bool) string {
	join := func(list []Rule, with string) string {
		parts := make([]string, len(list))
		for i := range list {
			parts[i] = list[i].words(cat, len(list) > 1)
		}
		s := strings.Join(parts, with)
		if inside && len(list) > 1 {
			return "(" + s + ")"
		}
		return s
	}
	switch {
	case r.If != nil:
		return r.If.Words(cat)
	case len(r.Any) > 0:
		return join(r.Any, " or ")
	case len(r.None) > 0:
		return "not " + (&Rule{Any: r.None}).words(cat, true)
	case len(r.All) > 0:
		return join(r.All, " and ")
	}
	return "everybody"
}

// subject is what the condition is about, in words.
func (c *Condition) subject(cat *Catalogue) string {
	switch {
	case c.Signal != nil:
		return c.Signal.Kind.String()
	case c.Rule != 0:
		m, _ := cat.Scored(c.Model)
		return "score for " + nameOf(m.Rules, "rule", c.Rule) + cat.ofModel(c.Model)
	case c.Score, c.About == ByFit:
		what := "score"
		if !c.Score {
			what = "fit"
		}
		return what + cat.ofModel(c.Model)
	case c.About != "":
		return string(c.About)
	}
	if d, ok := cat.Define(c.Field); ok {
		return d.Name
	}
	return string(c.Field)
}

// Value as people read it: countries and languages by name.
func Shown(cat *Catalogue, f Field, v string) string {
	d, _ := cat.Define(f)
	switch v = strings.TrimSpace(v); d.Type {
	case person.CountryType:
		return person.CountryName(strings.ToUpper(v))
	case person.LanguageType:
		return person.LanguageName(v)
	}
	return person.Shown(v)
}

// Words says the condition alone.
func (c *Condition) Words(cat *Catalogue) string {
	switch {
	case c.Signal != nil:
		n := c.N
		if c.Op == Between {
			n = c.M
		}
		s := fmt.Sprintf("%s %s", c.Op, c.Signal.Kind.Plural(n))
		if c.Op == Between {
			s = fmt.Sprintf("%d to %s", c.N, c.Signal.Kind.Plural(n))
		}
		return s + c.place(cat) + c.window()
	case c.Score, c.About == ByFit:
		return "a " + c.figure(cat, c.howMuch())
	case c.About != "":
		return c.wordsOf(cat)
	}
	name := c.subject(cat)
	switch c.Op {
	case Known, NotKnown:
		return fmt.Sprintf("%s %s", name, c.Op)
	case OneOf:
		list := make([]string, len(c.Values))
		for i, v := range c.Values {
			list[i] = Shown(cat, c.Field, v)
		}
		return fmt.Sprintf("%s %s %s", name, c.Op, strings.Join(list, ", "))
	case Within:
		return fmt.Sprintf("%s within the last %d days", name, c.Days)
	case Between:
		return fmt.Sprintf("%s between %s and %s", name, c.From, c.To)
	}
	return fmt.Sprintf("%s %s %s", name, c.Op, Shown(cat, c.Field, c.Value))
}

// howMuch is what a score or a fit is to be: "15 or more".
func (c *Condition) howMuch() string {
	switch c.Op {
	case AtLeast:
		return fmt.Sprintf("%d or more", c.N)
	case Between:
		return fmt.Sprintf("%d to %d", c.N, c.M)
	}
	return fmt.Sprintf("%s %d", c.Op, c.N)
}

// figure says a score or a fit with how much it is: "score of 15 for “click”".
func (c *Condition) figure(cat *Catalogue, much string) string {
	what := "score of "
	if !c.Score {
		what = "fit of "
	}
	s := what + much
	if c.Rule != 0 {
		m, _ := cat.Scored(c.Model)
		s += " for " + nameOf(m.Rules, "rule", c.Rule)
	}
	if of := cat.ofModel(c.Model); of != "" {
		s += " by" + strings.TrimPrefix(of, " of")
	}
	return s
}

func (c *Condition) place(cat *Catalogue) string { return PlaceWords(c.Signal, cat) }

// PlaceWords says where the signals of a pattern came from: " from the page “Alarms”"; empty: from anywhere.
func PlaceWords(p *signal.Pattern, cat *Catalogue) string {
	s := ""
	if p.Step != 0 {
		s += " from one step"
	}
	if cat == nil {
		cat = &Catalogue{}
	}
	if p.Sequence != 0 {
		s += " from " + nameOf(cat.Sequences, "sequence", p.Sequence)
	}
	if p.Link != 0 {
		s += fmt.Sprintf(" number %d", p.Link)
	}
	if p.Message != 0 {
		s += " from the message " + nameOf(cat.Messages, "message", p.Message)
	}
	if p.Page != 0 {
		s += " from the page " + nameOf(cat.Pages, "page", p.Page)
	}
	if p.Event != 0 {
		s += " of the event " + nameOf(cat.Events, "event", p.Event)
	}
	if p.Machine {
		s += ", machines’ too,"
	}
	return s
}

func (c *Condition) window() string {
	if c.Days > 0 {
		return fmt.Sprintf(" within %d days", c.Days)
	}
	if c.From != "" {
		return fmt.Sprintf(" between %s and %s", c.From, c.To)
	}
	return ""
}

func (c *Condition) wordsOf(cat *Catalogue) string {
	no := c.Op == IsNot
	either := func(yes, not string) string {
		if no {
			return not
		}
		return yes
	}
	switch c.About {
	case Tag:
		return either("tagged ", "not tagged ") + cat.name(Tag, c.ID)
	case Audience:
		return either("in the audience ", "not in the audience ") + cat.name(Audience, c.ID)
	case Consent:
		return either("agreed to ", "has not agreed to ") + cat.name(Consent, c.ID)
	case InSequence:
		return map[Op]string{Is: "on the sequence ", IsNot: "not on the sequence ",
			Was: "on the sequence now or before: ", WasNot: "never on the sequence ",
			Finished: "came to " + c.end() + " of the sequence "}[c.Op] + cat.name(InSequence, c.ID)
	case Deal:
		return either("has an open deal", "has no open deal")
	case Stage:
		return either("has a deal in stage ", "has no deal in stage ") + cat.name(Stage, c.ID)
	case Lost, Won:
		switch c.Op {
		case Never:
			return fmt.Sprintf("never %s a deal", strings.TrimSuffix(string(c.About), " deal"))
		case Ever:
			return fmt.Sprintf("ever %s a deal", strings.TrimSuffix(string(c.About), " deal"))
		}
		return fmt.Sprintf("%s a deal within the last %d days", strings.TrimSuffix(string(c.About), " deal"), c.Days)
	case DealFrom:
		return c.dealWords() + " that came from the sequence " + cat.name(DealFrom, c.ID)
	case DealOf:
		return c.dealWords() + " of the campaign “" + c.Value + "”"
	case AtEvent:
		return map[Op]string{Is: "registered for ", IsNot: "not registered for ", CameTo: "came to ",
			AwayFrom: "stayed away from "}[c.Op] + cat.name(AtEvent, c.ID)
	case InBand:
		return either("score in the band “", "score not in the band “") + c.Value + "”" + cat.ofModel(c.Model)
	case InFitBand:
		return either("fit in the band “", "fit not in the band “") + c.Value + "”" + cat.ofModel(c.Model)
	}
	return string(c.About)
}

// dealWords says whether there is, or was, a deal of some kind.
func (c *Condition) dealWords() string {
	return map[Op]string{Is: "has an open deal", IsNot: "has no open deal", Ever: "has or had a deal",
		Never: "never had a deal"}[c.Op]
}

// Why says which conditions of a rule that holds let the person in, each with
// what was found.
func (r *Rule) Why(f Facts, at time.Time, cat *Catalogue) []string {
	var out []string
	switch {
	case r.If != nil:
		return []string{r.If.why(f, at, cat)}
	case len(r.Any) > 0:
		for i := range r.Any {
			if r.Any[i].Holds(f, at) {
				out = append(out, r.Any[i].Why(f, at, cat)...)
			}
		}
	case len(r.None) > 0:
		out = append(out, r.words(cat, false))
	default:
		for i := range r.All {
			out = append(out, r.All[i].Why(f, at, cat)...)
		}
	}
	return out
}

func (c *Condition) why(f Facts, at time.Time, cat *Catalogue) string {
	switch {
	case c.Signal != nil:
		return c.Signal.Kind.Plural(f.Count(c.Signal, c.since(at), c.until(at))) + c.place(cat) + c.window()
	case c.Score:
		return "a " + c.figure(cat, fmt.Sprintf("%g", f.Score(c.Figure(), at)))
	case c.About == ByFit:
		if r := f.Record(); r != nil {
			return "a " + c.figure(cat, strconv.Itoa(r.FitOf(c.Model)))
		}
		return c.Words(cat)
	case c.About != "":
		return c.wordsOf(cat)
	}
	if v := f.Record().Text(c.Field); v != "" {
		if t, ok := instant(v); ok && len(v) > 10 {
			v = t.Format(time.DateOnly)
		}
		return fmt.Sprintf("%s is %s", c.subject(cat), Shown(cat, c.Field, v))
	}
	return c.Words(cat)
}

// Subject is a thing that a condition can be about, for an editor.
type Subject struct {
	Key   string // as Condition.Key has it
	Words string
	Group string
}

// Subjects lists everything that can be asked, in the order of an editor.
func Subjects(cat *Catalogue) []Subject {
	var out []Subject
	for _, k := range signal.Kinds() {
		out = append(out, Subject{fmt.Sprintf("signal %d", int16(k)), k.Did(), "what they did"})
	}
	out = append(out, Subject{"score", "score", "how they stand"})
	if cat != nil {
		any := func(has func(m Scored) bool) bool { return slices.ContainsFunc(cat.Models, has) }
		for _, x := range []struct {
			key, words string
			has        bool
		}{{"points", "points of one kind", any(func(m Scored) bool { return len(m.Rules) > 0 })},
			{"about band", "score band", any(func(m Scored) bool { return len(m.Bands) > 0 })},
			{"about fit", "fit", any(func(m Scored) bool { return len(m.Fit) > 0 })},
			{"about fit band", "fit band", any(func(m Scored) bool { return len(m.FitBands) > 0 })}} {
			if x.has {
				out = append(out, Subject{x.key, x.words, "how they stand"})
			}
		}
	}
	for _, t := range []struct {
		t Thing
		w string
	}{{Tag, "tag"}, {Audience, "audience"}, {InSequence, "sequence"}, {Consent, "consent"}, {Deal, "open deal"},
		{Stage, "deal in stage"}, {AtEvent, "event"}, {Lost, "lost deal"}, {Won, "won deal"},
		{DealFrom, "deal from a sequence"}, {DealOf, "deal of a campaign"}} {
		if t.t == Deal || t.t == Lost || t.t == Won || t.t == DealOf || len(cat.list(t.t)) > 0 {
			out = append(out, Subject{"about " + string(t.t), t.w, "how they stand"})
		}
	}
	for _, d := range cat.Fields() {
		g := "on the record"
		if d.Company {
			g = "the company"
		}
		out = append(out, Subject{"field " + string(d.Field), d.Name, g})
	}
	return out
}

// Key names what the condition is about: "field country", "signal 5",
// "about tag", "score", "points".
func (c *Condition) Key() string {
	switch {
	case c.Signal != nil:
		return fmt.Sprintf("signal %d", int16(c.Signal.Kind))
	case c.Rule != 0:
		return "points"
	case c.Score:
		return "score"
	case c.About != "":
		return "about " + string(c.About)
	}
	return "field " + string(c.Field)
}

// Begin is a condition about what a key names, with the first of its
// comparisons; it may still need a value.
func Begin(key string, cat *Catalogue) Condition {
	var c Condition
	kind, rest, _ := strings.Cut(key, " ")
	switch kind {
	case "signal":
		var k int16
		fmt.Sscan(rest, &k) // an unknown kind is refused by Check
		c.Signal = &signal.Pattern{Kind: signal.Kind(k)}
		c.N, c.Days = 1, 30
	case "score":
		c.Score, c.N = true, 15
	case "points":
		c.Score, c.N, c.Rule = true, 5, -1 // none yet
		if list := cat.ofModels(&c); len(list) > 0 {
			list[0].choose(&c)
		}
	case "about":
		c.About = Thing(rest)
		if list := cat.list(c.About); len(list) > 0 {
			c.ID = list[0].ID
		}
		if c.About == Lost || c.About == Won {
			c.Days = 365
		}
		if list := cat.ofModels(&c); len(list) > 0 {
			list[0].choose(&c)
		}
		if c.About == ByFit {
			c.N = 50
		}
	default:
		c.Field = Field(rest)
		if d, _ := cat.Define(c.Field); d.Type == person.Date {
			c.Days = 30
		}
	}
	if ops := c.Ops(cat); len(ops) > 0 {
		c.Op = ops[0]
	}
	return c
}

// SetBand makes the condition ask for a band. The condition keeps the band's
// ends, so that it means what it meant when it was written.
func (c *Condition) SetBand(b Band) { c.Value, c.N, c.M = b.Name, b.From, b.To }

// end says to which end of a sequence somebody came.
func (c *Condition) end() string {
	if c.Value == "" {
		return "the end"
	}
	return "the end “" + c.Value + "”"
}
