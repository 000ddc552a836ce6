package engine

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// figuresHold holds what is kept of every sequence against counting it all anew.
func (w *world) figuresHold() {
	w.t.Helper()
	boxes, err := w.s.Mailboxes(w.ctx, day0.AddDate(-1, 0, 0))
	w.must(err)
	for _, b := range boxes {
		if n := w.count(`select count(*) from touch t join letter lt on lt.touch_id = t.id
			where t.state = 'sent' and lt.sender_id = $1`, b.User); int64(n) != b.Recent {
			w.t.Errorf("%s sent %d, and %d are kept", b.Name, n, b.Recent)
		}
	}
	list, err := w.s.Sequences(w.ctx)
	w.must(err)
	for _, q := range list {
		kept, err := w.s.StepFigures(w.ctx, q.ID)
		w.must(err)
		ever, err := w.s.StepFiguresIn(w.ctx, q.ID, store.Between{To: 1 << 37})
		w.must(err)
		if fmt.Sprint(ever) != fmt.Sprint(kept) {
			w.t.Errorf("of sequence %d is kept\n%+v\ncounted over all of its time\n%+v", q.ID, kept, ever)
		}
		var got []string
		for _, f := range kept.Here {
			got = append(got, fmt.Sprintf("here %d: %d", f.Step, f.N))
		}
		for _, f := range kept.Passed {
			got = append(got, fmt.Sprintf("passed %d %s %s: %d", f.Step, f.Exit, f.Reason, f.N))
		}
		for _, r := range kept.Results {
			got = append(got, fmt.Sprintf("results %d: %+v", r.Step, r))
		}
		got = append(got, fmt.Sprintf("of all: %d, %d, %d, %d", q.Entered, q.OnTheWay, q.Handed, q.Ended))
		want := w.countedAnew(q.ID)
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			w.t.Errorf("of sequence %d is kept\n%s\ncounted\n%s", q.ID, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
}

func (w *world) countedAnew(q int64) (out []string) {
	w.t.Helper()
	rows := func(query string, each func(func(...any) error) error) {
		list, err := w.s.DB().QueryContext(w.ctx, query, q)
		w.must(err)
		defer list.Close()
		for list.Next() {
			w.must(each(list.Scan))
		}
		w.must(list.Err())
	}
	rows(`select step, count(*) from enrolment where sequence_id = $1 and ended_at is null group by 1`,
		func(scan func(...any) error) error {
			var step, n int64
			err := scan(&step, &n)
			out = append(out, fmt.Sprintf("here %d: %d", step, n))
			return err
		})
	rows(`select l.step, l.exit, l.reason, count(*) from enrolment_log l
		where l.version_id in (select id from sequence_version where sequence_id = $1) group by 1, 2, 3`,
		func(scan func(...any) error) error {
			var step, n int64
			var exit, reason string
			err := scan(&step, &exit, &reason, &n)
			out = append(out, fmt.Sprintf("passed %d %s %s: %d", step, exit, reason, n))
			return err
		})
	rows(fmt.Sprintf(`
		with acted as (
			select touch_id, bool_or(kind = %d) as opened, bool_or(kind = %d) as clicked, bool_or(kind = %d) as replied
			from signal where sequence_id = $1 and touch_id is not null and machine = '' group by 1)
		select t.step, count(*), count(*) filter (where t.state = 'sent'), count(*) filter (where a.opened),
			count(*) filter (where a.clicked), count(*) filter (where a.replied),
			count(*) filter (where t.state in ('held', 'stopped')), count(*) filter (where t.state = 'done'),
			count(*) filter (where t.state = 'missed'), count(*) filter (where t.state = 'desk')
		from touch t left join acted a on a.touch_id = t.id where t.sequence_id = $1 group by 1`, signal.Open, signal.Click,
		signal.Reply), func(scan func(...any) error) error {
		var r store.StepResult
		err := scan(&r.Step, &r.Made, &r.Sent, &r.Opened, &r.Clicked, &r.Replied, &r.Trouble, &r.Done, &r.Missed, &r.Desk)
		out = append(out, fmt.Sprintf("results %d: %+v", r.Step, r))
		return err
	})
	rows(`select count(*), count(*) filter (where ended_at is null), count(*) filter (where reason = 'handed over'),
		count(*) filter (where ended_at is not null) from enrolment where sequence_id = $1`,
		func(scan func(...any) error) error {
			var entered, way, handed, ended int64
			err := scan(&entered, &way, &handed, &ended)
			out = append(out, fmt.Sprintf("of all: %d, %d, %d, %d", entered, way, handed, ended))
			return err
		})
	return out
}

// What is kept is what counting gives: of emails that are sent, opened, clicked and answered,
// by people and by programs that are found out later, of ways that end, and when it is folded.
func TestFiguresAreKept(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	q := w.running("Kept", w.plan(&sequence.Email{Common: sequence.Common{Title: "One"}, Message: w.first},
		&sequence.Task{Common: sequence.Common{Title: "Two"}, What: "look"}))
	var people []int64
	for i := range 6 {
		people = append(people, w.norwegian(fmt.Sprint("P", i)))
	}
	w.enters(q, people...)
	w.settle()
	w.figuresHold()
	touches := map[int64]int64{}
	rows, err := w.s.DB().QueryContext(w.ctx, "select person_id, id from touch where kind = 'email'")
	w.must(err)
	for rows.Next() {
		var p, id int64
		w.must(rows.Scan(&p, &id))
		touches[p] = id
	}
	w.must(rows.Close())
	at := w.clock.Now().Add(time.Hour)
	did := func(p int64, k signal.Kind, machine string) store.Signal {
		return store.Signal{Person: p, Touch: touches[p], Why: machine, Signal: signal.Signal{At: at, Kind: k,
			Machine: machine != "", Place: signal.Place{Sequence: q, Step: 2, Link: 1}}}
	}
	w.clock.set(at)
	w.must(w.e.Record(w.ctx, did(people[0], signal.Open, ""), did(people[0], signal.Open, ""),
		did(people[0], signal.Click, ""), did(people[1], signal.Open, "a program"), did(people[2], signal.Open, ""),
		did(people[2], signal.Click, ""), did(people[3], signal.Reply, "")))
	w.figuresHold()
	kept, err := w.s.StepFigures(w.ctx, q)
	w.must(err)
	if r := kept.Results[0]; r.Sent != 6 || r.Opened != 2 || r.Clicked != 2 || r.Replied != 1 {
		t.Errorf("kept %+v", r)
	}
	w.tx(func(tx store.Tx) error {
		return tx.MarkTrapped(w.ctx, people[2], touches[people[2]], at.Add(-time.Minute), "found out")
	})
	w.figuresHold()
	if kept, err = w.s.StepFigures(w.ctx, q); err != nil || kept.Results[0].Opened != 1 || kept.Results[0].Clicked != 1 {
		t.Errorf("a program that is found out is counted still: %+v, %v", kept.Results[0], err)
	}
	w.settle()
	w.must(w.e.Hold(w.ctx, q))
	_, err = w.e.EndSequence(w.ctx, q)
	w.must(err)
	w.figuresHold()
	before := w.count("select count(*) from flow_count")
	w.must(w.s.FoldCounts(w.ctx, before+1))
	if n := w.count("select count(*) from flow_count"); n != before {
		t.Errorf("%d lines are folded to %d, and nobody asked", before, n)
	}
	w.must(w.s.FoldCounts(w.ctx, 1))
	w.figuresHold()
	if n := w.count("select count(*) from flow_count"); n >= before {
		t.Errorf("%d lines are folded to %d", before, n)
	}
}

// What became of those who took each exit of a step is counted by person, from what went out after it; each figure
// has its people, and each is what reading one way after another comes to.
func TestWhatCameAfterEachExit(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other, p.LongestStay = false, "existing customers", calendar.Span{}
	insert := func(s sequence.Step, from sequence.StepID, exit sequence.Exit) sequence.StepID {
		t.Helper()
		id, err := p.Insert(s, from, exit)
		w.must(err)
		return id
	}
	first := insert(&sequence.Email{Message: w.first}, 0, "")
	day := calendar.Span{N: 1, Unit: calendar.Days}
	watch := insert(&sequence.Watch{Signal: signal.PageView, Page: w.page.ID, For: day}, first, sequence.Next)
	insert(&sequence.Email{Message: w.first}, watch, sequence.Happened)
	insert(sequence.New("hand over"), insert(&sequence.Email{Message: w.second}, watch, sequence.NotInTime), sequence.Next)
	q := w.running("Fork", p)
	var people []int64
	for i := range 7 {
		people = append(people, w.meet(store.NewPerson{First: fmt.Sprint("P", i), Email: fmt.Sprintf("p%d@n.example", i)}))
	}
	w.enters(q, people...)
	w.settle()
	w.press("p0@n.example", 1) // before the fork: it counts for none of its exits
	w.to(time.Minute)
	for _, id := range people[:3] {
		w.must(w.e.Record(w.ctx, store.Signal{Person: id,
			Signal: signal.Signal{At: w.clock.Now(), Kind: signal.PageView, Place: signal.Place{Page: w.page.ID}}}))
	}
	w.to(3 * dayLong)
	w.press("p1@n.example", 1)
	w.press("p2@n.example", 1)
	for _, in := range []store.Between{{}, store.BetweenTimes(day0, day0.Add(time.Hour))} {
		got, err := w.s.AfterExits(w.ctx, q, int32(watch), in)
		w.must(err)
		// Of so few, a sample has everybody, and nobody twice.
		if some, err := w.s.AfterSomeExits(w.ctx, q, int32(watch)); err != nil ||
			in == (store.Between{}) && !slices.Equal(some, got) {
			t.Errorf("in a sample of all %v, in all %v: %v", some, got, err)
		}
		figures := map[string][5]int64{}
		for _, x := range got {
			figures[x.Exit] = [5]int64{x.Sent, x.Opened, x.Clicked, x.Answered, x.Handed}
			for which, n := range map[string]int64{"sent": x.Sent, "opened": x.Opened, "clicked": x.Clicked,
				"answered": x.Answered, "handed": x.Handed} {
				b := store.Behind{Of: "step", ID: q, N: int32(watch), Which: "after " + x.Exit + " " + which, In: in}
				if behind, err := w.s.CountPeople(w.ctx, store.PeopleQuery{Behind: b, Now: w.clock.Now()}); err != nil ||
					behind != n || store.ParseBehind(b.String()) != b {
					t.Errorf("%s: %d counted, %d behind it, %v", b, n, behind, err)
				}
			}
		}
		// Plainly, one after another: three looked and got the first email again, of whom two pressed its link; four did
		// not, got the other and were handed over.
		want := map[string][5]int64{"happened": {3, 0, 2, 0, 0}, "not in time": {4, 0, 0, 0, 4}}
		if in != (store.Between{}) {
			want = map[string][5]int64{"happened": {3, 0, 2, 0, 0}}
		}
		if fmt.Sprint(figures) != fmt.Sprint(want) {
			t.Errorf("%v: %v, want %v", in, figures, want)
		}
	}
}
