package store_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// What is kept of one-off emails and of tags is what counting all anew gives: of emails that are made, sent, held and
// dropped, opened and clicked by people and by machines that are found out later, late and in one statement, of who is
// left out, and when it is folded.
func TestFiguresThatAreKept(t *testing.T) {
	k := open(t)
	rnd := rand.New(rand.NewPCG(16, 66))
	at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	k.must(k.EnsureMonths(k.ctx, at.AddDate(0, -1, 0), at.AddDate(0, 1, 0)))
	for i := range 9 {
		k.meet(store.NewPerson{First: fmt.Sprint("P", i), Email: fmt.Sprintf("p%d@fjord.example", i)})
	}
	k.run("insert into message (name, version, updated_at) values ('m', 1, now())")
	k.run("insert into mailing (name, state, message_id, plan, made_at, launched_at) values " +
		"('a', 'sending', 1, '{}', now(), now()), ('b', 'sending', 1, '{}', now(), now())")
	k.run("insert into tag (name, created_at) values ('x', now()), ('y', now())")
	k.run("insert into message_version (message_id, version, subject, saved_at, doc) values (1, 1, '', now(), '{}')")
	k.run("insert into page (slug, title, updated_at, doc) values ('a', 'a', now(), '{}'), ('b', 'b', now(), '{}')")
	kinds := []signal.Kind{signal.Open, signal.Click, signal.Click, signal.Reply, signal.AutomaticReply, signal.OptOut,
		signal.Bounce, signal.Complaint, signal.PageView}
	for round := range 400 {
		then := at.Add(time.Duration(rnd.IntN(200)) * 37 * time.Minute)
		switch rnd.IntN(12) {
		case 6:
			k.run("insert into page_visit (page_id, at, started_at) values ($1, $2, $3), (1, $2, null)", 1+rnd.IntN(2), at,
				[]*time.Time{nil, &at}[rnd.IntN(2)])
		case 7:
			k.run("update page_visit set finished_at = case when $1 then $2::timestamptz end where id % 3 = $3",
				rnd.IntN(3) > 0, at, rnd.IntN(3))
		case 8:
			k.run("update touch set message_id = 1 where id % 3 = $1", rnd.IntN(3))
		case 0:
			k.run("insert into touch (mailing_id, person_id, step, kind, state, made_at) select $1, 1 + $2::int, 0, 'email', "+
				"'ready', $3 on conflict do nothing", 1+rnd.IntN(2), rnd.IntN(9), at)
		case 1:
			k.run("update touch set state = $1, done_at = $2 where id % 4 = $3", []string{"sent", "sent", "held", "stopped",
				"withdrawn"}[rnd.IntN(5)], then.Add(-30*time.Hour), rnd.IntN(4))
		case 2:
			k.run("update signal set machine = case machine when '' then 'found out' else '' end where id % 5 = $1",
				rnd.IntN(5))
		case 3:
			k.run("insert into mailing_left (mailing_id, person_id, reason) values ($1, $2, $3) on conflict do nothing",
				1+rnd.IntN(2), 1+rnd.IntN(9), []string{"no address", "opted out"}[rnd.IntN(2)])
		case 4:
			k.run("insert into person_tag (tag_id, person_id, at) values ($1, $2, $3) on conflict do nothing",
				1+rnd.IntN(2), 1+rnd.IntN(9), at)
		case 5:
			k.run("delete from person_tag where person_id = $1", 1+rnd.IntN(9))
		default:
			k.run(`
				insert into signal (person_id, at, kind, link, touch_id, machine)
				select t.person_id, $1::timestamptz + x * interval '1 hour', $2::int, case when $2::int = 5 then $3::int end, t.id, $4
				from touch t, generate_series(1, $5::int) x
				where t.id % 3 = $6`, then, kinds[rnd.IntN(len(kinds))], []int{1, 2, 3, 62, 63, 70}[rnd.IntN(6)],
				[]string{"", "", "a machine"}[rnd.IntN(3)], 1+rnd.IntN(2), rnd.IntN(3))
		}
		if round%97 == 96 {
			k.must(k.FoldCounts(k.ctx, 1))
		}
		if round%20 != 19 {
			continue
		}
		for id := int64(1); id <= 2; id++ {
			if kept, anew := k.keptOf(id), k.countedOf(id); !slices.Equal(kept, anew) {
				t.Fatalf("after %d, of mailing %d is kept\n%q\ncounted\n%q", round, id, kept, anew)
			}
		}
		if f, err := k.MailingFigures(k.ctx, 1); err != nil || round > 200 && (f.Readers == 0 || f.Opened == 0 ||
			f.Clicked == 0) {
			t.Errorf("after %d there is too little to hold: %+v, %v", round, f, err)
		}
		m, err := k.Message(k.ctx, 1)
		k.must(err)
		pages, err := k.Pages(k.ctx)
		k.must(err)
		var sent int64
		k.must(k.DB().QueryRow("select count(*) from touch where message_id = 1 and state = 'sent'").Scan(&sent))
		if m.Sent != sent {
			t.Fatalf("the message went out %d times, kept are %d", sent, m.Sent)
		}
		for _, p := range pages {
			var seen, begun, finished int64
			k.must(k.DB().QueryRow("select count(*), count(started_at), count(finished_at) from page_visit where page_id = $1",
				p.ID).Scan(&seen, &begun, &finished))
			if p.Visits != seen || p.Started != begun || p.Finished != finished {
				t.Fatalf("page %d has %d, %d and %d, kept are %d, %d and %d", p.ID, seen, begun, finished, p.Visits,
					p.Started, p.Finished)
			}
		}
		tags, err := k.Tags(k.ctx)
		k.must(err)
		for _, x := range tags {
			var n int64
			k.must(k.DB().QueryRow("select count(*) from person_tag where tag_id = $1", x.ID).Scan(&n))
			if x.Used != n {
				t.Fatalf("tag %d is on %d, kept are %d", x.ID, n, x.Used)
			}
		}
	}
}

// Figures of before are counted once.
func TestFiguresOfBefore(t *testing.T) {
	k := open(t)
	forward := k.before(66)
	k.must(k.EnsureMonths(k.ctx, time.Now().AddDate(0, -1, 0), time.Now().AddDate(0, 1, 0)))
	k.run("insert into message (name, version, updated_at) values ('m', 1, now())")
	k.run("insert into mailing (name, state, message_id, plan, made_at, launched_at) values " +
		"('a', 'sending', 1, '{}', now(), now())")
	k.run("insert into tag (name, created_at) values ('x', now())")
	for i := range 5 {
		p, _ := k.meet(store.NewPerson{First: "Ana", Email: fmt.Sprintf("ana%d@fjord.example", i)})
		k.run("insert into person_tag (tag_id, person_id, at) values (1, $1, now())", p)
		k.run("insert into touch (mailing_id, person_id, step, kind, state, made_at, done_at) values (1, $1, 0, 'email', "+
			"'sent', now(), now())", p)
	}
	k.run("insert into signal (person_id, at, kind, link, touch_id, machine) select person_id, now() + s.kind * interval " +
		"'1 hour', s.kind, s.link, id, s.machine from touch, (values (4, null, ''), (5, 1, ''), (5, 2, 'x')) as s(kind, link, " +
		"machine) where id % 2 = 1")
	k.run("insert into mailing_left (mailing_id, person_id, reason) values (1, 1, 'no address')")
	forward()
	if kept, anew := k.keptOf(1), k.countedOf(1); !slices.Equal(kept, anew) {
		t.Errorf("kept is\n%q\ncounted\n%q", kept, anew)
	}
	f, err := k.MailingFigures(k.ctx, 1)
	k.must(err)
	tags, err := k.Tags(k.ctx)
	k.must(err)
	if f.Sent != 5 || f.Opened != 3 || f.Clicked != 3 || len(tags) != 1 || tags[0].Used != 5 || tags[0].Last == nil {
		t.Errorf("the figures are %+v, the tags %+v", f, tags)
	}
}

// keptOf is what is kept of a mailing.
func (k kept) keptOf(id int64) (out []string) {
	k.t.Helper()
	f, err := k.MailingFigures(k.ctx, id)
	k.must(err)
	out = append(out, fmt.Sprintf("%+v", f))
	links, err := k.MailingLinks(k.ctx, id)
	k.must(err)
	out = append(out, fmt.Sprintf("%+v", links))
	opens, clicks, err := k.MailingHours(k.ctx, id, 300)
	k.must(err)
	out = append(out, fmt.Sprint(opens, clicks))
	m, err := k.Mailing(k.ctx, id)
	k.must(err)
	left, err := k.LeftOut(k.ctx, id)
	k.must(err)
	return append(out, fmt.Sprint(m.Waiting, m.Sent, m.LeftCount, left["no address"], left["opted out"]))
}

// countedOf is the same, counted from the emails and the signals one by one.
func (k kept) countedOf(id int64) (out []string) {
	k.t.Helper()
	type did struct {
		kind    signal.Kind
		link    int
		machine bool
		at      time.Time
	}
	of := map[int64][]did{}
	rows, err := k.DB().Query("select s.touch_id, s.kind, coalesce(s.link, 0), s.machine <> '', s.at from signal s "+
		"join touch t on t.id = s.touch_id where t.mailing_id = $1", id)
	k.must(err)
	defer rows.Close()
	for rows.Next() {
		var touch int64
		var d did
		k.must(rows.Scan(&touch, &d.kind, &d.link, &d.machine, &d.at))
		of[touch] = append(of[touch], d)
	}
	k.must(rows.Err())
	var f store.MailingFigures
	pressers, presses := map[int]int64{}, map[int]int64{}
	opens, clicks := make([]int64, 300), make([]int64, 300)
	list, err := k.DB().Query("select id, state, done_at from touch where mailing_id = $1", id)
	k.must(err)
	defer list.Close()
	var waiting, sent int64
	for list.Next() {
		var touch int64
		var state string
		var done *time.Time
		k.must(list.Scan(&touch, &state, &done))
		has := func(kind signal.Kind, machine bool) bool {
			return slices.ContainsFunc(of[touch], func(d did) bool { return d.kind == kind && d.machine == machine })
		}
		count := func(to *int64, so bool) {
			if so {
				*to++
			}
		}
		f.Readers++
		count(&f.Sent, state == "sent")
		count(&sent, state == "sent")
		count(&f.Waiting, state == "ready")
		count(&waiting, state == "ready")
		count(&f.Trouble, state == "held" || state == "stopped")
		count(&f.Withdrawn, state == "withdrawn")
		count(&f.Delivered, state == "sent" && !has(signal.Bounce, false))
		opened, clicked := has(signal.Open, false), has(signal.Click, false)
		count(&f.Opened, opened)
		count(&f.Clicked, clicked)
		count(&f.Machines, (has(signal.Open, true) || has(signal.Click, true)) && !opened && !clicked)
		count(&f.Answered, has(signal.Reply, false))
		count(&f.Automatic, has(signal.AutomaticReply, false))
		count(&f.Bounced, has(signal.Bounce, false))
		count(&f.OptedOut, has(signal.OptOut, false))
		count(&f.Complains, has(signal.Complaint, false))
		pressed := map[int]bool{}
		for kind, to := range map[signal.Kind][]int64{signal.Open: opens, signal.Click: clicks} {
			var first time.Time
			for _, d := range of[touch] {
				if d.kind == kind && !d.machine && (first.IsZero() || d.at.Before(first)) {
					first = d.at
				}
			}
			if done != nil && !first.IsZero() && !first.Before(*done) {
				to[int(first.Sub(*done)/time.Hour)]++
			}
		}
		for _, d := range of[touch] {
			if d.kind == signal.Click && !d.machine {
				presses[d.link]++
				if !pressed[d.link] {
					pressers[d.link], pressed[d.link] = pressers[d.link]+1, true
				}
			}
		}
	}
	k.must(list.Err())
	var links []store.LinkFigures
	for link, n := range presses {
		links = append(links, store.LinkFigures{Link: link, People: pressers[link], Presses: n})
	}
	slices.SortFunc(links, func(a, b store.LinkFigures) int {
		if a.People != b.People {
			return int(b.People - a.People)
		}
		return a.Link - b.Link
	})
	var left, none, opted int64
	k.must(k.DB().QueryRow("select count(*), count(*) filter (where reason = 'no address'), count(*) filter (where "+
		"reason = 'opted out') from mailing_left where mailing_id = $1", id).Scan(&left, &none, &opted))
	return []string{fmt.Sprintf("%+v", f), fmt.Sprintf("%+v", links), fmt.Sprint(opens, clicks),
		fmt.Sprint(waiting, sent, left, none, opted)}
}
