package touch

import (
	"slices"
	"testing"
)

// Every state that something comes to leads to an end, and nothing leads out of
// what has gone out: an email goes out once.
func TestMoves(t *testing.T) {
	ends := []State{Sent, Passed, Done, Missed}
	for _, s := range States() {
		seen := map[State]bool{}
		for next := []State{s}; len(next) > 0; next = next[1:] {
			if seen[next[0]] {
				continue
			}
			seen[next[0]] = true
			for _, to := range States() {
				if next[0].May(to) {
					next = append(next, to)
				}
				if next[0].May(to) != slices.Contains(to.Before(), next[0]) {
					t.Errorf("%s → %s is told differently from both ends", next[0], to)
				}
			}
		}
		if !slices.ContainsFunc(ends, func(e State) bool { return seen[e] }) {
			t.Errorf("%s leads to no end", s)
		}
		if slices.Contains(ends, s) && len(seen) != 1 {
			t.Errorf("%s is an end, and leads on", s)
		}
	}
	if Sent.May(Ready) || Sent.May(Withdrawn) || Held.May(Withdrawn) || State("x").May(Sent) {
		t.Error("what has gone out, or may have, is taken back")
	}
}

// A letter is marked before it is sent, and what is marked is claimed.
func TestPhases(t *testing.T) {
	for from, to := range map[Phase][]Phase{
		Waiting: {Claimed, Over}, Claimed: {Sending, Waiting, Aside, Over}, Sending: {Over, Waiting, Aside},
		Aside: {Waiting, Over}, Over: {Waiting}, "x": nil,
	} {
		for _, p := range Phases() {
			if from.May(p) != slices.Contains(to, p) {
				t.Errorf("%s → %s: %v", from, p, from.May(p))
			}
		}
	}
	for _, s := range States() {
		work := s == Desk || s == Done || s == Missed
		if (s.Letter() == "") != work {
			t.Errorf("the letter of a touch that is %s: %q", s, s.Letter())
		}
	}
	if Waiting.May(Sending) {
		t.Error("a letter is sent that nobody has claimed")
	}
	if !slices.Equal(Lanes(), []Lane{Single, OfWay, ToGroup}) {
		t.Error("somebody waits behind a large email for what they asked for")
	}
}
