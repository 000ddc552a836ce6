package act

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ombak/internal/core/plainly"
)

// Set sets a field of their record; with no value it empties it.
type Set struct {
	Field string `json:"field"`
	Value string `json:"what"`
}

var set = &Kind{Word: "set", Menu: "set a field", Takes: AField, read: reads[Set],
	Make:  func(g Given) Act { return Set{g.Field, g.Words} },
	Given: func(a Act) Given { return Given{Field: a.(Set).Field, Words: a.(Set).Value} },
}

// Kind describes settings of fields.
func (Set) Kind() *Kind { return set }
func (Set) sealed()     {}

// Check asks for a field.
func (a Set) Check() error {
	if a.Field == "" {
		return plainly.New("choose the field")
	}
	if len(a.Value) > 4*maxWords {
		return plainly.Errorf("a value has at most %d letters", maxWords)
	}
	return nil
}

// Says names the field and what it is set to.
func (a Set) Says(n Names) string {
	if a.Value == "" {
		return "empty " + n.Field(a.Field)
	}
	return fmt.Sprintf("set %s to “%s”", n.Field(a.Field), a.Value)
}

// Untag takes a tag off their record.
type Untag struct {
	Name string `json:"what"`
}

var untag = &Kind{Word: "untag", Menu: "take a tag off", Takes: ATag, read: reads[Untag],
	Make:  func(g Given) Act { return Untag{g.Words} },
	Given: func(a Act) Given { return Given{Words: a.(Untag).Name} },
}

// Kind describes takings off of tags.
func (Untag) Kind() *Kind { return untag }
func (Untag) sealed()     {}

// Check asks for a name.
func (a Untag) Check() error { return checkWords(a.Name, "which tag") }

// Says names the tag.
func (a Untag) Says(Names) string { return "take the tag “" + a.Name + "” off" }

// Exclude takes them out of a hand-picked audience.
type Exclude struct {
	Audience int64 `json:"what,string"`
}

var exclude = &Kind{Word: "exclude", Menu: "take them out of", Takes: AnAudience, read: reads[Exclude],
	Make:  func(g Given) Act { return Exclude{g.ID} },
	Given: func(a Act) Given { return Given{ID: a.(Exclude).Audience} },
}

// Kind describes takings out of audiences.
func (Exclude) Kind() *Kind { return exclude }
func (Exclude) sealed()     {}

// Check asks for an audience.
func (a Exclude) Check() error {
	if a.Audience <= 0 {
		return plainly.New("choose the audience")
	}
	return nil
}

// Says names the audience.
func (a Exclude) Says(n Names) string { return "take out of “" + n.Audience(a.Audience) + "”" }

// Give gives them another owner, with 0 none.
type Give struct {
	To int64 `json:"to,omitempty"`
}

var give = &Kind{Word: "give", Menu: "give them to", Takes: AnOwner, For: "nobody", read: reads[Give],
	Make:  func(g Given) Act { return Give{g.To} },
	Given: func(a Act) Given { return Given{To: a.(Give).To} },
}

// Kind describes givings.
func (Give) Kind() *Kind { return give }
func (Give) sealed()     {}

// Check looks at the user's number.
func (a Give) Check() error { return checkUser(a.To) }

// Says names the owner.
func (a Give) Says(n Names) string {
	if a.To == 0 {
		return "take their owner away"
	}
	return "give to " + n.User(a.To)
}

// MoveDeal moves their open deals to a stage. Who has none keeps none.
type MoveDeal struct {
	Stage int64 `json:"what,string"`
}

var moveDeal = &Kind{Word: "move deal", Menu: "move their open deal to", Takes: AStage, read: reads[MoveDeal],
	Make:  func(g Given) Act { return MoveDeal{g.ID} },
	Given: func(a Act) Given { return Given{ID: a.(MoveDeal).Stage} },
}

// Kind describes moves of deals.
func (MoveDeal) Kind() *Kind { return moveDeal }
func (MoveDeal) sealed()     {}

// Check asks for a stage.
func (a MoveDeal) Check() error {
	if a.Stage <= 0 {
		return plainly.New("choose the stage")
	}
	return nil
}

// Says names the stage.
func (a MoveDeal) Says(n Names) string {
	return "move their open deal to “" + n.Stage(a.Stage) + "”"
}

// OpenDeal opens a deal about them in a stage, for their owner. Who has an open one keeps it.
type OpenDeal struct {
	Stage int64 `json:"what,string"`
}

var openDeal = &Kind{Word: "open deal", Menu: "open a deal in", Takes: AStage, read: reads[OpenDeal],
	Make:  func(g Given) Act { return OpenDeal{g.ID} },
	Given: func(a Act) Given { return Given{ID: a.(OpenDeal).Stage} },
}

// Kind describes openings of deals.
func (OpenDeal) Kind() *Kind { return openDeal }
func (OpenDeal) sealed()     {}

// Check asks for a stage.
func (a OpenDeal) Check() error {
	if a.Stage <= 0 {
		return plainly.New("choose the stage")
	}
	return nil
}

// Says names the stage.
func (a OpenDeal) Says(n Names) string { return "open a deal in “" + n.Stage(a.Stage) + "”" }

// Revoke takes a consent back for them. No act gives one.
type Revoke struct {
	Purpose int64 `json:"what,string"`
}

var revoke = &Kind{Word: "revoke", Menu: "take their consent back to", Takes: APurpose, read: reads[Revoke],
	Make:  func(g Given) Act { return Revoke{g.ID} },
	Given: func(a Act) Given { return Given{ID: a.(Revoke).Purpose} },
}

// Kind describes takings back of consents.
func (Revoke) Kind() *Kind { return revoke }
func (Revoke) sealed()     {}

// Check asks for a purpose.
func (a Revoke) Check() error {
	if a.Purpose <= 0 {
		return plainly.New("choose the purpose")
	}
	return nil
}

// Says names the purpose.
func (a Revoke) Says(n Names) string {
	return "take back the consent to “" + n.Purpose(a.Purpose) + "”"
}

// Note adds a note to their record.
type Note struct {
	Words string `json:"what"`
}

var note = &Kind{Word: "note", Menu: "add a note", Takes: Words, read: reads[Note],
	Make:  func(g Given) Act { return Note{g.Words} },
	Given: func(a Act) Given { return Given{Words: a.(Note).Words} },
}

// Kind describes notes.
func (Note) Kind() *Kind { return note }
func (Note) sealed()     {}

// Check asks for words.
func (a Note) Check() error { return checkWords(a.Words, "what the note says") }

// Says gives the note.
func (a Note) Says(Names) string { return "note: " + a.Words }

// Points gives them points, or with a number below 0 takes some. They are a signal of a kind of
// its own: a score has them where its model has a rule for it.
type Points struct {
	N int `json:"what,string"`
}

// MostPoints is how many points are given at once, at most.
const MostPoints = 1000

var points = &Kind{Word: "points", Menu: "give them points", Takes: ANumber, read: reads[Points],
	Make: func(g Given) Act {
		n, err := strconv.Atoi(strings.Replace(strings.TrimSpace(g.Words), "−", "-", 1))
		if err != nil {
			return Points{} // no number: Check says so
		}
		return Points{n}
	},
	Given: func(a Act) Given { return Given{Words: strconv.Itoa(a.(Points).N)} },
}

// Kind describes givings of points.
func (Points) Kind() *Kind { return points }
func (Points) sealed()     {}

// Check asks for a number.
func (a Points) Check() error {
	if a.N == 0 || a.N < -MostPoints || a.N > MostPoints {
		return plainly.Errorf("points are a whole number from −%d to %[1]d, and not 0", MostPoints)
	}
	return nil
}

// Says gives the number.
func (a Points) Says(Names) string {
	switch {
	case a.N == 1:
		return "give 1 point"
	case a.N < 0:
		return fmt.Sprintf("give −%d points", -a.N)
	}
	return fmt.Sprintf("give %d points", a.N)
}

// Find has an email address looked for of who has none. Which of those that are found are used it says:
// valid ones alone; those that stand on a page too; or whatever is found.
type Find struct {
	Use Use `json:"what"`
}

// Use is which of the addresses that are found are used.
type Use string

// The choices.
const (
	ValidOnly Use = "valid"
	AlsoPages Use = "valid or direct"
	Whatever  Use = "whatever is found"
)

// Uses lists them, the most careful first.
func Uses() []Use { return []Use{ValidOnly, AlsoPages, Whatever} }

var find = &Kind{Word: "find", Menu: "find their email address", Takes: AQuality, read: reads[Find],
	Make:  func(g Given) Act { return Find{Use(g.Words)} },
	Given: func(a Act) Given { return Given{Words: string(a.(Find).Use)} },
}

// Kind describes findings of addresses.
func (Find) Kind() *Kind { return find }
func (Find) sealed()     {}

// Check asks which are used.
func (a Find) Check() error {
	if !slices.Contains(Uses(), a.Use) {
		return plainly.New("say which of the addresses that are found are used")
	}
	return nil
}

// Says gives what is used.
func (a Find) Says(Names) string { return "find their email address: " + string(a.Use) }
