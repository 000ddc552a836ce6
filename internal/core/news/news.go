// Package news is what has changed, as it is told in the transaction that changes it:
// of what kind, which one, and about whom. Live pages follow it.
package news

import (
	"fmt"
	"slices"
)

// Item is that something has changed. Its kinds are the variables of this package.
type Item struct {
	Kind   string
	ID     int64   // of what has changed; 0: one of its kind, whichever
	People []int64 // whom it is about
	any    bool    // it is about somebody: nobody says whom
}

// The kinds of news.
var (
	Person   = Item{Kind: "person"}   // a record
	Signal   = Item{Kind: "signal"}   // somebody did something
	Score    = Item{Kind: "score"}    // points were counted
	Model    = Item{Kind: "model"}    // what gives points, or its draft
	Way      = Item{Kind: "way"}      // somebody came on in a sequence
	Sequence = Item{Kind: "sequence"} // its people, or what it does
	Mailing  = Item{Kind: "mailing"}  // a one-off email
	Audience = Item{Kind: "audience"} // who is in it, or what it asks
	Desk     = Item{Kind: "desk"}     // work, handoffs, alerts
	Pipeline = Item{Kind: "pipeline"} // deals and stages
	Mailbox  = Item{Kind: "mailbox"}  // an account that emails go out from
	Batch    = Item{Kind: "batch"}    // long work
	Folder   = Item{Kind: "folder"}   // what lies in it, or its name
	Event    = Item{Kind: "event"}    // what people are invited to, or who comes
	Clock    = Item{Kind: "clock"}    // of a demo
)

// Of is the news about one thing.
func (i Item) Of(id int64) Item { i.ID = id; return i }

// About is the news about some people.
func (i Item) About(people ...int64) Item { i.People = people; return i }

// AboutSomebody is the news about people that nobody can name.
func (i Item) AboutSomebody() Item { i.any = true; return i }

// mostNamed is how many people are told of by name; of more it is told that it is
// about somebody, and whoever shows anybody looks.
const mostNamed = 50

// Topics are what those who listen are told of news, each once: "sequence",
// "sequence:7", "about:12"; "about:*" is about somebody.
func Topics(events ...Item) []string {
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
