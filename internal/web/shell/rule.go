package shell

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// The rule editor is a form that reads as a sentence. Each part of the rule
// has a path: r is the whole, r.0 its first part, r.0.2 the third part of
// that. The names of the form's fields are a letter and a path:
//
//	j  how the parts of a group are joined: all, any, none
//	s  what a condition is about (rule.Condition.Key); k what it was about when the form was made
//	o  how it compares, v with what value, n and m with what numbers, x which thing
//	w  of a count: ever, days or dates; d days; a and b the first and the last day; q from where
//
// A button named do carries what to change: "cond r.0", "group r", "remove r.1".
// Everything is on the server: the page only sends the form and shows what
// comes back.

// RuleView is a rule as the editor shows it.
type RuleView struct {
	Root     nodeView
	Subjects []subjectGroup
	Empty    bool
	Writable bool
}

type subjectGroup struct {
	Name string
	List []rule.Subject
}

type nodeView struct {
	Path string
	Join string
	Kids []nodeView
	Cond *condView
	Last bool
}

type condView struct {
	Path   string
	C      *rule.Condition
	Key    string
	Ops    []Choice
	Things []Choice // tags, audiences, stages, bands …
	Of     string   // the word before them
	Places []Choice // where a signal came from
	Select []Choice // values of a field that has few
	Kind   string   // what the value is typed into: text, number, date, none
	Known  string   // whose known values are offered for it; empty: the field's
	Unsaid string   // what no value means
	Window string   // of a count: ever, days, dates
	Value  string
	Wrong  string
}

// Choice is one of several to choose from.
type Choice struct {
	Value, Words string
	Chosen       bool
}

// ReadRule reads the editor's form; there is false where v has none. What is
// in the query as JSON is read too, so that addresses can be copied.
func ReadRule(v url.Values, cat *rule.Catalogue) (r rule.Rule, there bool, err error) {
	return ReadRuleAt(v, "r", cat)
}

// ReadRuleAt is readRule for a form with several rules: root is the path of the
// one.
func ReadRuleAt(v url.Values, root string, cat *rule.Catalogue) (r rule.Rule, there bool, err error) {
	if !v.Has("j." + root) {
		if text := v.Get("rule"); text != "" {
			if len(text) > 20_000 {
				return r, false, plainly.Errorf("the rule is too long")
			}
			err = json.Unmarshal([]byte(text), &r)
			return r, true, err
		}
		return r, false, nil
	}
	paths := map[string]bool{}
	for k := range v {
		letter, p, _ := strings.Cut(k, ".")
		if (letter == "j" || letter == "s") && (p == root || strings.HasPrefix(p, root+".")) {
			paths[p] = true
		}
	}
	if len(paths) > 250 {
		return r, false, plainly.Errorf("the rule is too large")
	}
	do, at, _ := strings.Cut(v.Get("do"), " ")
	r = readNode(v, paths, root, do, at, cat, 0)
	return r, true, nil
}

func readNode(v url.Values, paths map[string]bool, path, do, at string, cat *rule.Catalogue, depth int) rule.Rule {
	if key := v.Get("s." + path); key != "" {
		c := readCondition(v, path, key, cat)
		return rule.Rule{If: &c}
	}
	var kids []rule.Rule
	if depth < 8 {
		for i := range 60 {
			kid := path + "." + strconv.Itoa(i)
			if !paths[kid] || do == "remove" && at == kid {
				continue
			}
			k := readNode(v, paths, kid, do, at, cat, depth+1)
			if k.Asks() { // a group that has lost all its parts goes
				kids = append(kids, k)
			}
		}
	}
	if at == path && (do == "cond" || do == "group") {
		c := rule.Begin("field "+string(person.Country), cat)
		k := rule.Rule{If: &c}
		if do == "group" {
			k = rule.Rule{Any: []rule.Rule{k}}
		}
		kids = append(kids, k)
	}
	switch v.Get("j." + path) {
	case "any":
		return rule.Rule{Any: kids}
	case "none":
		return rule.Rule{None: kids}
	}
	return rule.Rule{All: kids}
}

func readCondition(v url.Values, path, key string, cat *rule.Catalogue) rule.Condition {
	c := rule.Begin(key, cat)
	if was := v.Get("k." + path); was != "" && was != key {
		return c // about something else now: what stood there no longer fits
	}
	num := func(letter string, usual int) int {
		n, err := strconv.Atoi(strings.TrimSpace(v.Get(letter + "." + path)))
		if err != nil {
			return usual
		}
		return n
	}
	text := func(letter string) string { return strings.TrimSpace(v.Get(letter + "." + path)) }
	if op := rule.Op(text("o")); slices.Contains(c.Ops(cat), op) {
		c.Op = op
	}
	switch {
	case c.Signal != nil:
		c.N, c.M = num("n", c.N), 0
		if c.Op == rule.Between {
			c.M = max(num("m", c.N), c.N)
		}
		switch text("w") {
		case "ever":
			c.Days = 0
		case "dates":
			c.Days, c.From, c.To = 0, text("a"), text("b")
		default:
			c.Days = num("d", c.Days)
		}
		ReadPlace(text("q"), c.Signal)
	case c.OfModel():
		c.Choose(cat, text("x"))
		if c.Counts() {
			c.N, c.M = num("n", c.N), 0
			if c.Op == rule.Between {
				c.M = max(num("m", c.N), c.N)
			}
		}
	case c.About != "":
		if id, err := strconv.ParseInt(text("x"), 10, 64); err == nil {
			c.ID = id
		}
		c.Days, c.Value = 0, ""
		if c.Op == rule.Within {
			c.Days = num("d", 365)
		}
		if c.Op == rule.Finished || c.About == rule.DealOf {
			c.Value = text("v") // Check bounds it
		}
	default:
		d, _ := cat.Define(c.Field)
		c.Days = 0
		switch c.Op {
		case rule.Within:
			c.Days = num("d", 30)
		case rule.Between:
			c.From, c.To = text("a"), text("b")
		case rule.OneOf:
			for _, one := range splitValues(v.Get("v." + path)) {
				if one = coded(d, one); one != "" {
					c.Values = append(c.Values, one)
				}
			}
		case rule.Known, rule.NotKnown:
		default:
			c.Value = coded(d, text("v"))
		}
	}
	return c
}

// coded is what was typed of a country or language as rules keep it.
func coded(d person.Definition, s string) string {
	s = strings.TrimSpace(s)
	switch d.Type {
	case person.CountryType:
		if c, err := person.CountryCode(s); err == nil {
			return c
		}
	case person.LanguageType:
		if c, err := person.LanguageTag(s); err == nil {
			return c
		}
	}
	return s
}

// Named is a value of a field as people read it.
func Named(d person.Definition, v string) string {
	switch d.Type {
	case person.CountryType:
		return person.CountryName(v)
	case person.LanguageType:
		return person.LanguageName(v)
	}
	return v
}

// splitValues takes several values apart that were typed with commas between;
// one that has a comma itself stands in quotes.
func splitValues(s string) []string {
	r := csv.NewReader(strings.NewReader(s))
	r.TrimLeadingSpace = true
	list, err := r.Read()
	if err != nil { // quotes that are none
		return strings.Split(s, ",")
	}
	return list
}

// joinValues is the reverse.
func joinValues(list []string) string {
	out := make([]string, len(list))
	for i, v := range list {
		if out[i] = v; strings.ContainsAny(v, `,"`) {
			out[i] = `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
		}
	}
	return strings.Join(out, ", ")
}

// Typed is a kept value as it stands in a field to type in: what is read back
// from it is the same value.
func Typed(d person.Definition, v string) string {
	if n := Named(d, v); coded(d, n) == v {
		return n
	}
	return v
}

// Complete is the rule without the conditions that are still being made.
func Complete(r rule.Rule, cat *rule.Catalogue) rule.Rule {
	if r.If != nil {
		if r.If.Check(cat) != nil {
			return rule.Rule{}
		}
		return r
	}
	keep := func(list []rule.Rule) []rule.Rule {
		var out []rule.Rule
		for _, k := range list {
			if k = Complete(k, cat); k.Asks() {
				out = append(out, k)
			}
		}
		return out
	}
	return rule.Rule{All: keep(r.All), Any: keep(r.Any), None: keep(r.None)}
}

// ViewRule readies a rule for the editor.
func ViewRule(r rule.Rule, cat *rule.Catalogue) RuleView {
	return ViewRuleAt(r, "r", cat, rule.Subjects(cat))
}

// ViewRuleAt is viewRule for a form with several rules, which may offer less to
// ask for.
func ViewRuleAt(r rule.Rule, root string, cat *rule.Catalogue, subjects []rule.Subject) RuleView {
	if r.If != nil {
		r = rule.Rule{All: []rule.Rule{r}}
	}
	v := RuleView{Root: viewNode(r, root, cat), Empty: !r.Asks(), Writable: true}
	for _, s := range subjects {
		if n := len(v.Subjects); n == 0 || v.Subjects[n-1].Name != s.Group {
			v.Subjects = append(v.Subjects, subjectGroup{Name: s.Group})
		}
		g := &v.Subjects[len(v.Subjects)-1]
		g.List = append(g.List, s)
	}
	return v
}

func viewNode(r rule.Rule, path string, cat *rule.Catalogue) nodeView {
	n := nodeView{Path: path, Join: "all"}
	if r.If != nil {
		n.Cond = viewCondition(r.If, path, cat)
		return n
	}
	list := r.All
	if len(r.Any) > 0 {
		n.Join, list = "any", r.Any
	}
	if len(r.None) > 0 {
		n.Join, list = "none", r.None
	}
	for i, k := range list {
		n.Kids = append(n.Kids, viewNode(k, path+"."+strconv.Itoa(i), cat))
	}
	if len(n.Kids) > 0 {
		n.Kids[len(n.Kids)-1].Last = true
	}
	return n
}

func viewCondition(c *rule.Condition, path string, cat *rule.Catalogue) *condView {
	v := &condView{Path: path, C: c, Key: c.Key(), Kind: "none"}
	if err := c.Check(cat); err != nil {
		v.Wrong = Sentence(err)
	}
	for _, op := range c.Ops(cat) {
		v.Ops = append(v.Ops, Choice{string(op), opWords(c, op), op == c.Op})
	}
	things := func(list []rule.Named, kind string) {
		for _, n := range list {
			v.Things = append(v.Things, Choice{strconv.FormatInt(n.ID, 10), n.Name, n.ID == c.ID})
		}
	}
	switch {
	case c.Signal != nil:
		v.Window = "days"
		if c.From != "" || c.To != "" {
			v.Window = "dates"
		} else if c.Days == 0 {
			v.Window = "ever"
		}
		v.Places = PlacesOf(c.Signal, cat)
	case c.OfModel():
		list, at := c.OfModels(cat)
		if len(list) > 0 && at < 0 { // it is gone
			v.Things = append(v.Things, Choice{"", "…", true})
		}
		for i, x := range list {
			v.Things = append(v.Things, Choice{x.Value, x.Words, i == at})
		}
		if v.Of = "of"; c.Rule != 0 {
			v.Of = "for"
		}
		if !c.Counts() {
			v.Of = ""
		}
	case c.About == rule.DealOf:
		v.Kind, v.Value, v.Known = "text", c.Value, "deal campaigns"
	case c.About != "":
		things(cat.List(c.About), string(c.About))
		if c.About == rule.InSequence && c.Op == rule.Finished {
			v.Kind, v.Value, v.Known, v.Unsaid = "text", c.Value, fmt.Sprintf("end %d", c.ID), "any end"
		}
	default:
		d, _ := cat.Define(c.Field)
		switch c.Op {
		case rule.Known, rule.NotKnown:
			return v
		case rule.OneOf:
			list := make([]string, len(c.Values))
			for i, x := range c.Values {
				list[i] = Typed(d, x)
			}
			v.Kind, v.Value = "text", joinValues(list)
			return v
		}
		v.Value = Typed(d, c.Value)
		switch d.Type {
		case person.Number:
			v.Kind = "number"
		case person.Date:
			v.Kind = "date"
		case person.YesNo:
			v.Select = []Choice{{"", "…", c.Value == ""}, {"yes", "yes", c.Value == "yes"},
				{"no", "no", c.Value == "no"}}
		case person.OneOf, person.SeveralOf:
			v.Select = []Choice{{"", "…", c.Value == ""}}
			for _, o := range d.Options {
				v.Select = append(v.Select, Choice{o, o, o == c.Value})
			}
		default:
			v.Kind = "text"
		}
	}
	return v
}

// opWords is a comparison as the sentence has it.
func opWords(c *rule.Condition, op rule.Op) string {
	switch c.About {
	case rule.Tag:
		return map[rule.Op]string{rule.Is: "is on them:", rule.IsNot: "is not on them:"}[op]
	case rule.Audience:
		return map[rule.Op]string{rule.Is: "has them:", rule.IsNot: "does not have them:"}[op]
	case rule.Consent:
		return map[rule.Op]string{rule.Is: "is given to", rule.IsNot: "is not given to"}[op]
	case rule.InSequence:
		return map[rule.Op]string{rule.Is: "has them now:", rule.IsNot: "does not have them now:",
			rule.Was: "has them or had them:", rule.WasNot: "never had them:",
			rule.Finished: "was gone through to its end:"}[op]
	case rule.AtEvent:
		return map[rule.Op]string{rule.Is: "has them registered:", rule.IsNot: "does not have them registered:",
			rule.CameTo: "had them come:", rule.AwayFrom: "had them stay away:"}[op]
	case rule.DealFrom, rule.DealOf:
		return map[rule.Op]string{rule.Is: "is open:", rule.IsNot: "is not open:", rule.Ever: "was ever there:",
			rule.Never: "was never there:"}[op]
	case rule.Deal:
		return map[rule.Op]string{rule.Is: "is there", rule.IsNot: "is not there"}[op]
	}
	return string(op)
}

// ruleValues offers the values that a field has, for the list under an input.
func (s *Shell) ruleValues(c *echo.Context) error {
	f := rule.Field(c.QueryParam("field"))
	cat, err := s.Store.Catalogue(c.Request().Context())
	if err != nil {
		return err
	}
	if id, ok := strings.CutPrefix(string(f), "end "); ok {
		ends, err := s.Store.Ends(c.Request().Context(), Number(id))
		if err != nil {
			return err
		}
		return c.Render(http.StatusOK, "rule.html#values", View{Data: ends})
	}
	if f == "deal campaigns" {
		names, err := s.Store.DealCampaigns(c.Request().Context())
		if err != nil {
			return err
		}
		return c.Render(http.StatusOK, "rule.html#values", View{Data: names})
	}
	d, ok := cat.Define(f)
	if !ok {
		return echo.ErrNotFound
	}
	values, err := s.ValuesOf(c.Request().Context(), f)
	if err != nil {
		return err
	}
	values = slices.Clone(values)
	for i := range values {
		values[i] = Typed(d, values[i])
	}
	return c.Render(http.StatusOK, "rule.html#values", View{Data: values})
}

// ValuesOf are the values that a field has, the commonest first.
func (s *Shell) ValuesOf(ctx context.Context, f rule.Field) ([]string, error) {
	return Lately(ctx, s, &s.values, f, func(ctx context.Context) ([]string, error) {
		return s.Store.Values(ctx, f, 60)
	})
}

// AudienceOf reads the short form's "audience 3".
func AudienceOf(s string) (int64, bool) {
	rest, ok := strings.CutPrefix(s, "audience ")
	id, err := strconv.ParseInt(rest, 10, 64)
	return id, ok && err == nil && id > 0
}

// SimpleFields are the fields that the short form of a rule offers: those that
// are some text or not.
func SimpleFields() []rule.Field {
	var out []rule.Field
	for _, d := range person.Definitions() {
		if slices.Contains(rule.OpsOf(d.Type), rule.Is) {
			out = append(out, d.Field)
		}
	}
	return out
}
