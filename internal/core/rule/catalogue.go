package rule

import (
	"fmt"
	"slices"
	"strings"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
)

// Named is something a rule can name, as the rule keeps it and as people do.
type Named struct {
	ID   int64
	Name string
}

// Catalogue is what there is to ask for in a workspace. A nil Catalogue knows
// the fields of every record and no more.
type Catalogue struct {
	Own       []person.Definition // fields the workspace has added
	Tags      []Named
	Audiences []Named
	Sequences []Named
	Stages    []Named
	Purposes  []Named
	Messages  []Named
	Pages     []Named
	Events    []Named
	Models    []Scored // the first is whose score is meant where none is named
}

// Scored is a model of scores, as far as rules can ask for it.
type Scored struct {
	ID       int64
	Name     string
	Bands    []Band // of the score
	FitBands []Band
	Fit      Fit
	Rules    []Named // what gives points
}

// Scored finds a model; 0 is the first. What is not there is the zero Scored.
func (c *Catalogue) Scored(model int64) (Scored, bool) {
	if c != nil {
		for i := range c.Models {
			if model == 0 || c.Models[i].ID == model {
				return c.Models[i], true
			}
		}
	}
	return Scored{}, false
}

// Band is a named range of a score or a fit: from From up to, not including, To;
// no end where To is 0.
type Band struct {
	Name string `json:"name"`
	From int    `json:"from"`
	To   int    `json:"to"`
}

// Define finds what a field is.
func (c *Catalogue) Define(f Field) (person.Definition, bool) {
	if c != nil {
		for i := range c.Own {
			if c.Own[i].Field == f {
				return c.Own[i], true
			}
		}
	}
	return person.Define(f)
}

// Consents are what a list can say of people beside their fields: whether they
// agreed to each purpose.
func (c *Catalogue) Consents() []person.Definition {
	var out []person.Definition
	for _, p := range c.Purposes {
		out = append(out,
			person.Definition{Field: person.Mark(person.ConsentMark, p.ID), Name: "consent to " + p.Name,
				Type: person.Text})
	}
	return out
}

// Fields lists every field there is.
func (c *Catalogue) Fields() []person.Definition {
	out := person.Definitions()
	if c != nil {
		out = append(out, c.Own...)
	}
	return out
}

// list is what there is of a kind of thing.
func (c *Catalogue) list(t Thing) []Named {
	if c == nil {
		return nil
	}
	switch t {
	case Tag:
		return c.Tags
	case Audience:
		return c.Audiences
	case InSequence, DealFrom:
		return c.Sequences
	case Stage:
		return c.Stages
	case Consent:
		return c.Purposes
	case AtEvent:
		return c.Events
	}
	return nil
}

// List is what there is to choose from for a condition about t.
func (c *Catalogue) List(t Thing) []Named { return c.list(t) }

func (c *Catalogue) name(t Thing, id int64) string { return nameOf(c.list(t), string(t), id) }

func nameOf(list []Named, what string, id int64) string {
	for _, n := range list {
		if n.ID == id {
			return "“" + n.Name + "”"
		}
	}
	return fmt.Sprintf("%s %d", what, id)
}

// BandsOf lists the bands that a condition chooses from.
func (c *Catalogue) BandsOf(q *Condition) []Band {
	m, _ := c.Scored(q.Model)
	if q.About == InFitBand {
		return m.FitBands
	}
	return m.Bands
}

func (c *Catalogue) band(q *Condition, name string) (Band, bool) {
	for _, b := range c.BandsOf(q) {
		if b.Name == name {
			return b, true
		}
	}
	return Band{}, false
}

// ofModel says of which model a figure is: “ of “Loans””; empty: of the first.
func (c *Catalogue) ofModel(id int64) string {
	if m, ok := c.Scored(id); !ok {
		if id == 0 {
			return ""
		}
		return fmt.Sprintf(" of model %d", id)
	} else if m.ID != c.Models[0].ID {
		return " of “" + m.Name + "”"
	}
	return ""
}

// Ranges names ranges that follow each other: each ends where the next begins.
// The first begins at the least that there is, so that everybody is in one.
func Ranges(bands []Band) ([]Band, error) {
	if len(bands) > 12 {
		return nil, plainly.New("there are at most 12 bands")
	}
	out := slices.Clone(bands)
	slices.SortStableFunc(out, func(a, b Band) int { return a.From - b.From })
	for i := range out {
		b := &out[i]
		switch {
		case strings.TrimSpace(b.Name) == "" || len(b.Name) > 60:
			return nil, plainly.New("a band needs a short name")
		case b.From < 0 || b.From > 100_000:
			return nil, plainly.Errorf("the band “%s” begins at a whole number from 0 to 100,000", b.Name)
		case i == 0 && b.From != 0:
			return nil, plainly.Errorf("the lowest band, “%s”, begins at 0, so that everybody is in one", b.Name)
		case i > 0 && out[i-1].From == b.From:
			return nil, plainly.Errorf("the bands “%s” and “%s” begin at the same number", out[i-1].Name, b.Name)
		case slices.ContainsFunc(out[:i], func(o Band) bool { return Fold(o.Name) == Fold(b.Name) }):
			return nil, plainly.Errorf("two bands are called “%s”", b.Name)
		}
		b.To = 0
		if i+1 < len(out) {
			b.To = out[i+1].From
		}
	}
	return out, nil
}
