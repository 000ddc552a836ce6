package rule

import "strconv"

// ModelChoice is one of what a condition about scores chooses from: a model, a band of one, or one of its rules.
type ModelChoice struct {
	Value string // what a form sends for it
	Words string
	model int64 // 0: the first
	rule  int64
	band  *Band
}

// choose has a condition ask for it.
func (x ModelChoice) choose(c *Condition) {
	c.Model, c.Rule = x.model, x.rule
	if x.band != nil {
		c.SetBand(*x.band)
	}
}

// chosen reports whether a condition asks for it.
func (x ModelChoice) chosen(c *Condition, first int64) bool {
	return (x.model == c.Model || x.model == 0 && c.Model == first) && x.rule == c.Rule &&
		(x.band == nil || x.band.Name == c.Value)
}

// OfModels lists what a condition about scores chooses from, and which it asks for; −1: for none of them. Where there
// is one model, there is nothing to choose for its score or its fit.
func (c *Condition) OfModels(cat *Catalogue) (list []ModelChoice, chosen int) {
	list, chosen = cat.ofModels(c), -1
	for i := range list {
		if list[i].chosen(c, cat.Models[0].ID) {
			chosen = i
		}
	}
	if len(list) == 1 && list[0].band == nil && list[0].rule == 0 {
		return nil, -1
	}
	return list, chosen
}

// Choose has the condition ask for what a form sends; what is none of its choices changes nothing.
func (c *Condition) Choose(cat *Catalogue, value string) {
	for _, x := range cat.ofModels(c) {
		if x.Value == value {
			x.choose(c)
			return
		}
	}
}

// ofModels lists what a condition of its kind chooses from.
func (c *Catalogue) ofModels(q *Condition) (out []ModelChoice) {
	if c == nil || !q.OfModel() {
		return nil
	}
	points := q.Score && q.Key() == "points"
	for i := range c.Models {
		m := &c.Models[i]
		x := ModelChoice{model: m.ID}
		before, of := strconv.FormatInt(m.ID, 10)+"/", ""
		if i == 0 {
			x.model, before = 0, ""
		}
		if len(c.Models) > 1 {
			of = m.Name + ": "
		}
		switch {
		case points:
			for _, r := range m.Rules {
				x.rule, x.Value, x.Words = r.ID, before+strconv.FormatInt(r.ID, 10), of+r.Name
				out = append(out, x)
			}
		case q.About == InBand, q.About == InFitBand:
			for _, b := range c.BandsOf(&Condition{About: q.About, Model: x.model}) {
				x.band, x.Value, x.Words = &b, before+b.Name, of+b.Name
				out = append(out, x)
			}
		case q.Score || len(m.Fit) > 0:
			x.Value, x.Words = strconv.FormatInt(x.model, 10), m.Name
			out = append(out, x)
		}
	}
	return out
}
