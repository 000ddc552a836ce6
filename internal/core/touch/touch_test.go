package touch

import (
	"slices"
	"strings"
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

// A history has a line for each state that something has come to, and none of what is
// told by others.
func TestHistoriesTellTouches(t *testing.T) {
	for _, k := range Kinds() {
		for _, s := range States() {
			for _, trouble := range []bool{false, true} {
				l, ok := k.Line(s, trouble)
				if !ok {
					continue
				}
				if l.Icon == "" || strings.Contains(l.Text, "*") != (l.About != "") {
					t.Errorf("a %s that is %s: %+v", k, s, l)
				}
				if got := l.Words("“Field guide”"); strings.Contains(got, "*") ||
					strings.Contains(got, "“Field guide”") != (l.About != "") {
					t.Errorf("a %s that is %s: %q", k, s, got)
				}
			}
		}
	}
	for _, c := range []struct {
		kind    Kind
		state   State
		trouble bool
		want    string
	}{
		{Email, Sent, false, "Got the email “Guide”"}, {Email, Ready, false, "An email is ready to go out"},
		{Email, Ready, true, "An email is tried again: Guide"}, {Call, Missed, false, "Nobody called in time"},
		{Call, Sent, false, ""}, {"smoke", Sent, false, ""},
	} {
		l, ok := c.kind.Line(c.state, c.trouble)
		if got := l.Words("Guide"); ok != (c.want != "") || got != c.want {
			t.Errorf("a %s that is %s says %q, want %q", c.kind, c.state, got, c.want)
		}
	}
	if !Email.Known() || !Call.Known() || Kind("smoke").Known() {
		t.Error("kinds that are known")
	}
}
