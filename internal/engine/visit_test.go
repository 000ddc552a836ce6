package engine

import (
	"testing"

	"ombak/internal/core/signal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// TestBrowsersOfNobodyAreForgotten: after 90 days without a view, and not while
// they come or are somebody's; an erased person's browser is nobody's.
func TestBrowsersOfNobodyAreForgotten(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ada := w.norwegian("Ada")
	const site = "https://karang.example"
	w.must(w.e.AddSite(w.ctx, site))
	view := func(id, page, token string) { t.Helper(); w.must(w.e.Visited(w.ctx, id, site+page, token)) }
	viewed := func(person int64) int {
		t.Helper()
		line, err := w.s.Timeline(w.ctx, store.Of(person))
		w.must(err)
		n := 0
		for _, s := range line {
			if s.Kind == signal.PageView {
				n++
			}
		}
		return n
	}
	view("stays00000000000", "/a", "")
	view("leaves0000000000", "/a", "")
	w.clock.set(day0.AddDate(0, 0, 60))
	view("stays00000000000", "/b", "")
	w.clock.set(day0.AddDate(0, 0, 91))
	w.must(w.e.Tidy(w.ctx))
	view("stays00000000000", "/c", w.e.VisitToken(ada))
	view("leaves0000000000", "/c", w.e.VisitToken(ada))
	// /b and /c of the first, whose /a is too old to carry over, and /c of the second.
	if n := viewed(ada); n != 3 {
		t.Errorf("%d views are Ada's, not 3", n)
	}
	w.clock.set(day0.AddDate(0, 0, 182))
	w.must(w.e.Tidy(w.ctx))
	view("stays00000000000", "/d", "")
	if n := viewed(ada); n != 4 {
		t.Errorf("a browser of somebody was forgotten: %d views", n)
	}
	w.must(w.e.Erase(w.ctx, ada))
	if left := w.count("select count(*) from visitor where person_id is not null"); left != 0 {
		t.Errorf("%d browsers are an erased person's", left)
	}
}
