package act

import "ombak/internal/core/plainly"

// Tag puts a tag on their record. One that is not there yet is made.
type Tag struct {
	Name string `json:"what"`
}

var tag = &Kind{Word: "tag", Menu: "tag them", Takes: ATag, read: reads[Tag],
	Make:  func(g Given) Act { return Tag{g.Words} },
	Given: func(a Act) Given { return Given{Words: a.(Tag).Name} },
}

// Kind describes tags.
func (Tag) Kind() *Kind { return tag }
func (Tag) sealed()     {}

// Check asks for a name.
func (a Tag) Check() error { return checkWords(a.Name, "which tag") }

// Says names the tag.
func (a Tag) Says(Names) string { return "tag “" + a.Name + "”" }

// Include puts them into a hand-picked audience.
type Include struct {
	Audience int64 `json:"what,string"`
}

var include = &Kind{Word: "audience", Menu: "put them into", Takes: AnAudience, read: reads[Include],
	Make:  func(g Given) Act { return Include{g.ID} },
	Given: func(a Act) Given { return Given{ID: a.(Include).Audience} },
}

// Kind describes puttings into audiences.
func (Include) Kind() *Kind { return include }
func (Include) sealed()     {}

// Check asks for an audience.
func (a Include) Check() error {
	if a.Audience <= 0 {
		return plainly.New("choose the audience")
	}
	return nil
}

// Says names the audience.
func (a Include) Says(n Names) string { return "add to “" + n.Audience(a.Audience) + "”" }

// Assign gives whoever has no owner one: a user, or with 0 the rep whose turn it is.
type Assign struct {
	To int64 `json:"to,omitempty"`
}

var assign = &Kind{Word: "assign", Menu: "give whoever has none an owner", For: "the rep whose turn it is",
	read:  reads[Assign],
	Make:  func(g Given) Act { return Assign{g.To} },
	Given: func(a Act) Given { return Given{To: a.(Assign).To} },
}

// Kind describes assignments.
func (Assign) Kind() *Kind { return assign }
func (Assign) sealed()     {}

// Check looks at the user's number.
func (a Assign) Check() error { return checkUser(a.To) }

// Says names the owner.
func (a Assign) Says(n Names) string {
	whom := "the rep whose turn it is"
	if a.To != 0 {
		whom = n.User(a.To)
	}
	return "whoever has no owner gets " + whom
}
