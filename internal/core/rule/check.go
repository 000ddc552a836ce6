package rule

import (
	"slices"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
)

// Check reports the first thing in r that cannot be answered, or nil. With a
// catalogue it also asks that what the rule names is there.
func (r *Rule) Check(cat *Catalogue) error {
	if r.TooLarge() {
		return plainly.New("the rule is too large")
	}
	return r.check(cat)
}

func (r *Rule) check(cat *Catalogue) error {
	set := 0
	for _, list := range [][]Rule{r.All, r.Any, r.None} {
		if len(list) > 0 {
			set++
		}
		for i := range list {
			if err := list[i].check(cat); err != nil {
				return err
			}
		}
	}
	if r.If != nil {
		set++
		if err := r.If.Check(cat); err != nil {
			return err
		}
	}
	if set > 1 {
		return plainly.New("a part of a rule is one of all, any, none or a condition")
	}
	return nil
}

// TooLarge reports whether the rule has more parts, or is nested deeper, than
// can be answered.
func (r *Rule) TooLarge() bool {
	parts, deep := 0, false
	var walk func(r *Rule, depth int)
	walk = func(r *Rule, depth int) {
		parts++
		deep = deep || depth > maxDepth
		for _, list := range [][]Rule{r.All, r.Any, r.None} {
			for i := range list {
				if !deep && parts <= maxParts {
					walk(&list[i], depth+1)
				}
			}
		}
	}
	walk(r, 0)
	return deep || parts > maxParts
}

var counts = []Op{AtLeast, AtMost, Exactly, Between}

// OpsOf lists how a field of a type can be compared.
func OpsOf(t person.Type) []Op {
	switch t {
	case person.Number:
		return []Op{AtLeast, AtMost, Exactly, Between, Known, NotKnown}
	case person.Date:
		return []Op{Within, Before, After, Between, Known, NotKnown}
	case person.YesNo:
		return []Op{Is, IsNot, Known, NotKnown}
	case person.OneOf, person.SeveralOf, person.CountryType, person.LanguageType, person.ZoneType:
		return []Op{Is, IsNot, OneOf, Known, NotKnown}
	}
	return []Op{Is, IsNot, Contains, StartsWith, OneOf, Known, NotKnown}
}

// Counts reports whether the condition compares a number that is counted: how
// often something was seen, the score or the fit.
func (c *Condition) Counts() bool { return c.Signal != nil || c.Score || c.About == ByFit }

// Ops lists how the condition's subject can be compared.
func (c *Condition) Ops(cat *Catalogue) []Op {
	switch {
	case c.Counts():
		return counts
	case c.About == InSequence:
		return []Op{Is, IsNot, Was, WasNot, Finished}
	case c.About == AtEvent:
		return []Op{Is, IsNot, CameTo, AwayFrom}
	case c.About == Lost, c.About == Won:
		return []Op{Within, Ever, Never}
	case c.About == DealFrom, c.About == DealOf:
		return []Op{Is, IsNot, Ever, Never}
	case c.About != "":
		return []Op{Is, IsNot}
	}
	d, ok := cat.Define(c.Field)
	if !ok {
		return nil
	}
	return OpsOf(d.Type)
}

// checkModel asks that the model is there of which a score or a fit is asked, and its rule.
func (c *Condition) checkModel(cat *Catalogue) error {
	if c.Model == 0 && c.Rule == 0 {
		return nil
	}
	if !c.OfModel() || c.Rule != 0 && !c.Score {
		return plainly.New("only a score, a fit and their bands are of a model")
	}
	if cat == nil {
		return nil
	}
	m, ok := cat.Scored(c.Model)
	if !ok {
		return plainly.New("the model of scores that the rule asks for is not there any more")
	}
	if c.Rule != 0 && !slices.ContainsFunc(m.Rules, func(n Named) bool { return n.ID == c.Rule }) {
		return plainly.New("what gave the points that the rule asks for is not there any more")
	}
	return nil
}

// OfModel reports whether the condition asks for a score, a fit or a band of them.
func (c *Condition) OfModel() bool {
	return c.Score || c.About == InBand || c.About == ByFit || c.About == InFitBand
}

// Check reports what of a condition cannot be answered, or nil.
func (c *Condition) Check(cat *Catalogue) error {
	if len(c.Value) > maxLength || len(c.Values) > maxParts || len(c.From) > 40 || len(c.To) > 40 {
		return plainly.New("a value in the rule is too long")
	}
	if c.Days < 0 || c.Days > maxDays {
		return plainly.Errorf("a rule looks back over at most %d days", maxDays)
	}
	if c.Signal != nil && !c.Signal.Kind.Known() {
		return plainly.New("a rule asks for an unknown kind of signal")
	}
	if c.Signal == nil && !c.Score && c.About == "" {
		if _, ok := cat.Define(c.Field); !ok {
			if _, own := c.Field.OwnID(); own && cat == nil {
				return nil
			}
			return plainly.Errorf("a rule asks for the unknown field %q", c.Field)
		}
	}
	if err := c.checkModel(cat); err != nil {
		return err
	}
	if !slices.Contains(c.Ops(cat), c.Op) {
		return plainly.Errorf("%s cannot be asked with %q", c.subject(cat), c.Op)
	}
	switch {
	case c.Signal != nil:
		if c.N < 0 || c.Op == Between && c.M < c.N {
			return plainly.New("a count of signals is a number, or lies between a smaller and a larger one")
		}
		if c.From != "" || c.To != "" {
			from, ok := day(c.From)
			to, ok2 := day(c.To)
			if !ok || !ok2 || to.Before(from) {
				return plainly.New("signals between two dates need both, the earlier first")
			}
		}
		return nil
	case c.Score, c.About == ByFit:
		if c.Op == Between && c.M < c.N {
			return plainly.Errorf("a %s lies between a smaller and a larger number", c.subject(cat))
		}
		return nil
	case c.About == InBand, c.About == InFitBand:
		if _, ok := cat.band(c, c.Value); !ok && cat != nil {
			return plainly.Errorf("there is no %s %q", c.About, c.Value)
		}
		return nil
	case c.About == Lost || c.About == Won:
		if c.Op == Within && c.Days == 0 {
			return plainly.New("say within how many days the deal was closed")
		}
		return nil
	case c.About == Deal:
		return nil
	case c.About == DealOf:
		if Fold(c.Value) == "" {
			return plainly.New("say of which campaign the deal is")
		}
		return nil
	case c.About != "":
		if c.ID == 0 {
			return plainly.Errorf("choose the %s", c.About)
		}
		if cat != nil && !slices.ContainsFunc(cat.list(c.About), func(n Named) bool { return n.ID == c.ID }) {
			return plainly.Errorf("the %s that the rule asks for is not there any more", c.About)
		}
		return nil
	}
	d, _ := cat.Define(c.Field)
	switch c.Op {
	case Known, NotKnown:
	case OneOf:
		if len(c.Values) == 0 {
			return plainly.Errorf("%s is one of needs values", d.Name)
		}
	case Within:
		if c.Days == 0 {
			return plainly.Errorf("say within how many days %s lies", d.Name)
		}
	case Between:
		ok := false
		if d.Type == person.Number {
			a, err := number(c.From)
			b, err2 := number(c.To)
			ok = err == nil && err2 == nil && a <= b
		} else {
			a, ok1 := day(c.From)
			b, ok2 := day(c.To)
			ok = ok1 && ok2 && !b.Before(a)
		}
		if !ok {
			return plainly.Errorf("%s between needs two values, the smaller first", d.Name)
		}
	default:
		if Fold(c.Value) == "" {
			return plainly.Errorf("%s %s needs a value", d.Name, c.Op)
		}
		if d.Type == person.Number {
			if _, err := number(c.Value); err != nil {
				return plainly.Errorf("%s %s needs a number", d.Name, c.Op)
			}
		}
		if d.Type == person.Date {
			if _, ok := day(c.Value); !ok {
				return plainly.Errorf("%s %s needs a date such as 2026-04-14", d.Name, c.Op)
			}
		}
	}
	return nil
}
