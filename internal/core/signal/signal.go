// Package signal knows what people do: the kinds of signal, where one came
// from, and counting them in windows of time.
//
// A signal is a fact and never changes. Scores, watches, audiences and
// timelines are all derived from signals and can be made again from them.
package signal

import (
	"fmt"
	"sort"
	"time"
)

// Kind is what somebody did. The numbers are stored; new kinds go at the end.
type Kind int16

// The kinds of signal.
const (
	PageView Kind = iota + 1
	Form
	Download
	Open
	Click
	Reply
	AutomaticReply
	OptOut
	Bounce
	Complaint
	Meeting
	CallAnswered
	Accepted
	SocialReply
	TaskDone
	Registered
	Cancelled
	Came
	StayedAway
	PointsGiven
	SaidInterested
	SaidNotNow
	SaidNotInterested
	SaidWrongPerson
	MeetingHeld
	MeetingMissed
	MeetingCancelled
	kindEnd
)

var kinds = [...]struct{ word, did, plural, answer string }{
	PageView:       {"page view", "viewed a page", "page views", "Looked"},
	Form:           {"form", "filled in a form", "forms", "Filled in"},
	Download:       {"download", "took a download", "downloads", "Took it"},
	Open:           {"open", "opened an email", "opens", "Opened"},
	Click:          {"click", "clicked a link", "clicks", "Clicked"},
	Reply:          {"reply", "replied", "replies", "Answered"},
	AutomaticReply: {"automatic reply", "sent an automatic reply", "automatic replies", "It happened"},
	OptOut:         {"opt-out", "opted out", "opt-outs", "It happened"},
	Bounce:         {"bounce", "bounced", "bounces", "It happened"},
	Complaint:      {"complaint", "complained", "complaints", "It happened"},
	Meeting:        {"meeting", "booked a meeting", "meetings", "Booked"},
	CallAnswered:   {"call answered", "took a call", "calls answered", "Talked"},
	Accepted:       {"acceptance", "accepted to connect", "acceptances", "Accepted"},
	SocialReply:    {"social answer", "answered on the network", "social answers", "Answered"},
	TaskDone:       {"task done", "had a task done for them", "tasks done", "Done"},
	Registered:     {"registration", "registered for an event", "registrations", "Registered"},
	Cancelled:      {"cancellation", "cancelled a registration", "cancellations", "Cancelled"},
	Came:           {"attendance", "came to an event", "attendances", "Came"},
	StayedAway:     {"absence", "stayed away from an event", "absences", "Stayed away"},
	PointsGiven:    {"points given", "were given points", "times points were given", "It happened"},

	SaidInterested:    {"interest", "said they are interested", "times they said they are interested", "Interested"},
	SaidNotNow:        {"not now", "said not now", "times they said not now", "Not now"},
	SaidNotInterested: {"refusal", "said they are not interested", "refusals", "Not interested"},
	SaidWrongPerson: {"wrong person", "said they are the wrong person", "times they were the wrong person",
		"Wrong person"},
	MeetingHeld:      {"meeting held", "met us", "meetings held", "Met us"},
	MeetingMissed:    {"meeting missed", "missed a meeting", "meetings missed", "Missed it"},
	MeetingCancelled: {"meeting cancelled", "cancelled a meeting", "meetings cancelled", "Cancelled"},
}

// Kinds lists every kind, in the order of their numbers.
func Kinds() []Kind {
	var all []Kind
	for k := PageView; k < kindEnd; k++ {
		all = append(all, k)
	}
	return all
}

// Known reports whether k is one of Kinds.
func (k Kind) Known() bool { return k >= PageView && k < kindEnd }

// String is the kind as a noun: "page view".
func (k Kind) String() string {
	if !k.Known() {
		return fmt.Sprintf("signal %d", int16(k))
	}
	return kinds[k].word
}

// Did is the kind as something a person did: "viewed a page".
func (k Kind) Did() string {
	if !k.Known() {
		return k.String()
	}
	return kinds[k].did
}

// OfPage reports whether such a signal comes from a page, and not from an email.
func (k Kind) OfPage() bool { return k == PageView || k == Form || k == Download }

// OfEvent reports whether such a signal is about an event, and not about an email.
func (k Kind) OfEvent() bool { return k >= Registered && k <= StayedAway }

// Answer is the kind as the answer to whether it happened: "Looked".
func (k Kind) Answer() string {
	if !k.Known() {
		return "It happened"
	}
	return kinds[k].answer
}

// Plural is the kind's noun for n of them, with the figure: "3 clicks".
func (k Kind) Plural(n int) string {
	if n == 1 || !k.Known() {
		return fmt.Sprintf("%d %s", n, k)
	}
	return fmt.Sprintf("%d %s", n, kinds[k].plural)
}

// Place is where a signal came from. Zero fields are unknown in a Signal and
// any in a Pattern.
type Place struct {
	Sequence int64 `json:"sequence,omitempty"`
	Step     int32 `json:"step,omitempty"` // the step of that sequence whose touch it answers
	Message  int64 `json:"message,omitempty"`
	Link     int32 `json:"link,omitempty"` // number of the link in the message, from 1
	Page     int64 `json:"page,omitempty"`
	Event    int64 `json:"event,omitempty"`
}

// Signal is one thing one person did.
type Signal struct {
	ID   int64
	At   time.Time
	Kind Kind
	Place
	Machine bool // made by a machine, not by the person
	Worth   int  // of PointsGiven: how many, as a step says; 0 of every other kind
}

// Pattern picks signals out: a kind, from a place or from anywhere. Signals
// made by machines do not count unless Machine is set.
type Pattern struct {
	Kind Kind `json:"kind"`
	Place
	Machine bool `json:"machine,omitempty"`
}

// Matches reports whether s is what p asks for.
func (p *Pattern) Matches(s *Signal) bool {
	return s.Kind == p.Kind &&
		(p.Machine || !s.Machine) &&
		(p.Sequence == 0 || p.Sequence == s.Sequence) &&
		(p.Step == 0 || p.Step == s.Step) &&
		(p.Message == 0 || p.Message == s.Message) &&
		(p.Link == 0 || p.Link == s.Link) &&
		(p.Page == 0 || p.Page == s.Page) &&
		(p.Event == 0 || p.Event == s.Event)
}

// Sort puts signals into the order in which all of this package's functions
// want them: by instant, then by id.
func Sort(list []Signal) {
	sort.Slice(list, func(i, j int) bool {
		if !list[i].At.Equal(list[j].At) {
			return list[i].At.Before(list[j].At)
		}
		return list[i].ID < list[j].ID
	})
}

// Count counts the signals of sorted list that match p, at from or later and
// not after to.
func Count(list []Signal, p *Pattern, from, to time.Time) int {
	n := 0
	for i := range list {
		s := &list[i]
		if s.At.After(to) {
			break
		}
		if !s.At.Before(from) && p.Matches(s) {
			n++
		}
	}
	return n
}

// Nth returns the instant of the n-th signal of sorted list that matches p at
// from or later and not after to; false where there are fewer.
func Nth(list []Signal, p *Pattern, n int, from, to time.Time) (time.Time, bool) {
	for i := range list {
		s := &list[i]
		if s.At.After(to) {
			break
		}
		if s.At.Before(from) || !p.Matches(s) {
			continue
		}
		if n--; n <= 0 {
			return s.At, true
		}
	}
	return time.Time{}, false
}

// Within returns the start of "within the last days days" at t: t − days·24 h,
// which is elapsed time, whatever clocks do.
func Within(t time.Time, days int) time.Time { return t.Add(-time.Duration(days) * 24 * time.Hour) }
