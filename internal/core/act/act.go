// Package act is what is done for a person because of something they did: they
// pressed a link, or filled in a form.
package act

import (
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ombak/internal/core/plainly"
)

// Kind is a kind of act: one of a closed set.
type Kind string

// The kinds.
const (
	Tag      Kind = "tag"
	Audience Kind = "audience" // a hand-picked one
	Task     Kind = "task"     // work on a desk
	Alert    Kind = "alert"    // somebody is told
	Enrol    Kind = "enrol"    // a running sequence
	Assign   Kind = "assign"   // whoever has no owner gets one
)

// Act is one thing to do.
type Act struct {
	Do Kind `json:"do"`
	// What is the tag's name, the words of a task or an alert, or the number of
	// the audience or sequence.
	What string `json:"what,omitempty"`
	// To is the user who gets a task or an alert, or becomes the owner. 0: the
	// person's owner, for an assignment the rep whose turn it is.
	To int64 `json:"to,omitempty"`
}

// OfLink lists what pressing a link can do, OfForm what filling in a form can.
func OfLink() []Kind { return []Kind{Tag, Task, Alert, Audience} }

// OfForm lists what filling in a form can do.
func OfForm() []Kind { return []Kind{Tag, Task, Alert, Audience, Enrol, Assign} }

// Max is how many acts one link or form has at most.
const Max = 20

const maxWords = 200

// ID is the number of the audience or sequence; 0 where there is none.
func (a Act) ID() int64 {
	if a.Do != Audience && a.Do != Enrol {
		return 0
	}
	n, err := strconv.ParseInt(a.What, 10, 64)
	if err != nil || n < 0 {
		return 0
	}
	return n
}

// Check reports what is wrong with an act that may be of some kinds, or nil.
func (a Act) Check(of []Kind) error {
	if !slices.Contains(of, a.Do) {
		return plainly.Errorf("%q cannot be done here", a.Do)
	}
	if a.To < 0 {
		return plainly.New("this is nobody’s number")
	}
	switch a.Do {
	case Audience, Enrol:
		if a.ID() == 0 {
			return plainly.Errorf("choose the %s", map[Kind]string{Audience: "audience", Enrol: "sequence"}[a.Do])
		}
	case Tag, Task, Alert:
		if strings.TrimSpace(a.What) == "" {
			return plainly.Errorf("say %s", map[Kind]string{Tag: "which tag", Task: "what is to be done", Alert: "what the alert tells"}[a.Do])
		}
		if utf8.RuneCountInString(a.What) > maxWords {
			return plainly.Errorf("at most %d letters", maxWords)
		}
	}
	return nil
}

// Words says an act: "tag “oxygen”", "a task for the owner: call". name names
// an audience, a sequence or a user (of kind Assign) by its number.
func (a Act) Words(name func(of Kind, id int64) string) string {
	whom := "the owner"
	if a.To != 0 {
		whom = name(Assign, a.To)
	}
	switch a.Do {
	case Tag:
		return "tag “" + a.What + "”"
	case Audience:
		return "add to “" + name(Audience, a.ID()) + "”"
	case Enrol:
		return "enter “" + name(Enrol, a.ID()) + "”"
	case Task:
		return "a task for " + whom + ": " + a.What
	case Alert:
		return "tell " + whom + ": " + a.What
	}
	if a.To == 0 {
		whom = "the rep whose turn it is"
	}
	return "whoever has no owner gets " + whom
}
