package shell

import (
	"math/rand/v2"
	"testing"
)

// The bands of a level stand where they begin, no name lies under another or outside the chart, and what the ready line
// marks is not marked twice.
func TestBandsOfATide(t *testing.T) {
	rnd := rand.New(rand.NewPCG(2, 11))
	named := 0
	for range 500 {
		c := Tide{Level: true, W: 720, H: 170, Left: 34, Bottom: 22, Mark: float64(rnd.IntN(3) * 15),
			Points: []TidePoint{{X: 0, Value: float64(rnd.IntN(90))}, {X: 1, Value: float64(rnd.IntN(9))}}}
		from := 0.0
		for range rnd.IntN(7) {
			c.Bands = append(c.Bands, TideBand{from, "band"})
			from += float64(1 + rnd.IntN(30))
		}
		c.Layout()
		last := c.BottomY + wordsHigh
		for i, l := range c.BandLines {
			b := c.Bands[i]
			if l.Y != c.y(b.From) || l.Y > c.BottomY || l.Y < chartTop {
				t.Fatalf("a band from %v stands at %v", b.From, l.Y)
			}
			if l.Line == (b.From == 0 || b.From == c.Mark) {
				t.Errorf("a band from %v has a line: %v, beside the mark at %v", b.From, l.Line, c.Mark)
			}
			if l.Text == "" {
				continue
			}
			if named++; l.Y > last-wordsHigh+0.001 && i > 0 && c.BandLines[i-1].Text != "" && c.BandLines[i-1].Y-l.Y < wordsHigh {
				t.Errorf("two names lie on each other at %v and %v", c.BandLines[i-1].Y, l.Y)
			}
			last = l.Y
		}
		for i, b := range c.Bands { // those that are left out begin above the chart
			if i >= len(c.BandLines) && c.y(b.From) >= chartTop {
				t.Errorf("a band from %v of %v is left out", b.From, c.Top)
			}
		}
	}
	if named < 300 {
		t.Errorf("only %d names", named)
	}
}
