package engine

import (
	"testing"
	"time"

	"ombak/internal/standin/mailserver"
)

// Nobody crosses the ready line who cannot be reached; they do when they can be
// again, once.
func TestTheReadyLineAsksWhetherSomebodyCanBeReached(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Ana", "ana@fjord.example") // 10
	reach := func(no bool) {
		_, err := w.s.DB().ExecContext(w.ctx, "update person set do_not_contact = $2 where id = $1", p, no)
		w.must(err)
		w.settle()
	}
	touch := w.touchOf("ana@")
	reach(true)
	w.to(time.Hour)
	for range 6 {
		w.must(w.e.Open(w.ctx, touch, w.e.Sign("open", touch, 0), ""))
	}
	w.settle()
	if s := w.score(p); s < 15 {
		t.Fatalf("the score is %v", s)
	}
	crossed := func() int64 {
		var n int64
		w.must(w.s.DB().QueryRow("select count(*) from handoff where made_by = 'crossing'").Scan(&n))
		return n
	}
	if n := crossed(); n != 0 {
		t.Errorf("%d handed over who must not be contacted", n)
	}
	for range 2 {
		reach(false)
		if n := crossed(); n != 1 {
			t.Errorf("%d handed over once they can be reached", n)
		}
		reach(true)
	}
}
