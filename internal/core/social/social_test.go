package social

import (
	"testing"

	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
)

// Every act has a limit, its own or the usual one, and a day has room until it is reached.
func TestLimits(t *testing.T) {
	l := Limits{sequence.Connect: 2, sequence.Visit: 0}
	for _, what := range sequence.SocialActs() {
		if (Limits)(nil).Of(what) == 0 {
			t.Errorf("%s has no usual limit", what)
		}
	}
	for _, c := range []struct {
		what       sequence.SocialAct
		done, want int
	}{{sequence.Connect, 0, 2}, {sequence.Connect, 1, 1}, {sequence.Connect, 2, 0}, {sequence.Connect, 3, 0},
		{sequence.Visit, 0, 0}, {sequence.SocialNote, 0, 40}, {"shout", 0, 0}} {
		if got := l.Room(c.what, c.done); got != c.want {
			t.Errorf("%s after %d: %d, want %d", c.what, c.done, got, c.want)
		}
	}
	for _, bad := range []Limits{{"shout": 3}, {sequence.Visit: -1}, {sequence.Visit: 501}} {
		if bad.Check() == nil {
			t.Errorf("%v is taken", bad)
		}
	}
	if err := l.Check(); err != nil {
		t.Error(err)
	}
	if Accepted.Signal() != signal.Accepted || Answered.Signal() != signal.SocialReply || News("x").Signal() != 0 {
		t.Error("news are other signals")
	}
}
