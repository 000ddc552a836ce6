package shell

import (
	"fmt"
	"math"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"
)

func TestTide(t *testing.T) {
	d := Tide{W: 100, H: 100, Left: 10, Bottom: 10, Mark: 15, Level: true,
		Points: []TidePoint{{Value: 0}, {X: .5, Value: 20}, {X: 1, Value: 10, Tick: "14 April"}}}
	d.Layout()
	if d.Top != 20 || d.Points[1].PY != chartTop || d.Points[0].PX != 10 || d.Points[2].PX != 90 ||
		d.Points[2].Anchor != "end" {
		t.Errorf("%+v", d)
	}
	if strings.ContainsAny(d.Line+d.Area, "CQSL") {
		t.Errorf("a level is drawn as a curve: %s", d.Line)
	}
	c := Tide{W: 110, H: 100, Left: 10, Bottom: 10, Names: [2]string{"a", "b"}, Unfinished: true,
		Points: []TidePoint{{Value: 3, Second: 4, Row: "one"}, {Value: 0}, {Value: 2, Row: "three"}}}
	c.Layout()
	if len(c.Bars) != 3 || c.Line != "" || c.Bars[0].Class != "behind" || c.Bars[2].Class != "count unfinished" ||
		c.Bars[2].Y+c.Bars[2].H != c.BottomY {
		t.Errorf("bars %+v, line %q", c.Bars, c.Line)
	}
	if rows := c.Rows(); len(rows) != 3 || rows[0][1] != "3" || rows[0][2] != "4" || rows[2][0] != "three, so far" {
		t.Errorf("as a table: %v", rows)
	}
	for v, want := range map[float64]float64{0: 4, 3: 4, 5: 6, 9: 10, 15: 20, 20: 20, 41: 60, 77: 80, 350: 400,
		1001: 2000} {
		if got := nice(v); got != want || math.Mod(got, 2) != 0 {
			t.Errorf("nice(%v) = %v, want %v", v, got, want)
		}
	}
}

func TestWords(t *testing.T) {
	for n, want := range map[any]string{0: "0", 999: "999", 1000: "1,000", int64(1234567): "1,234,567",
		-1500: "−1,500"} {
		if got := Thousands(n); got != want {
			t.Errorf("thousands(%v) = %q", n, got)
		}
	}
	if Money(1250000, "EUR") != "EUR\u00a012,500" || Money(1250050, "EUR") != "EUR\u00a012,500.50" ||
		initials("Ines van Radu") != "IR" {
		t.Error("money or initials")
	}
	if m, err := ClockTime("24:00"); m != 1440 || err != nil {
		t.Errorf("24:00 is %d, %v", m, err)
	}
	for _, bad := range []string{"", "8", "25:00", "08:60", "-1:00", "24:01"} {
		if _, err := ClockTime(bad); err == nil {
			t.Errorf("%q is a time of day", bad)
		}
	}
}

// TestAPageMissesNothing holds that what changes while a page is on its way is
// told when it begins to listen.
func TestAPageMissesNothing(t *testing.T) {
	e := newEvents()
	e.tell("a")
	mark := e.mark()
	if got := e.since(mark); len(got) != 0 {
		t.Errorf("nothing has changed, and it tells %q", got)
	}
	for _, topic := range []string{"b", "c", "b"} {
		e.tell(topic)
	}
	if got := e.since(mark); strings.Join(got, " ") != "b c" {
		t.Errorf("missed %q, want b and c", got)
	}
	for range 3 * keptTopics {
		e.tell("d")
	}
	for name, old := range map[string]string{"too old": mark, "another process": "x.3",
		"from the future": e.from + ".99999", "nonsense": "x"} {
		if got := e.since(old); len(got) != 1 || got[0] != "" {
			t.Errorf("%s: %q, want anything", name, got)
		}
	}
}

func TestLimits(t *testing.T) {
	l := newLimits()
	for i := range maxLimits + 100 {
		l.Allow("a", fmt.Sprint(i), time.Hour, 1)
	}
	if n := l.by["a"].Len(); n != maxLimits {
		t.Errorf("%d are remembered", n)
	}
	if !l.Allow("b", "x", time.Hour, 2) || !l.left("b", "x", time.Hour, 2) || !l.Allow("b", "x", time.Hour, 2) ||
		l.left("b", "x", time.Hour, 2) || l.Allow("b", "x", time.Hour, 2) {
		t.Error("two tries are not two")
	}
	for ip, want := range map[string]string{
		"192.0.2.7": "192.0.2.7", "::ffff:192.0.2.7": "192.0.2.7", "2001:db8:1:2:3:4:5:6": "2001:db8:1:2::/64",
		"2001:db8:1:2::9": "2001:db8:1:2::/64", "fe80::1%eth0": "fe80::/64", "?": "?",
	} {
		if got := Network(ip); got != want {
			t.Errorf("%s stands for %s", ip, got)
		}
	}
}

// Behind a proxy that is ours everybody is themselves; what anybody else says
// of who asks is not believed.
func TestWhoAsks(t *testing.T) {
	ours := []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("2001:db8::1/128")}
	for _, c := range []struct {
		proxies        []netip.Prefix
		from, xff, who string
	}{
		{nil, "10.0.0.1:5", "198.51.100.7", "10.0.0.1"},
		{ours, "10.0.0.1:5", "198.51.100.7", "198.51.100.7"},
		{ours, "10.0.0.1:5", "203.0.113.9, 198.51.100.7", "198.51.100.7"}, // the first one was typed by the asker
		{ours, "10.0.0.1:5", "198.51.100.7, 10.0.0.2", "198.51.100.7"},
		{ours, "[2001:db8::1]:5", "198.51.100.7", "198.51.100.7"},
		{ours, "127.0.0.1:5", "198.51.100.7", "127.0.0.1"}, // not one of ours
		{ours, "192.168.0.1:5", "198.51.100.7", "192.168.0.1"},
		{ours, "203.0.113.9:5", "198.51.100.7", "203.0.113.9"},
		{ours, "10.0.0.1:5", "", "10.0.0.1"},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = c.from
		if c.xff != "" {
			r.Header.Set("X-Forwarded-For", c.xff)
		}
		if got := whoAsks(c.proxies)(r); got != c.who {
			t.Errorf("from %s for %q: %s, want %s", c.from, c.xff, got, c.who)
		}
	}
}
