package rule

import (
	"fmt"
	"strings"
)

// Sentence says whom the rule is about, in one English sentence without its
// full stop: "Everybody whose country is Canada and who clicked a link at least
// 3 times in the last 180 days".
func (r *Rule) Sentence(cat *Catalogue) string { return "Everybody" + r.Whose(cat) }

// Whose is the sentence behind its subject: " whose country is Canada". It is
// empty where everybody is meant.
func (r *Rule) Whose(cat *Catalogue) string {
	if !r.Asks() {
		return ""
	}
	all := []Rule{*r}
	if r.If == nil && len(r.All) > 0 {
		all = r.All
	}
	var who, but []string
	for i := range all {
		x := &all[i]
		switch {
		case !x.Asks():
		case x.If == nil && len(x.None) > 0: // what keeps people out stands last
			but = append(but, clausesOf(x.None, cat)...)
		default:
			who = append(who, x.clause(cat, len(all) > 1))
		}
	}
	s := ""
	if len(who) > 0 {
		s = " " + list(who, "and")
	}
	if len(but) > 0 {
		s += ", but nobody " + list(but, "or")
	}
	return s
}

func clausesOf(rules []Rule, cat *Catalogue) []string {
	var out []string
	for i := range rules {
		if rules[i].Asks() {
			out = append(out, rules[i].clause(cat, true))
		}
	}
	return out
}

// clause is a rule as a relative clause; inside says that others stand beside it.
func (r *Rule) clause(cat *Catalogue, inside bool) string {
	joined := func(rules []Rule, both, with string) string {
		parts := clausesOf(rules, cat)
		s := list(parts, with)
		if inside && len(parts) > 1 {
			s = both + " " + s
		}
		return s
	}
	switch {
	case r.If != nil:
		return r.If.clause(cat)
	case len(r.Any) > 0:
		return joined(r.Any, "either", "or")
	case len(r.None) > 0:
		return "of whom this is not so: " + list(clausesOf(r.None, cat), "or")
	}
	return joined(r.All, "both", "and")
}

// list joins with commas, and a word before the last.
func list(parts []string, with string) string {
	if n := len(parts); n > 2 {
		return strings.Join(parts[:n-1], ", ") + ", " + with + " " + parts[n-1]
	}
	return strings.Join(parts, " "+with+" ")
}

// clause says a condition as a relative clause: "whose country is Canada".
func (c *Condition) clause(cat *Catalogue) string {
	switch {
	case c.Signal != nil:
		return "who " + c.did(cat)
	case c.Score, c.About == ByFit:
		s := "whose " + c.subject(cat)
		if c.Op == Between {
			return fmt.Sprintf("%s is between %d and %d", s, c.N, c.M)
		}
		return fmt.Sprintf("%s is %s %d", s, c.Op, c.N)
	case c.About != "":
		return c.clauseOf(cat)
	}
	name := "whose " + c.subject(cat)
	switch c.Op {
	case OneOf:
		values := make([]string, len(c.Values))
		for i, v := range c.Values {
			values[i] = Shown(cat, c.Field, v)
		}
		return name + " is " + list(values, "or")
	case Known, NotKnown:
		return name + " " + string(c.Op)
	case Within:
		return fmt.Sprintf("%s is within the last %s", name, days(c.Days))
	case Between:
		return fmt.Sprintf("%s is between %s and %s", name, c.From, c.To)
	case Before, After, AtLeast, AtMost, Exactly:
		return fmt.Sprintf("%s is %s %s", name, c.Op, Shown(cat, c.Field, c.Value))
	}
	return fmt.Sprintf("%s %s %s", name, c.Op, Shown(cat, c.Field, c.Value))
}

func days(n int) string {
	if n == 1 {
		return "day"
	}
	return fmt.Sprintf("%d days", n)
}

// did is what somebody did, and how often: "clicked a link at least 3 times in
// the last 180 days".
func (c *Condition) did(cat *Catalogue) string {
	did, often := c.Signal.Kind.Did(), ""
	switch {
	case c.Op == Between:
		often = fmt.Sprintf(" %d to %d times", c.N, c.M)
	case c.N == 0 && c.Op != AtLeast:
		did = "never " + did
	case c.Op == AtLeast && c.N <= 1:
	case c.N == 1:
		often = fmt.Sprintf(" %s once", c.Op)
	case c.N == 2:
		often = fmt.Sprintf(" %s twice", c.Op)
	default:
		often = fmt.Sprintf(" %s %d times", c.Op, c.N)
	}
	s := did + c.place(cat) + often
	switch {
	case c.Days > 0:
		s += " in the last " + days(c.Days)
	case c.From != "":
		s += fmt.Sprintf(" between %s and %s", c.From, c.To)
	}
	return s
}

func (c *Condition) clauseOf(cat *Catalogue) string {
	not := ""
	if c.Op == IsNot {
		not = "not "
	}
	switch c.About {
	case Tag:
		return "who is " + not + "tagged " + cat.name(Tag, c.ID)
	case Audience:
		return "who is " + not + "in the audience " + cat.name(Audience, c.ID)
	case InSequence:
		return "who " +
			map[Op]string{Is: "is on", IsNot: "is not on", Was: "is or was on", WasNot: "was never on",
				Finished: "came to " + c.end() + " of"}[c.Op] +
			" the sequence " + cat.name(InSequence, c.ID)
	case Lost, Won:
		did := strings.TrimSuffix(string(c.About), " deal")
		switch c.Op {
		case Never:
			return "of whom no deal was " + did
		case Ever:
			return "of whom a deal was " + did
		}
		return fmt.Sprintf("of whom a deal was %s in the last %s", did, days(c.Days))
	case InBand:
		return "whose score is " + not + "in the band “" + c.Value + "”" + cat.ofModel(c.Model)
	case InFitBand:
		return "whose fit is " + not + "in the band “" + c.Value + "”" + cat.ofModel(c.Model)
	}
	return "who " + c.wordsOf(cat) // agreed to …, has an open deal, has a deal in stage …
}
