// Package social is what reps do on the network for steps: how often on a day, and what comes back.
//
// Daily limits are common practice (no source): networks stop accounts that do more.
package social

import (
	"ombak/internal/core/plainly"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
)

// Limits are how often a rep does each thing on a day of the workspace's zone; what is not in it
// is done as often as is usual.
type Limits map[sequence.SocialAct]int

// most is the largest limit there is.
const most = 500

var usual = Limits{sequence.Connect: 20, sequence.SocialNote: 40, sequence.Visit: 60, sequence.React: 40,
	sequence.Vouch: 20}

// Of is how often something is done on a day at most.
func (l Limits) Of(what sequence.SocialAct) int {
	if n, ok := l[what]; ok {
		return n
	}
	return usual[what]
}

// Room is how many more are done on a day that has done so many.
func (l Limits) Room(what sequence.SocialAct, done int) int { return max(l.Of(what)-done, 0) }

// Check reports a limit that is none, or nil.
func (l Limits) Check() error {
	for what, n := range l {
		if _, known := usual[what]; !known || n < 0 || n > most {
			return plainly.Errorf("a day has at most %d of each on the network", most)
		}
	}
	return nil
}

// News is what the network tells of somebody.
type News string

// What there is to tell.
const (
	Accepted News = "accepted" // a request to connect
	Answered News = "answered" // a message, or a note
)

// Signal is the kind of signal that news are; 0: they are none.
func (n News) Signal() signal.Kind {
	switch n {
	case Accepted:
		return signal.Accepted
	case Answered:
		return signal.SocialReply
	}
	return 0
}
