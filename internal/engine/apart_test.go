package engine

import (
	"testing"
	"time"

	"ombak/internal/engine/base"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store/storetest"
)

// Months lie apart once their last instant is as old as the settings say, and come back where those say otherwise.
func TestOldMonthsLieApart(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.must(w.s.EnsureMonths(w.ctx, day0.AddDate(0, -8, 0), day0.AddDate(0, 6, 0)))
	space, drop := storetest.Space(t, w.s)
	set := func(keep base.Keeping) error {
		ws := w.e.Workspace()
		ws.Keep = keep
		_, err := w.e.ChangeWorkspace(w.ctx, ws, w.marketer)
		return err
	}
	for _, wrong := range []base.Keeping{{Apart: 2, Space: space}, {Apart: 241, Space: space}, {Apart: -1, Space: space},
		{Apart: 6}, {Apart: 6, Space: "nowhere"}, {Apart: 6, Space: "pg_default"}} {
		if set(wrong) == nil {
			t.Errorf("%+v is taken", wrong)
		}
	}
	// Plainly: a month is old when there is no instant in it, to the second, that is younger.
	check := func(months int) {
		t.Helper()
		w.must(w.e.SetApart(w.ctx))
		list, err := w.s.SignalMonths(w.ctx)
		w.must(err)
		old := 0
		for _, m := range list {
			last := m.From.UTC().AddDate(0, 1, 0).Add(-time.Second)
			want := ""
			if months > 0 && last.Before(w.clock.Now().UTC().AddDate(0, -months, 0)) {
				want = space
				old++
			}
			if m.Space != want {
				t.Errorf("at %s, %d months: %s lies in %q", w.clock.Now(), months, m.Name, m.Space)
			}
		}
		in, _, err := w.e.Apart(w.ctx)
		w.must(err)
		apart := 0
		for _, x := range in {
			if x.Moves != 0 {
				t.Errorf("%d months are still to move", x.Moves)
			}
			if x.Space == space {
				apart = x.Months
			}
		}
		if apart != old || months > 0 && old == 0 {
			t.Errorf("%d months lie apart, %d are old", apart, old)
		}
	}
	check(0)
	w.must(set(base.Keeping{Apart: 3, Space: space}))
	if in, spaces, err := w.e.Apart(w.ctx); err != nil || len(spaces) == 0 || in[0].Moves == 0 {
		t.Errorf("before the night lie %+v, could lie in %q: %v", in, spaces, err)
	}
	check(3)
	w.clock.t = time.Date(2026, 4, 30, 23, 59, 59, 0, time.UTC)
	check(3)
	w.clock.t = time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
	check(3)
	w.must(set(base.Keeping{Apart: 6, Space: space}))
	check(6)
	w.must(set(base.Keeping{}))
	check(0)
	drop()
}

// Figures whose counting a worker died of are not said to be counted for ever.
func TestFiguresThatWereNotHeld(t *testing.T) {
	began := day0
	held := FiguresHeld{Began: began, Ended: began.Add(-time.Hour)}
	for after, want := range map[time.Duration][2]bool{0: {true, false}, mendAtMost - 1: {true, false},
		mendAtMost: {false, true}} {
		if now := began.Add(after); held.Busy(now) != want[0] || held.Broke(now) != want[1] {
			t.Errorf("after %s they are busy: %v, broken: %v", after, held.Busy(now), held.Broke(now))
		}
	}
	held.Ended = began.Add(time.Minute)
	if now := began.Add(3 * time.Hour); held.Busy(now) || held.Broke(now) {
		t.Error("they were held, and are not")
	}
	held.Asked = began.Add(time.Hour)
	if now := began.Add(2 * time.Hour); !held.Busy(now) || held.Broke(now) {
		t.Error("somebody asked, and they are not waited for")
	}
}
