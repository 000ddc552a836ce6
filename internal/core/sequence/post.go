package sequence

import (
	"fmt"
	"unicode/utf8"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/contact"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
)

// Post sends a printed card. People gather in a list for the printer, with their postal
// address and the words, and are done when somebody has marked them as sent. Whoever has
// no postal address goes on by NotPossible.
type Post struct {
	Common
	ToDo
	Card string `json:"words,omitempty"` // what stands on it; merge fields are filled in
}

// MaxCard is how many letters a card has at most.
const MaxCard = 2000

var postExits = []Exit{IsDone, NotPossible, Missed}

var kindPost = Register(13, &Kind{Word: "post", Does: "a printed card",
	Icon: "mailbox", Key: "l", Sort: ReachOut,
	With: map[Exit]Exit{NotPossible: IsDone, Missed: IsDone},
	Line: []Figure{{Count: WorkDone, Word: "sent"}, {Count: OnDesk, Word: "to print"}},
	Results: []Figure{{Count: OnDesk, Word: "to print"}, {Count: WorkDone, Word: "sent"},
		{Count: NotDone, Word: "missed"}}},
	func() Step {
		return &Post{Common: Common{Title: "Card"},
			ToDo: ToDo{Limit: calendar.Span{N: 10, Unit: calendar.WorkingDays}}}
	})

// Kind describes post.
func (*Post) Kind() *Kind { return kindPost }

// Exits are that it is sent, that it cannot be, and that nobody sent it in time.
func (*Post) Exits() []Exit { return postExits }

// Answer says what came of it.
func (*Post) Answer(e Exit) string {
	switch e {
	case IsDone:
		return "Sent"
	case NotPossible:
		return "No postal address"
	}
	return "Not sent in time"
}

// Says tells when it comes to the printer's list.
func (s *Post) Says(Names) string { return s.Timing.Says() }

// Settings give the words.
func (s *Post) Settings(Names) []Setting {
	return append([]Setting{{"Words", s.Card}}, s.settings()...)
}

// Tells says what is to be done.
func (*Post) Tells() string { return "print and send a card" }

// Words stand on the card.
func (s *Post) Words() string { return s.Card }

// Outcomes lists what can come of it.
func (*Post) Outcomes() []Outcome { return []Outcome{DidIt, CouldNot} }

// Told is nothing: a card tells nobody that it was read.
func (*Post) Told(Outcome) signal.Kind { return 0 }

func (*Post) does() []act.Act                    { return []act.Act{act.Work{Of: touch.Post}} }
func (s *Post) reaches() (contact.Channel, bool) { return contact.Post, false }
func (*Post) missed() int                        { return 2 }

func (s *Post) check(_ *Plan, report func(string)) {
	if n := utf8.RuneCountInString(s.Card); n == 0 {
		report("says nothing yet")
	} else if n > MaxCard {
		report(fmt.Sprintf("its card has more than %d letters", MaxCard))
	}
	s.ToDo.check(report)
}

func (s *Post) advance(r *run) verdict {
	if r.st.Phase == Out {
		return r.onDesk(s)
	}
	if v, ok := r.ready(s, 1); !ok {
		return v
	}
	return r.toDesk(s)
}

func (*Post) leads(o Outcome) int {
	if o == CouldNot || o == DidNot {
		return 1
	}
	return 0
}

func (s *Post) parts() []Part { return words(s.ID, s.Card) }
