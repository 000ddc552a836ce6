package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"ombak/internal/core/calendar"
	"ombak/internal/core/message"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/flow"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// A second version tells what it changes, and where people are; those at chosen steps go on with
// it, the others stay on theirs, and so do those whose step is gone.
func TestWhoGoesOnWithANewVersion(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	days := func(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.Days} }
	q := w.running("Waits", w.plan(&sequence.Pause{Common: sequence.Common{Title: "One"}, For: days(10)},
		&sequence.Email{Common: sequence.Common{Title: "Word"}, Message: w.first},
		&sequence.Pause{Common: sequence.Common{Title: "Two"}, For: days(10)},
		&sequence.Pause{Common: sequence.Common{Title: "Three"}, For: days(10)}))
	var people []int64
	for i := range 3 {
		people = append(people, w.fill(fmt.Sprint("P", i), fmt.Sprintf("p%d@version.example", i)))
	}
	w.must(w.s.SetEntry(w.ctx, q, store.Entry{Hand: true}, w.clock.Now()))
	w.must(w.e.Launch(w.ctx, q, w.marketer))
	draft, err := w.s.Draft(w.ctx, q)
	w.must(err)
	at := map[string]sequence.StepID{}
	for _, s := range draft.Plan.V.Steps {
		at[s.About().Title] = s.About().ID
	}
	w.tx(func(tx store.Tx) error {
		entry, err := tx.RunningSequence(w.ctx, q)
		if err != nil {
			return err
		}
		_, err = tx.Enrol(w.ctx, &entry, people, w.clock.Now())
		return err
	})
	w.settle()
	for i, title := range []string{"One", "Two", "Three"} {
		_, err := w.s.DB().ExecContext(w.ctx, "update enrolment set step = $3 where person_id = $1 and sequence_id = $2",
			people[i], q, at[title])
		w.must(err)
	}
	n := draft.N
	for i, edit := range []sequence.Edit{sequence.RemoveStep{ID: at["Three"]},
		sequence.ChangeStep{With: &sequence.Pause{Common: sequence.Common{ID: at["Two"], Title: "Two"}, For: days(20)}},
		sequence.InsertStep{Kind: "pause", From: at["Two"], Exits: []sequence.Exit{sequence.Next}}} {
		_, err := w.e.EditPlan(w.ctx, q, n+i, edit)
		w.must(err)
	}
	w.tx(func(tx store.Tx) error {
		_, err := tx.SaveMessage(w.ctx, store.Message{ID: w.first, Name: "Guide",
			Doc:      store.JSON[message.Document]{V: message.Simple("Newer", "<p>Words.</p>")},
			SenderID: &w.marketer}, w.marketer, w.clock.Now())
		return err
	})
	l, err := w.e.Launching(w.ctx, q)
	w.must(err)
	var said []string
	for _, d := range l.Differs {
		said = append(said, fmt.Sprintf("%s %s (%d)", d.Title, d.How, d.Here))
	}
	slices.Sort(said)
	want := "Pause new (0), Three gone (1), Two changed (1), Word has newer words (0)"
	if got := strings.Join(said, ", "); got != want {
		t.Errorf("it says %q, want %q", got, want)
	}
	said = nil
	for _, s := range l.At {
		said = append(said, fmt.Sprintf("%s %d %v", s.Title, s.N, s.Gone))
	}
	if got := strings.Join(said, ", "); got != "One 1 false, Two 1 false, Three 1 true" &&
		got != "Two 1 false, One 1 false, Three 1 true" {
		t.Errorf("they are at %q", got)
	}
	w.must(w.e.Launch(w.ctx, q, w.marketer, at["Two"], at["Three"]))
	for i, moved := range []bool{false, true, false} {
		if got := w.count(`select v.number from enrolment e join sequence_version v on v.id = e.version_id
			where e.person_id = $1 and e.sequence_id = $2`, people[i], q); (got == 3) != moved {
			t.Errorf("person %d is on version %d", i, got)
		}
	}
}

// What is launched is what somebody looked at: where the draft, who enters, a message or what runs has changed since,
// nothing is. Of those who launch it at the same moment from several windows one does.
func TestALaunchIsWhatWasLookedAt(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	days := func(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.Days} }
	q := w.running("Waits", w.plan(&sequence.Pause{Common: sequence.Common{Title: "One"}, For: days(10)},
		&sequence.Email{Common: sequence.Common{Title: "Word"}, Message: w.first}))
	looked := func() string {
		l, err := w.e.Launching(w.ctx, q)
		w.must(err)
		return l.Mark
	}
	versions := func() int { return w.count("select count(*) from sequence_version where sequence_id = $1", q) }
	for what, change := range map[string]func(){
		"the draft": func() {
			draft, err := w.s.Draft(w.ctx, q)
			w.must(err)
			_, err = w.e.EditPlan(w.ctx, q, draft.N, sequence.InsertStep{Kind: "pause", From: draft.Plan.V.Start,
				Exits: []sequence.Exit{sequence.Next}})
			w.must(err)
		},
		"who enters": func() { w.must(w.s.SetEntry(w.ctx, q, store.Entry{Hand: true, Times: 3}, w.clock.Now())) },
		"a message": func() {
			w.tx(func(tx store.Tx) error {
				_, err := tx.SaveMessage(w.ctx, store.Message{ID: w.first, Name: "Guide",
					Doc:      store.JSON[message.Document]{V: message.Simple("Newer", "<p>Words.</p>")},
					SenderID: &w.marketer}, w.marketer, w.clock.Now())
				return err
			})
		},
		"what runs": func() { w.must(w.e.Launch(w.ctx, q, w.marketer)) },
	} {
		mark := looked()
		change()
		n := versions()
		if err := w.e.LaunchSeen(w.ctx, q, w.marketer, mark); !errors.Is(err, flow.ErrLaunchesOther) || versions() != n {
			t.Errorf("%s has changed since: %v, %d versions, were %d", what, err, versions(), n)
		}
		w.must(w.e.LaunchSeen(w.ctx, q, w.marketer, looked()))
	}
	mark, n := looked(), versions()
	var done, other atomic.Int64
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			switch err := w.e.LaunchSeen(w.ctx, q, w.marketer, mark); {
			case err == nil:
				done.Add(1)
			case errors.Is(err, flow.ErrLaunchesOther):
				other.Add(1)
			default:
				t.Error(err)
			}
		})
	}
	all.Wait()
	if done.Load() != 1 || other.Load() != 5 || versions() != n+1 {
		t.Errorf("%d launched, %d were told that it is another; %d versions, were %d", done.Load(), other.Load(), versions(), n)
	}
}
