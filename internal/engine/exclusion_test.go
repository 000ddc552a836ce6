package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/sequence"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Whoever joins an audience that the entry leaves out, or enters a sequence that it does, leaves
// at that instant; who was in it before they entered stays, and so does everybody where the plan
// says so. An email that waits does not go out any more.
func TestJoiningAnExclusion(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	var people []int64
	for i := range 4 {
		people = append(people, w.fill(fmt.Sprint("P", i), fmt.Sprintf("p%d@out.example", i)))
	}
	audience, err := w.e.SaveAudience(w.ctx, store.Audience{Name: "Customers"})
	w.must(err)
	wait := func(n int) sequence.Step {
		return &sequence.Pause{Common: sequence.Common{Title: "Wait"}, For: calendar.Span{N: n, Unit: calendar.Days}}
	}
	other := w.running("Other", w.plan(wait(30), sequence.New("hand over")))
	enter := func(q int64, who ...int64) {
		t.Helper()
		w.tx(func(tx store.Tx) error {
			entry, err := tx.RunningSequence(w.ctx, q)
			if err != nil {
				return err
			}
			_, err = tx.Enrol(w.ctx, &entry, who, w.clock.Now())
			return err
		})
	}
	begin := func(name string, stay bool) int64 {
		plan := w.plan(wait(3), &sequence.Email{Common: sequence.Common{Title: "Word"}, Message: w.first}, wait(30))
		if stay {
			plan.Stay = []sequence.Reason{sequence.JoinedExclusion}
		}
		q := w.running(name, plan)
		w.must(w.s.SetEntry(w.ctx, q, store.Entry{Hand: true, NotIn: []int64{audience}, NotOn: []int64{other}}, w.clock.Now()))
		w.must(w.e.Launch(w.ctx, q, w.marketer))
		return q
	}
	for _, q := range []int64{other} {
		w.must(w.s.SetEntry(w.ctx, q, store.Entry{Hand: true}, w.clock.Now()))
		w.must(w.e.Launch(w.ctx, q, w.marketer))
	}
	leaves, stays := begin("Leaves", false), begin("Stays", true)
	enter(leaves, people...)
	enter(stays, people[0])
	w.to(dayLong)
	joined := w.clock.Now()
	w.must(w.e.Mark(w.ctx, people[0], person.Mark(person.AudienceMark, audience), true, w.marketer))
	enter(other, people[1])
	w.settle()
	of := func(q, person int64) string {
		t.Helper()
		var reason string
		var at *time.Time
		w.must(w.s.DB().QueryRowContext(w.ctx, "select reason, ended_at from enrolment where sequence_id = $1 and "+
			"person_id = $2", q, person).Scan(&reason, &at))
		if at == nil {
			return "on the way"
		}
		return fmt.Sprintf("%s after %s", reason, at.Sub(joined))
	}
	for i, want := range []string{"joined an exclusion after 0s", "joined an exclusion after 0s", "on the way", "on the way"} {
		if got := of(leaves, people[i]); got != want {
			t.Errorf("person %d: %s, want %s", i, got, want)
		}
	}
	if got := of(stays, people[0]); got != "on the way" {
		t.Errorf("where the plan lets people stay: %s", got)
	}

	// An email waits at a server that is slow to be asked; joining keeps it from going out.
	w.to(3*dayLong - time.Minute)
	w.clock.set(w.clock.Now().Add(2 * time.Minute))
	_, _, err = w.e.AdvanceBatch(w.ctx, 100)
	w.must(err)
	w.must(w.e.Mark(w.ctx, people[2], person.Mark(person.AudienceMark, audience), true, w.marketer))
	list, err := w.s.ClaimEmails(w.ctx, 0, "mail.example", w.clock.Now(), 100, nil)
	w.must(err)
	var to []string
	for _, o := range list {
		to = append(to, fmt.Sprint(o.Sequence, " ", o.Person))
	}
	want := fmt.Sprintf("%d %d", leaves, people[3])
	if got := strings.Join(to, ", "); !strings.Contains(got, want) || strings.Contains(got,
		fmt.Sprintf("%d %d", leaves, people[2])) || !strings.Contains(got, fmt.Sprintf("%d %d", stays, people[0])) {
		t.Errorf("what goes out: %s", got)
	}
}
