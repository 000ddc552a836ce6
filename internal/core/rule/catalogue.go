package rule

import (
	"fmt"

	"ombak/internal/core/person"
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
	Bands     []Band
}

// Band is a named range of a score: from From up to, not including, To; no end
// where To is 0.
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
	case InSequence:
		return c.Sequences
	case Stage:
		return c.Stages
	case Consent:
		return c.Purposes
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

func (c *Catalogue) band(name string) (Band, bool) {
	if c != nil {
		for _, b := range c.Bands {
			if b.Name == name {
				return b, true
			}
		}
	}
	return Band{}, false
}
