package engine

import (
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// What is launched right after its audience was saved, or somebody was met,
// finds everybody: nothing fills from an audience that nobody has counted.
func TestNothingFillsFromWhatIsNotCounted(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.norwegian("Ana")
	w.norwegian("Bo")
	m := w.newsletter(func(m *store.Mailing) { m.Plan.V.Rest = 0 })
	w.norwegian("Cy") // met after the audience was counted, and nobody has asked about them yet
	m2 := w.newsletterAgain(m)
	w.must(w.e.LaunchMailing(w.ctx, m2.ID))
	fill := func() {
		t.Helper()
		for did := true; did; {
			var err error
			did, err = w.e.FillMailings(w.ctx)
			w.must(err)
		}
	}
	readers := func(id int64) int {
		return w.count("select count(*) from touch where mailing_id = $1", id)
	}
	if fill(); readers(m2.ID) != 0 {
		t.Error("it was filled before those who had come were asked about")
	}
	_, err := w.e.FollowAudiences(w.ctx)
	w.must(err)
	if fill(); readers(m2.ID) != 3 {
		t.Errorf("%d readers, want 3", readers(m2.ID))
	}

	// Saved and launched in one breath.
	aud := w.audience("Norway again", rule.FieldIs(person.Country, "NO"))
	m3 := m2
	m3.Audience = &aud
	m3 = w.newsletterAgain(m3)
	w.must(w.e.LaunchMailing(w.ctx, m3.ID))
	if fill(); readers(m3.ID) != 3 {
		t.Errorf("%d readers of one that was saved just before, want 3", readers(m3.ID))
	}

	// One that takes long to count: a worker is at it, and everything waits.
	busy, err := w.s.DB().BeginTx(w.ctx, nil)
	w.must(err)
	defer busy.Rollback()
	_, err = busy.Exec("select pg_advisory_xact_lock($1)", -1003)
	w.must(err)
	large := w.audience("Large", rule.FieldIs(person.Country, "NO"))
	over := w.audience("Over it", rule.ThingIs(rule.Audience, large))
	for _, id := range []int64{large, over} {
		if a, err := w.s.Audience(w.ctx, id); err != nil || !a.Recount || a.Members != 0 {
			t.Fatalf("%+v, %v", a, err)
		}
	}
	m4, m5 := m2, m2
	m4.Audience = &over
	m5.Excluded.V = []int64{large}
	id4 := w.newsletterAgain(m4).ID
	save := store.Mailing{Name: "Not to them", Message: m5.Message, Audience: m5.Audience, Purpose: m5.Purpose,
		Plan: m5.Plan, Excluded: m5.Excluded}
	id5, err := w.e.SaveMailing(w.ctx, save, w.marketer)
	w.must(err)
	w.must(w.e.LaunchMailing(w.ctx, id4))
	w.must(w.e.LaunchMailing(w.ctx, id5))
	r := rule.ThingIs(rule.Audience, over)
	w.must(w.s.SetEntry(w.ctx, w.seq, store.Entry{Rule: &r}, w.clock.Now()))
	w.launch()
	entered, _, err := w.e.EnterByRules(w.ctx)
	w.must(err)
	if fill(); readers(id4) != 0 || readers(id5) != 0 || entered != 0 {
		t.Errorf("%d and %d readers, %d entered, and nobody has counted", readers(id4), readers(id5), entered)
	}
	if left := w.count("select count(*) from mailing_left where mailing_id = any ($1)", []int64{id4, id5}); left != 0 {
		t.Errorf("%d are left out already", left)
	}
	w.must(busy.Rollback())
	w.settle()
	if readers(id4) != 3 || readers(id5) != 0 {
		t.Errorf("counted, %d and %d readers", readers(id4), readers(id5))
	}
	if n := w.count("select count(*) from enrolment where sequence_id = $1", w.seq); n != 3 {
		t.Errorf("%d entered, want 3", n)
	}
}
