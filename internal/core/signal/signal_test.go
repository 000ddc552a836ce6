package signal

import (
	"testing"
	"time"
)

var day0 = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

func TestNthAndCount(t *testing.T) {
	list := []Signal{
		{ID: 4, At: day0.Add(2 * time.Hour), Kind: Click, Place: Place{Sequence: 7, Step: 2, Link: 1}},
		{ID: 1, At: day0, Kind: Click, Place: Place{Sequence: 7, Step: 2, Link: 2}},
		{ID: 3, At: day0.Add(time.Hour), Kind: Click, Machine: true, Place: Place{Sequence: 7, Step: 2}},
		{ID: 2, At: day0, Kind: Open, Place: Place{Sequence: 7, Step: 2}},
		{ID: 5, At: day0.Add(3 * time.Hour), Kind: Click, Place: Place{Sequence: 8, Page: 3, Message: 5}},
	}
	Sort(list)
	if list[0].ID != 1 || list[1].ID != 2 || list[4].ID != 5 {
		t.Fatalf("sorted %+v", list)
	}
	late := day0.Add(24 * time.Hour)
	for _, c := range []struct {
		name     string
		p        Pattern
		n        int
		from, to time.Time
		want     int // hours after day 0; −1: not so often
		count    int
	}{
		{"anywhere", Pattern{Kind: Click}, 1, time.Time{}, late, 0, 3},
		{"the third", Pattern{Kind: Click}, 3, time.Time{}, late, 3, 3},
		{"no fourth", Pattern{Kind: Click}, 4, time.Time{}, late, -1, 3},
		{"machines too", Pattern{Kind: Click, Machine: true}, 2, time.Time{}, late, 1, 4},
		{"from one sequence", Pattern{Kind: Click, Place: Place{Sequence: 7}}, 2, time.Time{}, late, 2, 2},
		{"one link", Pattern{Kind: Click, Place: Place{Link: 1}}, 1, time.Time{}, late, 2, 1},
		{"one page", Pattern{Kind: Click, Place: Place{Page: 3}}, 1, time.Time{}, late, 3, 1},
		{"one message", Pattern{Kind: Click, Place: Place{Message: 6}}, 1, time.Time{}, late, -1, 0},
		{"the edges count", Pattern{Kind: Click}, 2, day0, day0.Add(2 * time.Hour), 2, 2},
		{"a moment past them does not", Pattern{Kind: Click}, 1, day0.Add(1), day0.Add(2*time.Hour - 1), -1, 0},
	} {
		at, ok := Nth(list, &c.p, c.n, c.from, c.to)
		if ok != (c.want >= 0) || (ok && !at.Equal(day0.Add(time.Duration(c.want)*time.Hour))) {
			t.Errorf("%s: %v, %v", c.name, at, ok)
		}
		if got := Count(list, &c.p, c.from, c.to); got != c.count {
			t.Errorf("%s: %d, want %d", c.name, got, c.count)
		}
	}
}

func TestEveryKindHasItsWords(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range Kinds() {
		if k.String() == "" || k.Did() == "" || k.Plural(2) == k.Plural(1) || seen[k.String()] {
			t.Errorf("kind %d: %q, %q, %q", k, k, k.Did(), k.Plural(2))
		}
		seen[k.String()] = true
	}
	if Kind(99).Known() || Kind(0).Known() || Kind(99).String() != "signal 99" {
		t.Error("an unknown kind")
	}
	if got := Within(day0, 30); !got.Equal(day0.Add(-720 * time.Hour)) {
		t.Errorf("within 30 days begins %v", got)
	}
}

// A signal is said as a noun, as a deed and as an answer; which come from pages is held
// against the places a signal can have.
func TestWhatSignalsSay(t *testing.T) {
	for _, c := range []struct {
		k                      Kind
		noun, did, answer, two string
		page                   bool
	}{
		{Click, "click", "clicked a link", "Clicked", "2 clicks", false},
		{PageView, "page view", "viewed a page", "Looked", "2 page views", true},
		{Form, "form", "filled in a form", "Filled in", "2 forms", true},
		{99, "signal 99", "signal 99", "It happened", "2 × signal 99", false},
	} {
		if c.k.String() != c.noun || c.k.Did() != c.did || c.k.Answer() != c.answer || c.k.OfPage() != c.page {
			t.Errorf("%q, %q, %q, from a page: %v", c.k, c.k.Did(), c.k.Answer(), c.k.OfPage())
		}
		if got := c.k.Plural(2); c.k.Known() && got != c.two {
			t.Errorf("two of them are %q", got)
		}
	}
	for _, k := range Kinds() {
		if k.Answer() == "" {
			t.Errorf("%s has no answer", k)
		}
	}
}
