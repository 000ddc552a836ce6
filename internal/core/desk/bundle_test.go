package desk

import (
	"fmt"
	"testing"
	"time"
)

func TestShown(t *testing.T) {
	oslo, kathmandu := zone(t, "Europe/Oslo"), zone(t, "Asia/Kathmandu")
	for _, c := range []struct {
		b        Bundling
		at, want string
		zone     *time.Location
	}{
		{AtOnce, "2026-04-14T08:59:00Z", "2026-04-14T08:59:00Z", oslo},
		{"", "2026-04-14T08:59:00Z", "2026-04-14T08:59:00Z", oslo},
		{Hourly, "2026-04-14T08:59:59Z", "2026-04-14T09:00:00Z", oslo},
		{Hourly, "2026-04-14T09:00:00Z", "2026-04-14T10:00:00Z", oslo},
		{AtNine, "2026-04-14T06:59:59Z", "2026-04-14T07:00:00Z", oslo},      // summer time
		{AtNine, "2026-04-14T07:00:00Z", "2026-04-15T07:00:00Z", oslo},      // nine itself
		{AtNine, "2026-03-28T12:00:00Z", "2026-03-29T07:00:00Z", oslo},      // the clock goes on in between
		{AtNine, "2026-10-24T12:00:00Z", "2026-10-25T08:00:00Z", oslo},      // and back
		{AtNine, "2026-12-31T23:30:00Z", "2027-01-01T03:15:00Z", kathmandu}, // a quarter to
	} {
		at, err := time.Parse(time.RFC3339, c.at)
		if err != nil {
			t.Fatal(err)
		}
		if got := c.b.Shown(at, c.zone).UTC().Format(time.RFC3339); got != c.want {
			t.Errorf("%s at %s in %v: %s, want %s", c.b, c.at, c.zone, got, c.want)
		}
	}
	if Bundling("never").Known() || !AtNine.Known() {
		t.Error("what is no choice is one, or the other way")
	}
}

func TestBundle(t *testing.T) {
	for _, c := range []struct {
		list []Told
		want string
	}{
		{nil, "[]"},
		{[]Told{{"a", "x"}, {"b", "x"}, {"a", "x"}, {"a", "y"}}, "[[3] [0 2] [1]]"},
		{[]Told{{"a", "x"}, {"a", "x"}, {"b", "x"}}, "[[2] [0 1]]"},
	} {
		if got := fmt.Sprint(Bundle(c.list)); got != c.want {
			t.Errorf("%v: %s, want %s", c.list, got, c.want)
		}
	}
}
