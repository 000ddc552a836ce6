package soak

import (
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// Generated sequences, entered in waves and at once, over people in four zones, with three
// workers of which one dies now and then: what must hold, holds. `ombak bench soak` does the
// same for longer.
func TestWhatMustHold(t *testing.T) {
	_, url := storetest.NewURL(t)
	got, err := Run(t.Context(), Options{URL: url, Seed: 41, People: 60, Sequences: 7, Days: 9, Grain: 3 * time.Hour,
		Workers: 3, KillEvery: 3})
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range got.Broken {
		t.Error(b)
	}
	if got.Steps < 500 || got.Letters < 100 || got.Kills < 10 || got.Entered < 100 || got.Mailed < 5 {
		t.Errorf("it shows too little: %+v", got)
	}
	t.Logf("%+v", got)
}

// A world in which something does not hold says so: the checks can fail.
func TestTheChecksCanFail(t *testing.T) {
	_, url := storetest.NewURL(t)
	spoil := func(w *world) error {
		do := func(query string) {
			t.Helper()
			if _, err := w.s.DB().ExecContext(t.Context(), query); err != nil {
				t.Fatalf("%s: %v", query, err)
			}
		}
		for _, c := range []struct{ says, spoils, mends string }{
			{"", "select 1", ""},
			{"outside its hours", "update touch set done_at = done_at + interval '12 hours' where state = 'sent'",
				"update touch set done_at = done_at - interval '12 hours' where state = 'sent'"},
			{"comes to step", "update enrolment_log set step = step + 100", "update enrolment_log set step = step - 100"},
			{"never arrived", "update letter set mail_id = 'x' || mail_id", "update letter set mail_id = substr(mail_id, 2)"},
			{"are kept", "update flow_count set n = n + 1", ""}, // looking mends it
			{"figures of tags", "update kept set n = n + 1 where of = 'tag'", ""},
			{"figures of pages", "delete from kept where of = 'page'", ""},
			{"figures of audiences", "update audience set members = members + 1", ""},
			{"by waves of", "update enrolment set entered_at = entered_at - interval '1 year' + (date '2026-04-14' - " +
				"entered_at::date) * interval '1 day'", ""},
			{"days", `update touch t set done_at = (select min(o.done_at) from touch o where o.person_id = t.person_id)
				where state = 'sent'`, ""},
			{"they had left", "update enrolment set ended_at = '2026-01-01'", ""},
			{"has not ended", "update enrolment set ended_at = null, sequence_id = sequence_id + 0, reason = '', " +
				"person_id = person_id where id = (select max(id) from enrolment)", ""},
		} {
			do(c.spoils)
			w.report.Broken = nil
			if err := w.check(t.Context()); err != nil {
				return err
			}
			if found := slices.ContainsFunc(w.report.Broken, func(b string) bool {
				return c.says != "" && strings.Contains(b, c.says)
			}); found != (c.says != "") || c.says == "" && len(w.report.Broken) > 0 {
				t.Errorf("after %q nothing says %q: %q", c.spoils, c.says, w.report.Broken)
			}
			if c.mends != "" {
				do(c.mends)
			}
		}
		return nil
	}
	if _, err := Run(t.Context(), Options{URL: url, Seed: 9, People: 40, Sequences: 4, Days: 5, Grain: 6 * time.Hour,
		Workers: 1, spoiled: spoil}); err != nil {
		t.Fatal(err)
	}
}
