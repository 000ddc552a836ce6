package engine

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// past is what somebody has been on: ways through the sequence, as entry and end in days
// before now (end 0: they are on it), and what else an entry asks of them.
type past struct {
	ways           [][2]int
	in, on, deal   bool // in the audience that is left out, on the other sequence, with an open deal
	joined         int  // days ago, into the audience that enters
	number, member bool
}

// may is the plain reading of who may enter.
func (p past) may(e *sequence.Entry, byRule bool) bool {
	for _, w := range p.ways {
		if w[1] == 0 {
			return false
		}
		if e.Times != 0 && e.Times != 1 && e.Gap > 0 && w[1] < e.Gap {
			return false
		}
	}
	switch {
	case e.Times == 0 || e.Times == 1:
		if len(p.ways) > 0 {
			return false
		}
	case e.Times > 1 && len(p.ways) >= e.Times:
		return false
	}
	if byRule {
		for _, w := range p.ways {
			if w[0] <= p.joined {
				return false // they have not joined since
			}
		}
		if p.deal && !e.WithDeal || !p.member {
			return false
		}
	}
	return !(p.in && len(e.NotIn) > 0) && !(p.on && len(e.NotOn) > 0) && p.number
}

// Who may enter, in SQL, against the plain reading: every mix of what an entry asks and
// of what people have been on.
func TestWhoMayEnter(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	rnd := rand.New(rand.NewPCG(3, 9))
	now := w.clock.Now()
	ago := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	q := w.running("Calls", w.plan(&sequence.Call{Common: sequence.Common{Title: "C"}}))
	other := w.running("Other", w.plan(&sequence.Task{Common: sequence.Common{Title: "T"}, What: "x"}))
	enters, err := w.e.SaveAudience(w.ctx, store.Audience{Name: "Enters"})
	w.must(err)
	out, err := w.e.SaveAudience(w.ctx, store.Audience{Name: "Left out"})
	w.must(err)
	run := func(query string, args ...any) {
		t.Helper()
		_, err := w.s.DB().ExecContext(w.ctx, query, args...)
		w.must(err)
	}
	people := map[int64]past{}
	for i := range 60 {
		p := past{in: rnd.IntN(4) == 0, on: rnd.IntN(4) == 0, deal: rnd.IntN(4) == 0, number: rnd.IntN(6) > 0,
			member: rnd.IntN(5) > 0, joined: 1 + rnd.IntN(40)}
		new := store.NewPerson{First: fmt.Sprint("P", i), Email: fmt.Sprintf("p%d@n.example", i)}
		if p.number {
			new.Phone, new.Country = fmt.Sprintf("+442079460%03d", i), "GB"
		}
		id := w.meet(new)
		version := w.count("select version_id from sequence where id = $1", q)
		for end := 40; rnd.IntN(2) == 0 && len(p.ways) < 3; {
			from := end - rnd.IntN(5)
			end = from - 1 - rnd.IntN(8)
			way := [2]int{from, max(end, 0)}
			if rnd.IntN(6) == 0 {
				way[1] = 0
			}
			p.ways = append(p.ways, way)
			var ended *time.Time
			if way[1] > 0 {
				x := ago(way[1])
				ended = &x
			}
			run(`insert into enrolment (sequence_id, version_id, person_id, key, step, entered_at, reached_at, ended_at)
				values ($1, $2, $3, $3, 1, $4, $4, $5)`, q, version, id, ago(way[0]), ended)
			if ended == nil {
				break
			}
		}
		if p.on {
			w.enters(other, id)
		}
		if p.in {
			run("insert into audience_member (audience_id, person_id, joined_at) values ($1, $2, $3)", out, id, now)
		}
		if p.member {
			run("insert into audience_member (audience_id, person_id, joined_at) values ($1, $2, $3)", enters, id,
				ago(p.joined))
		}
		if p.deal {
			run(`insert into deal (person_id, name, stage_id, currency, opened_at, moved_at, position)
				select $1, 'D', min(id), 'EUR', $2, $2, 1 from stage`, id, now)
		}
		people[id] = p
	}
	entered := 0
	for range 60 {
		r := thingIs(enters)
		e := sequence.Entry{Rule: &r, Times: []int{0, 1, 2, 3, sequence.Always}[rnd.IntN(5)], Gap: []int{0, 5,
			20}[rnd.IntN(3)],
			WithDeal: rnd.IntN(2) == 0}
		if rnd.IntN(2) == 0 {
			e.NotIn = []int64{out}
		}
		if rnd.IntN(2) == 0 {
			e.NotOn = []int64{other}
		}
		run("update sequence_version set entry = $2 where sequence_id = $1", q, store.JSON[store.Entry]{V: e})
		running, err := w.s.RunningSequence(w.ctx, q)
		w.must(err)
		list, err := w.s.PeopleFor(w.ctx, &running, now, 0, 1000)
		w.must(err)
		got := map[int64]bool{}
		for _, id := range list {
			got[id] = true
		}
		var all []int64
		for id := range people {
			all = append(all, id)
		}
		bars, err := w.s.Bars(w.ctx, q, all, now)
		w.must(err)
		counted, err := w.s.WhoEnters(w.ctx, &e, q, running.Plan.V.Ways(), store.PeopleQuery{Now: now})
		w.must(err)
		members := int64(0)
		for id, p := range people {
			if p.member {
				members++
			}
			if want := p.may(&e, true); got[id] != want {
				t.Fatalf("%+v by rule, by %+v: enters %v, want %v", p, e, got[id], want)
			}
			if want := p.may(&e, false); (bars[id] == "") != want {
				t.Fatalf("%+v by hand, by %+v: barred by %q, want %v", p, e, bars[id], want)
			}
		}
		for _, n := range counted.Not {
			counted.Enter += n.N
		}
		if counted.Enter != members {
			t.Errorf("%d of %d are counted, as entering or not", counted.Enter, members)
		}
		entered += len(list)
	}
	if entered < 200 {
		t.Errorf("%d enter in all: the cases show too little", entered)
	}
}

// Waves let in so many an hour or a day; the others wait in the order of their records.
func TestWaves(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	q := w.running("Waves", w.plan(&sequence.Pause{Common: sequence.Common{Title: "P"},
		For: calendar.Span{N: 30, Unit: calendar.Days}},
		&sequence.Task{Common: sequence.Common{Title: "T"}, What: "x"}))
	r := ruleOf("NO")
	for _, c := range []struct {
		wave sequence.Wave
		then []time.Duration // after the first look
		want []int           // who has entered by then, and after the first
	}{
		{sequence.Wave{N: 3, Per: sequence.Hour}, []time.Duration{10 * time.Minute, 40 * time.Minute,
			100 * time.Minute},
			[]int{3, 3, 6, 9}}, // from 9:20
		{sequence.Wave{N: 4, Per: sequence.Day}, []time.Duration{7 * time.Hour, 24 * time.Hour}, []int{4, 4, 8}},
	} {
		var ids []int64
		for i := range 10 {
			ids = append(ids, w.meet(store.NewPerson{First: fmt.Sprint("P", i), Country: "NO",
				Email: fmt.Sprintf("p%d.%d@n.example", c.wave.N, i)}))
		}
		_, err := w.s.DB().ExecContext(w.ctx, "update sequence_version set entry = $2 where sequence_id = $1", q,
			store.JSON[store.Entry]{V: store.Entry{Rule: r, Wave: c.wave}})
		w.must(err)
		start := calendar.At(calendar.DateOf(w.clock.Now(), time.UTC).Add(1), 9*time.Hour+20*time.Minute, time.UTC)
		for i := range c.want {
			if w.clock.set(start); i > 0 {
				w.clock.set(start.Add(c.then[i-1]))
			}
			for range 3 {
				_, _, err := w.e.EnterByRules(w.ctx)
				w.must(err)
			}
			n := w.count("select count(*) from enrolment where sequence_id = $1 and person_id = any ($2)", q, ids)
			first := w.count("select count(*) from enrolment where sequence_id = $1 and person_id = any ($2)", q,
				ids[:c.want[i]])
			if n != c.want[i] || first != n {
				t.Errorf("%s, look %d: %d have entered, %d of them in order, want %d", c.wave, i, n, first, c.want[i])
			}
		}
		_, err = w.s.DB().ExecContext(w.ctx, "update person set country = 'SE' where id = any ($1)", ids)
		w.must(err)
	}
}

// Whoever does what a sequence is entered by enters it at once, and again where they may.
func TestEnteredByASignal(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	q := w.running("Downloads", w.plan(&sequence.Task{Common: sequence.Common{Title: "T"}, What: "x",
		ToDo: sequence.ToDo{NoWait: true}}))
	_, err := w.s.DB().ExecContext(w.ctx, "update sequence_version set entry = $2 where sequence_id = $1", q,
		store.JSON[store.Entry]{V: store.Entry{On: &signal.Pattern{Kind: signal.Download, Place: signal.Place{Page: 7}},
			Times: sequence.Always, Gap: 2}})
	w.must(err)
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example"})
	did := func(k signal.Kind, page int64, machine bool) int {
		t.Helper()
		w.must(w.e.Record(w.ctx, store.Signal{Person: ana, Signal: signal.Signal{At: w.clock.Now(), Kind: k,
			Place: signal.Place{Page: page}, Machine: machine}}))
		w.settle()
		return w.count("select count(*) from enrolment where sequence_id = $1", q)
	}
	for i, c := range []struct {
		kind    signal.Kind
		page    int64
		machine bool
		after   time.Duration
		want    int
	}{
		{signal.PageView, 7, false, 0, 0}, {signal.Download, 8, false, 0, 0}, {signal.Download, 7, true, 0, 0},
		{signal.Download, 7, false, 0, 1}, {signal.Download, 7, false, time.Hour, 1},
		{signal.Download, 7, false, 48 * time.Hour, 2},
	} {
		w.clock.set(w.clock.Now().Add(c.after))
		if n := did(c.kind, c.page, c.machine); n != c.want {
			t.Errorf("%d: %d ways, want %d", i, n, c.want)
		}
	}
}

func thingIs(audience int64) rule.Rule { return rule.ThingIs(rule.Audience, audience) }

// What happens to a record lets people in: that it is made, by whatever made it, or that a field changes from
// something to something. It is taken once, however many workers there are, and what happened while nothing was
// entered so is no entry later.
func TestEntryByRecord(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.meet(store.NewPerson{First: "Old", Email: "old@n.example", Source: "Spring fair"})
	begins := func(name string, r sequence.Recorded) (id int64) {
		t.Helper()
		w.tx(func(tx store.Tx) (err error) {
			id, err = tx.AddSequence(w.ctx, name, w.plan(&sequence.Task{Common: sequence.Common{Title: "Call"},
				What: "Say welcome", For: w.rep1}), w.clock.Now())
			return err
		})
		w.must(w.s.SetEntry(w.ctx, id, store.Entry{Record: &r}, w.clock.Now()))
		w.must(w.e.Launch(w.ctx, id, w.marketer))
		return id
	}
	made := begins("Made", sequence.Recorded{Source: "spring fair"})
	changed := begins("Changed", sequence.Recorded{Field: person.Country, From: "NO", To: "CA"})
	w.settle()
	ana := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example", Country: "NO", Source: "Spring fair"})
	bo := w.meet(store.NewPerson{First: "Bo", Email: "bo@n.example", Country: "NO", Source: "Web"})
	w.bring("people.csv", []byte("first name,email,country,source\nCy,cy@n.example,Norway,Spring fair\n"), nil)
	w.settle()
	on := func(q int64) int {
		t.Helper()
		return w.count("select count(*) from enrolment where sequence_id = $1", q)
	}
	if on(made) != 2 || on(changed) != 0 {
		t.Fatalf("%d were entered by the making of their record, %d by a change", on(made), on(changed))
	}
	set := func(id int64, country string) {
		t.Helper()
		w.must(w.e.ChangePerson(w.ctx, id, person.Values{person.Country: country}, w.marketer))
	}
	set(ana, "DE")
	set(bo, "CA")
	set(ana, "CA")
	w.settle()
	if on(changed) != 1 || w.count("select person_id from enrolment where sequence_id = $1", changed) != int(bo) {
		t.Errorf("%d entered by a change", on(changed))
	}
	if n := w.count("select count(*) from recorded"); n != 0 {
		t.Errorf("%d that happened are left lying", n)
	}

	// A record that comes back after a merge was not made now.
	batch, err := w.e.Merge(w.ctx, ana, bo, nil, w.marketer)
	w.must(err)
	w.settle()
	before := on(made)
	w.must(w.e.UndoBatch(w.ctx, batch, w.marketer))
	w.settle()
	if on(made) != before {
		t.Error("a record that came back entered as one that was made")
	}

	// Held: what happens meanwhile is no entry afterwards.
	_, err = w.s.SetSequenceState(w.ctx, made, "running", "held", w.clock.Now())
	w.must(err)
	_, err = w.s.SetSequenceState(w.ctx, changed, "running", "held", w.clock.Now())
	w.must(err)
	w.meet(store.NewPerson{First: "Di", Email: "di@n.example", Source: "Spring fair"})
	if n := w.count("select count(*) from recorded"); n != 0 {
		t.Errorf("%d are kept for nobody", n)
	}
}
