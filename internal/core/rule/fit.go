package rule

import (
	"time"

	"ombak/internal/core/plainly"
)

// Fit says how well somebody is the kind of person that the company sells to:
// conditions on the record, each with the points it gives. Unlike engagement it
// asks for nothing that they did, and time alone does not change it.
type Fit []Weighed

// Weighed is one condition of a fit, with what it gives where it holds.
type Weighed struct {
	If     Rule `json:"if"`
	Points int  `json:"points"` // may be negative
}

const maxFit = 40

// Most is the most that the conditions can give together.
func (f Fit) Most() int {
	most := 0
	for i := range f {
		most += max(f[i].Points, 0)
	}
	return most
}

// Of is the fit of a record: the share of the most there is to get, in whole
// per cent from 0 to 100, rounded down; 0 where there is nothing to get.
func (f Fit) Of(r *Record) int {
	most, sum := f.Most(), 0
	if most == 0 {
		return 0
	}
	for i := range f {
		if f.Holds(i, r) {
			sum += f[i].Points
		}
	}
	return max(sum, 0) * 100 / most
}

// Holds reports whether the condition at i holds of a record.
func (f Fit) Holds(i int, r *Record) bool { return f[i].If.onRecord(r) }

// onRecord is Holds for a rule that asks for the record's fields alone, and so
// needs neither facts nor an instant.
func (r *Rule) onRecord(x *Record) bool {
	switch {
	case r.If != nil:
		return r.If.holdsText(x.Text(r.If.Field), time.Time{}) // no comparison that looks back: Check refuses them
	case len(r.Any) > 0:
		for i := range r.Any {
			if r.Any[i].onRecord(x) {
				return true
			}
		}
		return false
	case len(r.None) > 0:
		return !(&Rule{Any: r.None}).onRecord(x)
	}
	for i := range r.All {
		if !r.All[i].onRecord(x) {
			return false
		}
	}
	return true
}

// Check reports the first thing in f that cannot be answered, or nil. A fit is
// over the fields of a record, its company's among them; a condition that looks
// back over days is refused, because time alone would change it.
func (f Fit) Check(cat *Catalogue) error {
	if len(f) > maxFit {
		return plainly.Errorf("a fit has at most %d conditions", maxFit)
	}
	for i := range f {
		w := &f[i]
		if w.Points == 0 || w.Points < -1000 || w.Points > 1000 {
			return plainly.New("a condition of a fit gives points: a whole number from −1000 to 1000, and not 0")
		}
		if !w.If.Asks() {
			return plainly.New("a condition of a fit needs something to ask")
		}
		if err := w.If.Check(cat); err != nil {
			return err
		}
		var wrong error
		w.If.Each(func(c *Condition) {
			if c.Signal != nil || c.Score || c.About != "" {
				wrong = plainly.Errorf("a fit asks for what is on the record alone, and not for %s", c.subject(cat))
			} else if c.Days > 0 {
				wrong = plainly.Errorf("a fit does not change with time: ask for %s by dates", c.subject(cat))
			}
		})
		if wrong != nil {
			return wrong
		}
	}
	if len(f) > 0 && f.Most() == 0 {
		return plainly.New("some condition of a fit has to give points, not only take them")
	}
	return nil
}
