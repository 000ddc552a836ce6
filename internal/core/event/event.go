// Package event is what has changed, as it is told in the transaction that changes it:
// of what kind, which one, and about whom. Live pages follow it.
package event

import (
	"fmt"
	"slices"
)

// Event is that something has changed. Its kinds are the variables of this package.
type Event struct {
	Kind   string
	ID     int64   // of what has changed; 0: one of its kind, whichever
	People []int64 // whom it is about
	any    bool    // it is about somebody: nobody says whom
}

// The kinds of event.
var (
	Person   = Event{Kind: "person"}   // a record
	Signal   = Event{Kind: "signal"}   // somebody did something
	Score    = Event{Kind: "score"}    // points were counted
	Way      = Event{Kind: "way"}      // somebody came on in a sequence
	Sequence = Event{Kind: "sequence"} // its people, or what it does
	Mailing  = Event{Kind: "mailing"}  // a one-off email
	Audience = Event{Kind: "audience"} // who is in it, or what it asks
	Desk     = Event{Kind: "desk"}     // work, handoffs, alerts
	Pipeline = Event{Kind: "pipeline"} // deals and stages
	Mailbox  = Event{Kind: "mailbox"}  // an account that emails go out from
	Batch    = Event{Kind: "batch"}    // long work
	Clock    = Event{Kind: "clock"}    // of a demo
)

// Of is the event about one thing.
func (e Event) Of(id int64) Event { e.ID = id; return e }

// About is the event about some people.
func (e Event) About(people ...int64) Event { e.People = people; return e }

// AboutSomebody is the event about people that nobody can name.
func (e Event) AboutSomebody() Event { e.any = true; return e }

// mostNamed is how many people are told of by name; of more it is told that it is
// about somebody, and whoever shows anybody looks.
const mostNamed = 50

// Topics are what those who listen are told of events, each once: "sequence",
// "sequence:7", "about:12"; "about:*" is about somebody.
func Topics(events ...Event) []string {
	var out []string
	add := func(topic string) {
		if !slices.Contains(out, topic) {
			out = append(out, topic)
		}
	}
	for _, e := range events {
		if e.ID != 0 {
			add(fmt.Sprintf("%s:%d", e.Kind, e.ID))
		} else {
			add(e.Kind)
		}
	}
	about := map[int64]bool{}
	somebody := false
	for _, e := range events {
		somebody = somebody || e.any
		for _, p := range e.People {
			about[p] = true
		}
	}
	if somebody || len(about) > mostNamed {
		add("about:*")
		return out
	}
	for p := range about {
		add(fmt.Sprintf("about:%d", p))
	}
	slices.Sort(out)
	return out
}
