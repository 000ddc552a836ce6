package engine

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/message"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/forms"
	"ombak/internal/engine/sales"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// TestManyWorkersShareTheWork lets four engines work on one database at once: everybody gets one email.
func TestManyWorkersShareTheWork(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.must(w.s.SetEntry(w.ctx, w.seq, store.Entry{Rule: ruleOf("SG")}, day0))
	w.tx(func(tx store.Tx) error {
		for n := range 300 {
			if _, _, err := tx.MeetPerson(w.ctx,
				store.NewPerson{First: "A", Email: fmt.Sprintf("p%d@x.example", n), Country: "SG", City: "Singapore"},
				day0); err != nil {
				return err
			}
		}
		return nil
	})
	w.clock.set(time.Date(2026, 4, 14, 2, 0, 0, 0, time.UTC)) // ten in the morning in Singapore
	w.launch()
	var wg sync.WaitGroup
	for range 4 {
		sender, err := mail.NewSender(w.mail.Addr())
		w.must(err)
		defer sender.Close()
		e, err := New(w.ctx, base.Config{Store: w.s, Clock: w.clock, Mail: sender, URL: w.e.URL, Domain: w.e.Domain})
		w.must(err)
		w.must(e.Register(w.ctx))
		defer e.Unregister()
		wg.Go(func() {
			if err := e.Settle(w.ctx); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	seen := map[string]bool{}
	for _, l := range w.letters("") {
		if seen[l.To] {
			t.Errorf("%s got two", l.To)
		}
		seen[l.To] = true
	}
	if n := w.mail.Count(); n != 300 {
		t.Errorf("%d letters for 300 people", n)
	}
	if n := w.count("select count(*) from touch where state <> 'sent'"); n != 0 {
		t.Errorf("%d touches are not sent", n)
	}
}

// TestKeptScoresEqualCounted keeps scores in the database as signals come and time passes, late ones among them, and
// holds each against counting everything again.
func TestKeptScoresEqualCounted(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	rnd := rand.New(rand.NewPCG(21, 34))
	var people []int64
	w.tx(func(tx store.Tx) error {
		for n := range 12 {
			id, _, err := tx.MeetPerson(w.ctx, store.NewPerson{Email: fmt.Sprintf("p%d@x.example", n)}, day0)
			if err != nil {
				return err
			}
			people = append(people, id)
		}
		return nil
	})
	m, err := w.s.Model(w.ctx)
	w.must(err)
	m.Rules = append(m.Rules,
		score.Rule{On: signal.Pattern{Kind: signal.Click}, Points: 4, Often: score.While, N: 2, Window: 9},
		score.Rule{On: signal.Pattern{Kind: signal.Form}, Points: 5, Often: score.PerDay, N: 1, Lasts: 11})
	w.must(w.e.SaveModel(w.ctx, m))
	kinds := []signal.Kind{signal.PageView, signal.Open, signal.Click, signal.Form}
	now := day0
	for range 90 {
		now = now.Add(time.Duration(rnd.IntN(30)) * time.Hour)
		w.clock.set(now)
		for range rnd.IntN(4) {
			at := now
			if rnd.IntN(3) == 0 {
				at = at.Add(-time.Duration(rnd.IntN(50)) * time.Hour)
			}
			w.must(w.e.Record(w.ctx,
				store.Signal{Person: people[rnd.IntN(len(people))],
					Signal: signal.Signal{At: at, Kind: kinds[rnd.IntN(4)]}}))
		}
		for {
			n, err := w.e.CountBatch(w.ctx, 5)
			w.must(err)
			if n == 0 {
				break
			}
		}
		for _, p := range people {
			list, err := w.s.PersonSignals(w.ctx, p)
			w.must(err)
			if kept, counted := w.score(p), m.At(list, nil, now); kept != counted {
				t.Fatalf("person %d at %v with %d signals: kept %v, counted %v", p, now, len(list), kept, counted)
			}
		}
	}
}

func TestOneCrossingOneHandoff(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := w.fill("Ana", "ana@fjord.example") // 10
	view := func() {
		w.must(w.e.View(w.ctx, p, w.page))
		w.settle()
	}
	handoffs := func() int { return w.count("select count(*) from handoff") }
	view()
	if handoffs() != 1 {
		t.Fatalf("20 points made %d handoffs", handoffs())
	}
	view()
	list, err := w.s.OpenHandoffs(w.ctx, 0, store.MostHandoffs)
	w.must(err)
	w.must(w.e.SendBack(w.ctx, list[0].ID, *list[0].Rep, sales.Back{Reason: "not now"}))
	view()
	if handoffs() != 1 {
		t.Errorf("above the line all the time: %d handoffs", handoffs())
	}
	w.to(40 * dayLong) // all has run out
	if s := w.score(p); s != 0 {
		t.Errorf("score %v", s)
	}
	view()
	view()
	if handoffs() != 2 {
		t.Errorf("below and above again: %d handoffs", handoffs())
	}
}

func TestAChangedModelHandsNobodyOver(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := w.fill("Ana", "ana@fjord.example")
	m, err := w.s.Model(w.ctx)
	w.must(err)
	m.Line = 5
	w.must(w.e.SaveModel(w.ctx, m))
	w.settle()
	if n := w.count("select count(*) from handoff"); n != 0 {
		t.Errorf("a lower line made %d handoffs by itself", n)
	}
	m.Rules[0].Points = 30
	w.must(w.e.SaveModel(w.ctx, m))
	w.settle()
	if s := w.score(p); s != 30 {
		t.Errorf("score %v by the new rules", s)
	}
	if n := w.count("select count(*) from handoff"); n != 0 {
		t.Errorf("a new rule made %d handoffs by itself", n)
	}
	m.Rules[0] = score.Rule{On: signal.Pattern{Kind: signal.PageView}}
	if err := w.e.SaveModel(w.ctx, m); err == nil {
		t.Error("a rule that does nothing was kept")
	}
}

func TestNobodyHasRoom(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	_, err := w.s.DB().ExecContext(w.ctx, "update app_user set away = true where role = 'rep'")
	w.must(err)
	p := w.fill("Ana", "ana@fjord.example")
	w.must(w.e.HandOver(w.ctx, p))
	list, err := w.s.OpenHandoffs(w.ctx, w.rep1, store.MostHandoffs)
	w.must(err)
	if len(list) != 1 || list[0].Rep != nil || list[0].How != "waiting in the pool" {
		t.Fatalf("%+v", list)
	}
	if _, err := w.e.Accept(w.ctx, list[0].ID, w.rep2); err != nil {
		t.Errorf("taking somebody from the pool: %v", err)
	}
}

func TestACallNobodyMakes(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Ben", "ben@fjord.example")
	w.press("ben@", 1) // he has no number yet
	if n := w.count(`
		select count(*) from enrolment_log where exit = 'missed' and reason = 'passed over: no number'`); n != 1 {
		t.Error("a call without a number was put on the desk")
	}
	p = w.fill("Bea", "bea@fjord.example")
	_, err := w.s.DB().ExecContext(w.ctx, "update person set phone = '+4755500100' where id = $1", p)
	w.must(err)
	w.press("bea@", 1)
	w.to(6 * dayLong) // Tuesday and five working days are the next Tuesday
	if calls, err := w.s.DeskWork(w.ctx, 0); err != nil || len(calls) != 1 {
		t.Fatalf("%d calls, %v", len(calls), err)
	}
	w.to(7*dayLong + time.Hour)
	if calls, err := w.s.DeskWork(w.ctx, 0); err != nil || len(calls) != 0 {
		t.Errorf("%d calls are still on the desk, %v", len(calls), err)
	}
	if n := w.count("select count(*) from enrolment_log where exit = 'missed' and reason = ''"); n != 1 {
		t.Errorf("%d missed", n)
	}
	if way := w.way(p); way.Reason != "finished" {
		t.Errorf("%+v", way)
	}
}

func TestLaunchRefusesWhatCannotRun(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.must(w.s.SetEntry(w.ctx, w.seq, store.Entry{}, day0))
	err := w.e.Launch(w.ctx, w.seq, w.marketer)
	if u, ok := err.(*flow.Unready); !ok || u.Problems[0].Text != "nobody enters yet: choose a form or an audience" {
		t.Errorf("%v", err)
	}
	w.must(w.s.SetEntry(w.ctx, w.seq, store.Entry{Page: w.page.ID}, day0))
	w.tx(func(tx store.Tx) error {
		_, err := tx.SaveMessage(w.ctx,
			store.Message{ID: w.first, Name: "Guide",
				Doc: store.JSON[message.Document]{V: message.Simple("x", "<p>{{ person.shoe_size }}</p>")}}, w.marketer,
			day0)
		return err
	})
	if err := w.e.Launch(w.ctx, w.seq, w.marketer); err == nil {
		t.Error("a message that nobody could get was launched")
	}
}

func TestPeopleMoveToTheNextVersionOnlyIfAsked(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	stays := w.fill("Ana", "ana@fjord.example")
	first := w.way(stays).Version
	shorter := func(days int) {
		w.tx(func(tx store.Tx) error {
			d, err := w.s.Draft(w.ctx, w.seq)
			w.must(err)
			d.Plan.V.Step(w.watch).(*sequence.Watch).For = calendar.Span{N: days, Unit: calendar.Days}
			_, err = tx.SaveDraft(w.ctx, w.seq, d.N, d.Plan.V, "shorter", day0)
			return err
		})
	}
	shorter(2)
	w.must(w.e.Launch(w.ctx, w.seq, w.marketer))
	w.to(3 * dayLong)
	if way := w.way(stays); way.Version != first || way.Ended != nil {
		t.Errorf("on the version they entered they would still wait: %+v", way)
	}
	shorter(1)
	w.must(w.e.Launch(w.ctx, w.seq, w.marketer, w.email, w.watch))
	w.settle()
	if way := w.way(stays); way.Version == first || way.Reason != "finished" {
		t.Errorf("moved to the new one, its time is over: %+v", way)
	}
}

// TestOneBadEnrolmentKeepsNobodyElse damages the version that one person is on.
func TestOneBadEnrolmentKeepsNobodyElse(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	bad := w.fill("Ana", "ana@fjord.example")
	_, err := w.s.DB().ExecContext(w.ctx, `update sequence_version set plan = jsonb_set(plan, '{steps}', '[]')`)
	w.must(err)
	w.restart() // as another process would find it
	w.launch()
	w.clock.set(day0.Add(6*dayLong + time.Hour)) // a Monday, in sending hours
	for n := range 3 {
		id, _, err := w.e.FormFilled(w.ctx, w.page,
			forms.Filled{Answers: answers("Ben", "", fmt.Sprintf("ben%d@fjord.example", n), "")})
		w.must(err)
		defer func() {
			if way := w.way(id); way.Step == int32(w.email) && way.Ended == nil &&
				len(w.letters(fmt.Sprintf("ben%d@", n))) == 0 {
				t.Errorf("Ben %d got nothing: %+v", n, way)
			}
		}()
	}
	w.settle()
	if way := w.way(bad); way.Ended != nil {
		t.Errorf("%+v", way)
	}
	if n := w.count("select count(*) from enrolment where person_id = $1 and look = $2", bad,
		w.clock.Now().Add(time.Hour)); n != 1 {
		t.Error("who cannot be walked on is not put off by an hour")
	}
}
