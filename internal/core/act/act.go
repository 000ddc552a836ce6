// Package act is what is done for a person because of something: a step of a
// sequence that they came to, a link they pressed, a form they filled in, a score
// that crossed the line, or a hand.
//
// The acts are one closed set: Act can only be implemented here, one type for each,
// which carries what it needs. Whoever makes them does not do them: the engine has
// one executor for each, which does it for a whole batch of people.
package act

import (
	"encoding/json"
	"slices"
	"strings"
	"unicode/utf8"

	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
)

// Act is one thing to do for one person. Acts are values and can be compared.
type Act interface {
	Kind() *Kind
	// Check reports what is wrong with it, or nil.
	Check() error
	// Says says it: "tag “oxygen”", "a task for the owner: call".
	Says(Names) string

	sealed()
}

// Names names what acts refer to by number.
type Names interface {
	Audience(id int64) string
	Sequence(id int64) string
	User(id int64) string
	Team(id int64) string
	Stage(id int64) string
	Purpose(id int64) string
	Message(id int64) string
	Field(name string) string
}

// Kind describes a kind of act.
type Kind struct {
	Word  string // as it is stored
	Menu  string // as a menu offers it; empty: no menu does
	Takes Takes  // what a form asks for besides
	Roles bool   // it can be for everybody of a role
	Teams bool   // it can be for a team
	For   string // whom it is for where nobody is chosen; empty: it is for nobody
	// Make makes one of what a form gives, and Given gives it back.
	Make  func(Given) Act
	Given func(Act) Given
	read  func([]byte) (Act, error)
}

// Takes is what a form has to give for an act.
type Takes string

// What there is to give.
const (
	Nothing    Takes = ""
	ATag       Takes = "tag"      // its name
	Words      Takes = "words"    // of at most 200 letters
	AnAudience Takes = "audience" // a hand-picked one, by its number
	ASequence  Takes = "sequence" // a running one, by its number
	AField     Takes = "field"    // its name, and what it is set to
	AStage     Takes = "stage"    // of the pipeline, by its number
	APurpose   Takes = "purpose"  // by its number
	AnOwner    Takes = "user"     // a user, or nobody
	ANumber    Takes = "number"   // a whole one, in words
	AQuality   Takes = "quality"  // which of the addresses that are found are used
	AMessage   Takes = "message"  // by its number, and the purpose that they agreed to, as the field
)

// Given is what a form gives for an act: words or a number, as it takes, and a user.
type Given struct {
	Field string
	Words string
	ID    int64
	To    int64
	Role  right.Role
	Team  int64
}

// Kinds lists the kinds of act in the order in which they are done for one person:
// whoever becomes the owner does so before the owner is given something to do.
func Kinds() []*Kind { return slices.Clone(kinds) }

var kinds = []*Kind{handOver, assign, give, set, tag, untag, include, exclude, openDeal, moveDeal, revoke,
	note, points, find, task, alert, enrol, write, goOn, send, work, withdraw}

// OfLink lists what pressing a link can do, OfForm what filling in a form can.
func OfLink() []*Kind { return []*Kind{tag, task, alert, include} }

// OfForm lists what filling in a form can do.
func OfForm() []*Kind { return []*Kind{tag, task, alert, include, enrol, assign} }

// OfCrossing lists what can follow from a score that comes to a level. None of it gives points: nothing follows from
// itself.
func OfCrossing() []*Kind {
	return []*Kind{tag, untag, include, exclude, enrol, write, assign, task, alert, handOver}
}

// OfRecord lists what a step can change of a record.
func OfRecord() []*Kind {
	return []*Kind{set, tag, untag, give, assign, include, exclude, openDeal, moveDeal, revoke, note, points,
		find}
}

// Named is the kind with that word, or nil.
func Named(word string) *Kind {
	for _, k := range kinds {
		if k.Word == word {
			return k
		}
	}
	return nil
}

// Max is how many acts one link or form has at most.
const Max = 20

const maxWords = 200

// Check reports what is wrong with an act that may be of some kinds, or nil.
func Check(a Act, of []*Kind) error {
	if a == nil || !slices.Contains(of, a.Kind()) {
		return plainly.New("this cannot be done here")
	}
	return a.Check()
}

// Kept is an act as it is kept in a document: its kind's word, as "do", beside what
// it carries.
type Kept struct{ Act }

// MarshalJSON writes {"do": "tag", "what": "oxygen"}.
func (k Kept) MarshalJSON() ([]byte, error) {
	body, err := json.Marshal(k.Act)
	if err != nil || k.Act == nil {
		return body, err
	}
	word, err := json.Marshal(k.Act.Kind().Word)
	out := append([]byte(`{"do":`), word...)
	if len(body) > 2 {
		out = append(out, ',')
	}
	return append(out, body[1:]...), err
}

// UnmarshalJSON reads what MarshalJSON writes; an unknown kind is an error.
func (k *Kept) UnmarshalJSON(data []byte) error {
	var head struct{ Do string }
	if err := json.Unmarshal(data, &head); err != nil {
		return err
	}
	kind := Named(head.Do)
	if kind == nil {
		return plainly.Errorf("%q is nothing that can be done", head.Do)
	}
	a, err := kind.read(data)
	k.Act = a
	return err
}

// reads reads an act's own fields.
func reads[A Act](data []byte) (Act, error) {
	var a A
	err := json.Unmarshal(data, &a)
	return a, err
}

// checkWords reports what is wrong with words that say missing when they are not there.
func checkWords(words, missing string) error {
	if strings.TrimSpace(words) == "" {
		return plainly.New("say " + missing)
	}
	if utf8.RuneCountInString(words) > maxWords {
		return plainly.Errorf("at most %d letters", maxWords)
	}
	return nil
}

// checkUser reports that a number is nobody's; 0 stands for nobody in particular.
func checkUser(id int64) error {
	if id < 0 {
		return plainly.New("this is nobody’s number")
	}
	return nil
}
