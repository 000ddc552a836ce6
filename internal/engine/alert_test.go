package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/desk"
	"ombak/internal/core/right"
	"ombak/internal/engine/flow"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// An alert to a role comes to each of its users, once; each takes theirs at once, hourly or at
// nine by the workspace's clock, also where that changes.
func TestAlertsToARole(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	berlin, err := time.LoadLocation("Europe/Berlin")
	w.must(err)
	space := w.e.Workspace()
	space.Zone = "Europe/Berlin"
	w.must(w.e.SetWorkspace(w.ctx, space))
	person := w.fill("Ana", "ana@alert.example")
	for _, c := range []struct {
		at   string
		want map[string]string
	}{
		{"2026-03-28 10:59", map[string]string{"hourly": "2026-03-28 11:00", "at nine": "2026-03-29 09:00"}}, // clocks go on
		{"2026-04-14 09:00", map[string]string{"hourly": "2026-04-14 10:00", "at nine": "2026-04-15 09:00"}},
		{"2026-04-14 08:59", map[string]string{"hourly": "2026-04-14 09:00", "at nine": "2026-04-14 09:00"}},
		{"2026-12-31 23:30", map[string]string{"hourly": "2027-01-01 00:00", "at nine": "2027-01-01 09:00"}},
	} {
		at, err := time.ParseInLocation("2006-01-02 15:04", c.at, berlin)
		w.must(err)
		for _, how := range []string{"at once", "hourly", "at nine"} {
			w.must(w.e.SetAlertsTo(w.ctx, w.rep1, how))
			words := fmt.Sprint(c.at, " ", how)
			w.tx(func(tx store.Tx) error {
				for range 2 {
					if err := w.e.Do(w.ctx, tx, []flow.Deed{{Act: act.Alert{Words: words, Role: right.Rep},
						Occasion: flow.Occasion{Person: person, At: at, How: "a test"}}}); err != nil {
						return err
					}
				}
				return nil
			})
			want := at
			if x := c.want[how]; x != "" {
				want, err = time.ParseInLocation("2006-01-02 15:04", x, berlin)
				w.must(err)
			}
			if got := w.alerts(w.rep1, want.Add(-time.Second)); at.Before(want) && slices.Contains(got, words) {
				t.Errorf("%s: it is there before %s", words, want)
			}
			if got := w.alerts(w.rep1, want); len(got) == 0 || !slices.Contains(got, words) || len(got) !=
				len(slices.Compact(slices.Sorted(slices.Values(got)))) {
				t.Errorf("%s: at %s there is %q", words, want, got)
			}
			if got := w.alerts(w.rep2, at); !slices.Contains(got, words) {
				t.Errorf("%s: the other rep, who takes them at once, has %q", words, got)
			}
			if got := w.alerts(w.marketer, want); slices.Contains(got, words) {
				t.Errorf("%s: a marketer has it", words)
			}
		}
	}
	if err := w.e.SetAlertsTo(w.ctx, w.rep1, "never"); err == nil || !strings.Contains(err.Error(), "at nine") {
		t.Errorf("never: %v", err)
	}
	if got := (act.Alert{Words: "Look", Role: right.Lead}).Says(nil); got != "tell every lead: Look" {
		t.Errorf("it says %q", got)
	}
	if (act.Alert{Words: "Look", Role: "king"}).Check() == nil {
		t.Error("a role that is none is taken")
	}
}

// alerts lists the words that a user is told at an instant.
func (w *world) alerts(user int64, at time.Time) (out []string) {
	w.t.Helper()
	list, err := w.s.OpenTasks(context.Background(), user, true, at)
	w.must(err)
	for _, x := range list {
		out = append(out, x.Words)
	}
	return out
}

// When an alert is shown is, in the database, what the core says, at generated instants in zones of the
// receiver's own, over changes of the clock.
func TestAlertsAgainstTheCore(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.caller("Ana", "NO", w.rep1)
	rnd := rand.New(rand.NewPCG(3, 17))
	begin := time.Date(2026, 3, 20, 0, 0, 0, 0, time.UTC)
	for i := range 120 {
		name := []string{"", "Europe/Oslo", "America/New_York", "Asia/Kathmandu", "Pacific/Auckland"}[rnd.IntN(5)]
		zone := w.e.Zone()
		if name != "" {
			var err error
			zone, err = time.LoadLocation(name)
			w.must(err)
		}
		how := desk.Bundlings()[rnd.IntN(3)]
		at := begin.Add(time.Duration(rnd.Int64N(int64(240 * 24 * time.Hour)))).Truncate(time.Microsecond)
		if rnd.IntN(3) == 0 { // nine itself, and the moment before it
			at = time.Date(2026, at.Month(), at.Day(), 9, 0, 0, 0, zone).Add(-time.Duration(rnd.IntN(2)) * time.Microsecond)
		}
		_, err := w.e.SetWork(w.ctx, w.rep1, desk.Worker{Zone: name}, w.rep1)
		w.must(err)
		w.must(w.e.SetAlertsTo(w.ctx, w.rep1, string(how)))
		words := fmt.Sprint("alert ", i)
		w.tx(func(tx store.Tx) error {
			return w.e.Do(w.ctx, tx, []flow.Deed{{Act: act.Alert{Words: words, To: w.rep1},
				Occasion: flow.Occasion{Person: ana, At: at, How: "a test"}}})
		})
		var shown time.Time
		w.must(w.s.DB().QueryRowContext(w.ctx, "select shown_at from task where words = $1", words).Scan(&shown))
		if want := how.Shown(at, zone); !shown.Equal(want) {
			t.Errorf("%s at %v in %v is shown at %v, the core says %v", how, at, zone, shown, want)
		}
	}
}
