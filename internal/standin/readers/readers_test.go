package readers

import (
	"fmt"
	"testing"
	"time"

	"ombak/internal/standin/mailserver"
)

func TestOneSeedOneWorld(t *testing.T) {
	plan := func(seed uint64) string {
		w := &World{Seed: seed}
		at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
		for n := range 300 {
			w.Got(&mailserver.Letter{N: n, To: fmt.Sprintf("p%d@x.example", n%100), At: at})
		}
		s := ""
		for _, a := range w.queue {
			s += a.what + a.at.String()
		}
		return fmt.Sprint(len(w.queue), s)
	}
	if plan(7) != plan(7) {
		t.Error("the same seed makes people act differently")
	}
	if plan(7) == plan(8) {
		t.Error("another seed makes the same people")
	}
}

func TestTemperaments(t *testing.T) {
	count := map[Temperament]int{}
	for n := range 2000 {
		count[Of(7, fmt.Sprintf("p%d@x.example", n))]++
	}
	total := 0
	for _, s := range shares {
		total += s.n
		if got := count[s.t]; got < s.n*20*6/10 || got > s.n*20*14/10 {
			t.Errorf("%d of 2,000 are %s, want about %d", got, s.t, s.n*20)
		}
	}
	if total != 100 {
		t.Errorf("the shares sum to %d", total)
	}
}

func TestActsComeInOrder(t *testing.T) {
	w := &World{Seed: 3}
	at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	for n := range 200 {
		w.Got(&mailserver.Letter{N: n, To: fmt.Sprintf("p%d@x.example", n), At: at})
	}
	if next := w.Next(); !next.After(at) {
		t.Errorf("somebody acts at %v, before the letter came", next)
	}
}
