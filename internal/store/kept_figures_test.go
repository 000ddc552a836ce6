package store_test

import (
	"fmt"
	"maps"
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
	k.run("insert into event (name, starts_at, ends_at, zone, made_at) values ('a', now(), now() + interval '1 h', 'UTC', " +
		"now()), ('b', now(), now() + interval '1 h', 'UTC', now())")
	states := []string{"registered", "cancelled", "came", "stayed away"}
	kinds := []signal.Kind{signal.Open, signal.Click, signal.Click, signal.Reply, signal.AutomaticReply, signal.OptOut,
		signal.Bounce, signal.Complaint, signal.PageView}
	var most store.MailingFigures
	for round := range 400 {
		then := at.Add(time.Duration(rnd.IntN(200)) * 37 * time.Minute)
		switch rnd.IntN(15) {
		case 9:
			k.run("insert into attendance (event_id, person_id, state, at, how) values ($1, $2, $3, now(), '') on conflict "+
				"do nothing", 1+rnd.IntN(2), 1+rnd.IntN(9), states[rnd.IntN(4)])
		case 10:
			k.run("update attendance set state = $1, current = $2 where id % 3 = $3 and current", states[rnd.IntN(4)],
				rnd.IntN(3) > 0, rnd.IntN(3))
		case 11:
			k.run("delete from attendance where id % 7 = $1", rnd.IntN(7))
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
		if round%61 == 60 { // it finds nothing to mend
			list, err := k.MendFigures(k.ctx, at)
			if k.must(err); len(list) > 0 {
				t.Fatalf("after %d is mended: %+v", round, list)
			}
		}
		if round%20 != 19 {
			continue
		}
		for id := int64(1); id <= 2; id++ {
			if kept, anew := k.keptOf(id), k.countedOf(id); !slices.Equal(kept, anew) {
				t.Fatalf("after %d, of mailing %d is kept\n%q\ncounted\n%q", round, id, kept, anew)
			}
		}
		f, err := k.MailingFigures(k.ctx, 1)
		k.must(err)
		most.Readers, most.Opened, most.Clicked = max(most.Readers, f.Readers), max(most.Opened, f.Opened),
			max(most.Clicked, f.Clicked)
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
		events, err := k.Events(k.ctx, at)
		k.must(err)
		for _, x := range events {
			if counted, err := k.Event(k.ctx, x.ID); err != nil || x != counted {
				t.Fatalf("of an event is kept %+v, counted %+v, %v", x, counted, err)
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
	if most.Readers < 5 || most.Opened == 0 || most.Clicked == 0 {
		t.Errorf("there is too little to hold: at most %+v", most)
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

// Who stood to events before is counted once.
func TestAttendanceOfBefore(t *testing.T) {
	k := open(t)
	forward := k.before(73)
	k.run("insert into event (name, starts_at, ends_at, zone, made_at) values ('a', now(), now() + interval '1 h', 'UTC', " +
		"now()), ('b', now(), now() + interval '1 h', 'UTC', now())")
	for i, state := range []string{"registered", "came", "came", "stayed away", "cancelled"} {
		p, _ := k.meet(store.NewPerson{First: "Ana", Email: fmt.Sprintf("ana%d@fjord.example", i)})
		k.run("insert into attendance (event_id, person_id, state, at, how, current) values (1, $1, 'registered', now(), '', "+
			"false), (1, $1, $2, now(), '', true)", p, state)
	}
	forward()
	list, err := k.Events(k.ctx, time.Now())
	if k.must(err); len(list) != 2 || list[0].Registered != 4 || list[0].Came != 2 || list[0].Away != 1 ||
		list[0].Withdrew != 1 || list[1].Registered != 0 {
		t.Errorf("the events are %+v", list)
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

// What is kept and is not what counting gives is mended, and told, whatever it is of; what is right stays.
func TestFiguresAreMended(t *testing.T) {
	k := open(t)
	now := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	k.must(k.EnsureMonths(k.ctx, now.AddDate(0, -1, 0), now.AddDate(0, 1, 0)))
	k.run("insert into message (name, version, updated_at) values ('m', 1, now())")
	k.run("insert into message_version (message_id, version, subject, saved_at, doc) values (1, 1, '', now(), '{}')")
	k.run("insert into page (slug, title, updated_at, doc) values ('a', 'a', now(), '{}')")
	k.run("insert into event (name, starts_at, ends_at, zone, made_at) values ('a', now(), now() + interval '1 h', 'UTC', " +
		"now())")
	k.run("insert into tag (name, created_at) values ('x', now()), ('y', now())")
	k.run("insert into mailing (name, state, message_id, plan, made_at, launched_at) values " +
		"('a', 'sending', 1, '{}', now(), now())")
	k.run("insert into audience (name, live, created_at, changed_at, swept_at) values ('a', false, now(), now(), now())")
	k.run("insert into sequence (name, state, created_at, updated_at, entry) values ('s', 'running', now(), now(), '{}')")
	k.run("insert into sequence_version (sequence_id, number, plan, messages, entry, launched_at) values (1, 1, '{}', '{}', '{}', now())")
	for i := range 6 {
		p, _ := k.meet(store.NewPerson{First: "Ana", Email: fmt.Sprintf("ana%d@fjord.example", i)})
		k.run("insert into person_tag (tag_id, person_id, at) values (1 + $1::int % 2, $1, now())", p)
		k.run("insert into audience_member (audience_id, person_id, joined_at) values (1, $1, now())", p)
		k.run("insert into enrolment (sequence_id, version_id, person_id, key, step, phase, entered_at, reached_at) values "+
			"(1, 1, $1, $1, 2, 1, now(), now())", p)
		k.run("insert into enrolment_log (enrolment_id, version_id, step, at, exit) values ($1, 1, 1, now(), 'next')", p)
		k.run("insert into page_visit (page_id, at, started_at) values (1, $1, $1)", now)
		k.run("insert into attendance (event_id, person_id, state, at, how) values (1, $1, 'came', now(), '')", p)
		k.run("insert into touch (mailing_id, person_id, step, kind, state, made_at, done_at, message_id) values "+
			"(1, $1, 0, 'email', 'ready', $2, null, 1)", p, now)
		k.run("insert into touch (sequence_id, version_id, enrolment_id, person_id, step, kind, state, made_at, done_at, "+
			"message_id) values (1, 1, $1, $1, 1, 'email', 'sent', $2, $2, 1)", p, now)
	}
	k.run("insert into app_user (name, email, role, password_hash, created_at) values ('U', 'u@k.example', 'rep', 'x', now())")
	k.run("insert into letter (touch_id, lane, phase, ready_at, mail_id, sender_id, address, subject) select id, 3, 'over', " +
		"now(), 'm' || id, 1, '', '' from touch where mailing_id is not null")
	k.run("update touch set state = 'sent', done_at = $1 where mailing_id is not null", now)
	k.run("insert into signal (person_id, at, kind, touch_id, link, sequence_id) select person_id, $1, x, id, "+
		"case when x = 5 then 2 end, sequence_id from touch, generate_series(4, 5) x", now.Add(2*time.Hour))
	k.run("update audience set members = 6")
	mend := func(want map[string]int64) {
		t.Helper()
		list, err := k.MendFigures(k.ctx, now)
		k.must(err)
		got := map[string]int64{}
		for _, m := range list {
			got[m.Figure] = m.Lines
		}
		if !maps.Equal(got, want) {
			t.Errorf("mended are %v and not %v", got, want)
		}
		if again, err := k.MendFigures(k.ctx, now); err != nil || len(again) > 0 {
			t.Errorf("once more is mended: %+v, %v", again, err)
		}
	}
	mend(map[string]int64{})
	before := k.keptOf(1)
	for _, x := range []struct {
		spoil  string
		figure string
		lines  int64
	}{
		{"delete from kept where of = 'tag' and id = 2", "tags", 1},
		{"insert into kept (of, id, n) values ('tag', 77, 3)", "tags", 1},
		{"update kept set n = n + 1 where of = 'mailing' and what like 'is %'", "one-off emails", 7},
		{"delete from kept where of = 'mailing' and what like 'press%'", "one-off emails", 2},
		{"update kept set n = 2 * n where of = 'sender'", "emails by mailbox and day", 1},
		{"delete from kept where of = 'message'", "messages", 1},
		{"update kept set n = 0 where of = 'page'", "pages", 2},
		{"delete from kept where of = 'event'", "events", 1},
		{"delete from flow_count where what = 'passed'", "sequences", 1},
		{"update flow_count set n = n + 1 where what = 'here' and ctid = (select min(ctid) from flow_count where what = " +
			"'here')", "sequences", 1},
		{"delete from flow_count where what in ('sent', 'clicked')", "sequences", 2},
		{"update audience set members = 2", "audiences", 1},
	} {
		if x.figure == "one-off emails" && x.lines == 7 { // each line of each state counts: how many there are
			k.must(k.FoldCounts(k.ctx, 0))
			k.must(k.DB().QueryRow("select count(*) from kept where of = 'mailing' and what like 'is %'").Scan(&x.lines))
		}
		if x.figure != "sequences" || x.lines == 2 {
			k.must(k.FoldCounts(k.ctx, 0))
		}
		k.run(x.spoil)
		mend(map[string]int64{x.figure: x.lines})
		if after := k.keptOf(1); !slices.Equal(after, before) {
			t.Errorf("after %s is kept\n%q\nand not\n%q", x.spoil, after, before)
		}
	}
	// What emails keep themselves is counted by others. It was spoilt behind their backs, so they count it twice when it
	// is mended, and are mended too.
	k.must(k.FoldCounts(k.ctx, 0))
	k.run("set session_replication_role = replica; update touch set opened_at = null, people = 0, opened = false; " +
		"set session_replication_role = default")
	mend(map[string]int64{"emails": 12, "one-off emails": 3, "sequences": 1})
	list, err := k.Mendings(k.ctx, 100)
	k.must(err)
	first, last := list[2], list[len(list)-1]
	if len(list) != 15 || first.Figure != "emails" || first.Lines != 12 || len(first.First.V) != 12 ||
		last.First.V[0] != (store.Mended{Of: 2, Was: 0, Became: 3}) {
		t.Errorf("told are %d mendings, first %+v, last %+v", len(list), first, last)
	}
}

// Records that have had their time go in parts, and how many there were stays: by month and source, by day, and in what
// is kept of pages.
func TestWhatIsLeftOfRecords(t *testing.T) {
	k := open(t)
	now := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	rnd := rand.New(rand.NewPCG(16, 71))
	k.run("insert into page (slug, title, updated_at, doc) values ('a', 'a', now(), '{}'), ('b', 'b', now(), '{}')")
	k.run("insert into audience (name, live, created_at, changed_at, swept_at) values ('a', false, now(), now(), now())")
	p, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	for range 300 {
		at := now.Add(-time.Duration(rnd.IntN(400*24)) * time.Hour)
		k.run("insert into page_visit (page_id, at, started_at, finished_at, source) values ($1, $2, $3, $4, $5)",
			1+rnd.IntN(2), at, []*time.Time{nil, &at}[rnd.IntN(2)], []*time.Time{nil, &at}[rnd.IntN(2)],
			[]string{"", "fair"}[rnd.IntN(2)])
		k.run("insert into audience_move (audience_id, person_id, at, joined) values (1, $1, $2, $3)", p, at,
			rnd.IntN(2) == 0)
	}
	sources := func() string {
		a, err := k.PageSources(k.ctx, 1, 9)
		k.must(err)
		b, err := k.PageSources(k.ctx, 2, 9)
		k.must(err)
		pages, err := k.Pages(k.ctx)
		k.must(err)
		days, err := k.MovesByDay(k.ctx, 1, now.AddDate(-2, 0, 0), "America/Toronto")
		k.must(err)
		out := fmt.Sprintln(a, b, days)
		for _, g := range pages {
			out += fmt.Sprintln(g.ID, g.Visits, g.Started, g.Finished)
		}
		return out
	}
	was := sources()
	before := now.AddDate(0, -6, 0)
	var old, oldMoves int64
	k.must(k.DB().QueryRow("select count(*) from page_visit where at < $1", before).Scan(&old))
	k.must(k.DB().QueryRow("select count(*) from audience_move where at < $1", before).Scan(&oldMoves))
	{
		var visits, moves int64
		for n := int64(7); n == 7; {
			var err error
			n, err = k.DropVisits(k.ctx, before, 7)
			k.must(err)
			visits += n
		}
		for n := int64(7); n == 7; {
			var err error
			n, err = k.DropMoves(k.ctx, before, "America/Toronto", 7)
			k.must(err)
			moves += n
		}
		if visits != old || moves != oldMoves || old < 50 {
			t.Errorf("%d of %d visits went, %d of %d moves", visits, old, moves, oldMoves)
		}
		if is := sources(); is != was {
			t.Errorf("what is left is\n%s\nand was\n%s", is, was)
		}
		if list, err := k.MendFigures(k.ctx, now); err != nil || len(list) > 0 {
			t.Errorf("it is mended: %+v, %v", list, err)
		}
	}
	var left, moves int
	k.must(k.DB().QueryRow("select count(*) from page_visit where at < $1", before).Scan(&left))
	k.must(k.DB().QueryRow("select count(*) from audience_move where at < $1", before).Scan(&moves))
	if n, err := k.DropVisits(k.ctx, before, 7); left+moves != 0 || n != 0 || err != nil {
		t.Errorf("%d and %d are left, and %d go again: %v", left, moves, n, err)
	}
	// Browsers of people go once they have not come for long; those that came, and those of nobody, stay.
	k.run("insert into visitor (id, first_at, seen_at, person_id) values ('a', $1, $1, $3), ('b', $2, $2, $3), ('c', $1, $1, "+
		"null)", before.Add(-time.Hour), before, p)
	if n, err := k.DropBrowsers(k.ctx, before, 7); n != 1 || err != nil {
		t.Errorf("%d browsers go, %v", n, err)
	}
	k.run("insert into change (person_id, at, before, after, how) select $1, $2::timestamptz + x * interval '1 day', '{}', "+
		"'{}', '' from generate_series(-9, 3) x", p, before)
	if n, err := k.DropChanges(k.ctx, before, 50); n != 9 || err != nil {
		t.Errorf("%d changes go, %v", n, err)
	}
}
