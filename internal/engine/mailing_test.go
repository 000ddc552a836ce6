package engine

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"mime/multipart"
	netmail "net/mail"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"ombak/internal/core/act"
	"ombak/internal/core/contact"
	"ombak/internal/core/mailing"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/engine/forms"
	"ombak/internal/engine/post"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// newsletter is a one-off email to everybody in Norway.
func (w *world) newsletter(f func(*store.Mailing)) store.Mailing {
	w.t.Helper()
	var msg int64
	w.tx(func(tx store.Tx) error {
		var err error
		doc := message.Simple("News for {{ person.first_name | default: \"you\" }}",
			`<p>One <a href="/p/alarms">page</a>, <a href="https://karang.example/b">another</a></p>`)
		msg, err = tx.SaveMessage(w.ctx,
			store.Message{Name: "News", Doc: store.JSON[message.Document]{V: doc}, SenderID: &w.marketer}, w.marketer,
			w.clock.Now())
		return err
	})
	aud := w.audience("Norway", rule.FieldIs(person.Country, "NO"))
	w.settle()
	purpose := int64(1)
	m := store.Mailing{Name: "News", Message: &msg, Audience: &aud, Purpose: &purpose}
	m.Plan.V = mailing.NewPlan()
	if f != nil {
		f(&m)
	}
	id, err := w.e.SaveMailing(w.ctx, m, w.marketer)
	w.must(err)
	m, err = w.s.Mailing(w.ctx, id)
	w.must(err)
	return m
}

func (w *world) agrees(id int64, yes bool) {
	w.t.Helper()
	w.must(w.e.SetConsent(w.ctx, id, 1, yes, "by form", "", w.marketer))
}

// behind lists the people behind a figure of a one-off email.
func (w *world) behind(id int64, which string) (out []int64, err error) {
	w.tx(func(tx store.Tx) error {
		out, err = tx.AllIDs(w.ctx,
			store.PeopleQuery{Behind: store.Behind{Of: "email", ID: id, Which: which}, Now: w.clock.Now()})
		return nil
	})
	return out, err
}

func (w *world) norwegian(first string) int64 {
	w.t.Helper()
	id := w.meet(store.NewPerson{First: first, Email: strings.ToLower(first) + "@n.example", Country: "NO"})
	w.agrees(id, true)
	return id
}

// TestAOneOffEmail sends one to an audience in which each reason to be left out
// occurs once, and follows what readers do.
func TestAOneOffEmail(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, bo, cy := w.norwegian("Ana"), w.norwegian("Bo"), w.norwegian("Cy")
	w.meet(store.NewPerson{First: "Elsewhere", Email: "e@n.example", Country: "CA"})
	left := map[mailing.Reason]int64{}
	out := func(why mailing.Reason, f func(id int64)) {
		t.Helper()
		id := w.norwegian(fmt.Sprintf("P%d", len(left)))
		f(id)
		left[why] = id
	}
	run := func(q string) func(int64) {
		return func(id int64) {
			_, err := w.s.DB().ExecContext(w.ctx, q, id)
			w.must(err)
		}
	}
	friends, err := w.e.SaveAudience(w.ctx, store.Audience{Name: "Friends"})
	w.must(err)
	out(mailing.Excluded, func(id int64) {
		w.must(w.e.Mark(w.ctx, id, person.Mark(person.AudienceMark, friends), true, w.marketer))
	})
	out(contact.NoAddress, run("update person set email = '', phone = '+4755500100' where id = $1"))
	out(contact.DoNotContact, run("update person set do_not_contact = true where id = $1"))
	out(contact.OptedOut, run("update person set opted_out_at = now() where id = $1"))
	out(contact.Bounced, run("update person set bounced_at = now() where id = $1"))
	out(contact.TookBack, func(id int64) { w.agrees(id, false) })
	out(contact.NoConsent, run("delete from consent where person_id = $1"))
	out(mailing.OpenDeal,
		run("insert into deal (person_id, stage_id, name, currency, opened_at, moved_at) values ($1, 1, 'd', 'EUR', now(), "+
			"now())"))
	m := w.newsletter(func(m *store.Mailing) {
		m.Excluded.V = []int64{friends}
		m.Plan.V.Tags.Campaign = "spring"
		m.Acts.V = []mailing.LinkAct{{Link: 1, Act: act.Tag{Name: "keen"}},
			{Link: 2, Act: act.Include{Audience: friends}},
			{Link: 1, Act: act.Task{Words: "Send the price list"}},
			{Link: 1, Act: act.Alert{Words: "Asks for prices", To: w.rep2}}}
	})
	reach, err := w.e.Reach(w.ctx, &m)
	w.must(err)
	if reach.Will != 3 || reach.People != 11 || len(reach.Days) != 1 {
		t.Errorf("reach before: %+v", reach)
	}
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	if err := w.e.LaunchMailing(w.ctx, m.ID); !errors.Is(err, store.ErrOver) {
		t.Errorf("launched twice: %v", err)
	}
	w.to(dayLong)
	got, err := w.s.LeftOut(w.ctx, m.ID)
	w.must(err)
	for why, id := range left {
		people, err := w.behind(m.ID, "left "+string(why))
		if err != nil || got[why] != 1 || reach.Not[why] != 1 || len(people) != 1 || people[0] != id {
			t.Errorf("%s: %d left out, %d forecast, %v, %v", why, got[why], reach.Not[why], people, err)
		}
	}
	for name, id := range map[string]int64{"ana@": ana, "bo@": bo, "cy@": cy} {
		l := w.letters(name)
		if len(l) != 1 || !strings.HasPrefix(l[0].Subject, "News for ") {
			t.Fatalf("%d got %d letters", id, len(l))
		}
	}
	if n := len(w.mail.Letters("", 100)); n != 3 {
		t.Errorf("%d letters in all", n)
	}
	// Ana opens and presses, a machine opens Bo's, Cy's bounces.
	touch := func(to string) int64 { return w.touchOf(to) }
	w.must(w.e.Open(w.ctx, touch("ana@"), w.e.Sign("open", touch("ana@"), 0), ""))
	target, _, err := w.e.Click(w.ctx, touch("ana@"), 1, w.e.Sign("link", touch("ana@"), 1), "")
	if err != nil || target != "http://ombak.example/p/alarms?utm_campaign=spring&utm_medium=email&utm_source=ombak" {
		t.Errorf("the link leads to %s, %v", target, err)
	}
	w.must(w.e.Open(w.ctx, touch("bo@"), w.e.Sign("open", touch("bo@"), 0), "a scanner"))
	_, _, err = w.e.Click(w.ctx, touch("bo@"), 2, w.e.Sign("link", touch("bo@"), 2), "a scanner")
	w.must(err)
	w.must(w.e.Record(w.ctx,
		store.Signal{Person: cy, Touch: touch("cy@"), Signal: signal.Signal{At: w.clock.Now(), Kind: signal.Bounce}}))
	w.must(w.e.Receive(w.ctx,
		mail.Received{ID: "r1@x", From: "ana@n.example", References: []string{w.letters("ana@")[0].MessageID},
			Text: "Thanks"}))
	w.settle()
	f, err := w.s.MailingFigures(w.ctx, m.ID)
	w.must(err)
	if want := (store.MailingFigures{Readers: 3, Sent: 3, Delivered: 2, Opened: 1, Machines: 1, Clicked: 1, Answered: 1,
		Bounced: 1}); f != want {
		t.Errorf("figures %+v\nwant    %+v", f, want)
	}
	for kind, want := range map[string]int64{"opened": ana, "machines": bo, "bounced": cy, "answered": ana} {
		if people, err := w.behind(m.ID, kind); err != nil || len(people) != 1 || people[0] != want {
			t.Errorf("behind %s: %v, %v", kind, people, err)
		}
	}
	links, err := w.s.MailingLinks(w.ctx, m.ID)
	if err != nil || len(links) != 1 || links[0] != (store.LinkFigures{Link: 1, People: 1, Presses: 1}) {
		t.Errorf("links: %+v, %v", links, err)
	}
	opens, clicks, err := w.s.MailingHours(w.ctx, m.ID, 48)
	// within the hour after hers went out, a day after the press of the button
	if err != nil || opens[0] != 1 || clicks[0] != 1 {
		t.Errorf("over time: %v %v, %v", opens, clicks, err)
	}
	if tags, err := w.s.PersonTags(w.ctx, ana); err != nil || len(tags) != 1 || tags[0].Name != "keen" {
		t.Errorf("pressing the link tags her with %v, %v", tags, err)
	}
	task, err := w.s.OpenTasks(w.ctx, 0, false, w.clock.Now())
	w.must(err)
	told, err := w.s.OpenTasks(w.ctx, w.rep2, true, w.clock.Now())
	w.must(err)
	if len(task) != 1 || task[0].Person != ana || task[0].Words != "Send the price list" ||
		!strings.Contains(task[0].How, "by a link of") || len(told) != 1 || told[0].Person != ana {
		t.Errorf("pressing the link makes the task %+v and tells %+v", task, told)
	}
	if n := w.count("select count(*) from audience_member where audience_id = $1 and person_id = $2", friends,
		bo); n != 0 {
		t.Error("a machine's press did something")
	}
	batch, err := w.e.CleanBounced(w.ctx, m.ID, w.marketer)
	w.must(err)
	w.must(w.e.RunBatch(w.ctx, batch))
	if p, err := w.s.Person(w.ctx, cy); err != nil || p.Email != "" {
		t.Errorf("the address that bounced is still %q, %v", p.Email, err)
	}
	w.must(w.e.UndoBatch(w.ctx, batch, w.marketer))
	w.must(w.e.RunBatch(w.ctx, batch))
	if p, err := w.s.Person(w.ctx, cy); err != nil || p.Email != "cy@n.example" {
		t.Errorf("and after undoing %q, %v", p.Email, err)
	}
	// Who got an email two days ago is in rest.
	again := w.newsletterAgain(m)
	// the friend is not excluded this time
	if reach, err := w.e.Reach(w.ctx, &again); err != nil || reach.Not[mailing.InRest] != 2 || reach.Will != 1 {
		t.Errorf("a second one the next day reaches %+v, %v", reach, err)
	}
}

func (w *world) newsletterAgain(m store.Mailing) store.Mailing {
	w.t.Helper()
	id, err := w.e.SaveMailing(w.ctx,
		store.Mailing{Name: "Again", Message: m.Message, Audience: m.Audience, Purpose: m.Purpose, Plan: m.Plan},
		w.marketer)
	w.must(err)
	m, err = w.s.Mailing(w.ctx, id)
	w.must(err)
	return m
}

// TestBetweenLaunchAndSending: whoever opts out, takes consent back or answers
// before their hour comes gets nothing; a held one waits; a stopped one is over.
func TestBetweenLaunchAndSending(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, bo, cy, di := w.norwegian("Ana"), w.norwegian("Bo"), w.norwegian("Cy"), w.norwegian("Di")
	w.norwegian("Ed")
	m := w.newsletter(func(m *store.Mailing) { m.Plan.V.At = day0.Add(48 * time.Hour) })
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	w.settle()
	if n := len(w.mail.Letters("", 10)); n != 0 {
		t.Fatalf("%d went out two days early", n)
	}
	w.agrees(ana, false)
	w.must(w.e.Record(w.ctx, store.Signal{Person: bo, Signal: signal.Signal{At: w.clock.Now(), Kind: signal.OptOut}}))
	_, err := w.s.DB().ExecContext(w.ctx, "update person set opted_out_at = $2 where id = $1", bo, w.clock.Now())
	w.must(err)
	w.must(w.e.Receive(w.ctx, mail.Received{ID: "r2@x", From: "cy@n.example", Text: "Please call"}))
	w.sorted(true)
	w.must(w.e.Erase(w.ctx, di))
	w.must(w.e.HoldMailing(w.ctx, m.ID, true))
	w.to(60 * time.Hour)
	if n := len(w.mail.Letters("", 10)); n != 0 {
		t.Fatalf("%d went out while it was held", n)
	}
	w.must(w.e.HoldMailing(w.ctx, m.ID, false))
	w.to(72 * time.Hour)
	if l := w.mail.Letters("", 10); len(l) != 1 || l[0].To != "ed@n.example" {
		t.Fatalf("%d letters went out: %v", len(l), l)
	}
	for id, why := range map[int64]string{ana: "took consent back", bo: "opted out", cy: "answered meanwhile"} {
		if n := w.count("select count(*) from touch where mailing_id = $1 and person_id = $2 and state = 'withdrawn' "+
			"and trouble = $3", m.ID, id, why); n != 1 {
			t.Errorf("%d is not taken back because %s", id, why)
		}
	}
	if _, err := w.e.StopMailing(w.ctx, m.ID); err != nil {
		t.Error(err)
	}
	if err := w.e.HoldMailing(w.ctx, m.ID, false); !errors.Is(err, store.ErrOver) {
		t.Errorf("a stopped one goes on: %v", err)
	}
}

// TestFillingGoesOn: a process that ends while readers are written down leaves
// the rest to another, and nobody is written down twice.
func TestFillingGoesOn(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.norwegian("Ana")
	_, err := w.s.DB().ExecContext(w.ctx,
		"insert into person (first_name, email, country, created_at) select 'R' || n, 'r' || n || '@n.example', "+
			"'NO', $1 from generate_series(1, 4300) n", day0)
	w.must(err)
	_, err = w.s.DB().ExecContext(w.ctx,
		"insert into consent (person_id, purpose_id, given, at, how) select id, 1, true, $1, 'x' from person where "+
			"first_name like 'R%'", day0)
	w.must(err)
	m := w.newsletter(func(m *store.Mailing) { m.Plan.V.At = day0.Add(48 * time.Hour) })
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	for i := 1; ; i++ {
		ctx, cancel := context.WithCancel(w.ctx)
		if i%2 == 0 {
			cancel() // this turn's process is gone
		}
		did, err := w.e.FillMailings(ctx)
		cancel()
		if i%2 == 0 {
			if err == nil {
				t.Fatal("a process that is gone has written on")
			}
			continue
		}
		w.must(err)
		if !did {
			break
		}
	}
	m, err = w.s.Mailing(w.ctx, m.ID)
	w.must(err)
	if m.State != "sending" || m.Waiting != 4301 || m.LeftCount != 0 {
		t.Errorf("%s, %d written down, %d left out", m.State, m.Waiting, m.LeftCount)
	}
}

func TestWhatKeepsAOneOffEmailBack(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.norwegian("Ana")
	good := w.newsletter(nil)
	if err := w.e.Ready(w.ctx, &good); err != nil {
		t.Fatal(err)
	}
	var draft int64
	w.tx(func(tx store.Tx) error {
		var err error
		draft, err = tx.AddMessage(w.ctx,
			store.Message{Name: "D", Doc: store.JSON[message.Document]{V: message.Simple("s", "x")}}, w.marketer, day0)
		return err
	})
	var broken int64
	w.tx(func(tx store.Tx) error {
		var err error
		broken, err = tx.SaveMessage(w.ctx,
			store.Message{Name: "B", SenderID: &w.marketer,
				Doc: store.JSON[message.Document]{V: message.Simple("s", `<a href="/p/gone">x</a>`)}}, w.marketer, day0)
		return err
	})
	for want, f := range map[string]func(*store.Mailing){
		"choose a message": func(m *store.Mailing) {
			m.Message = nil
		}, "choose an audience": func(m *store.Mailing) {
			m.Audience = nil
		}, "agreed to": func(m *store.Mailing) { m.Purpose = nil },
		"not kept yet": func(m *store.Mailing) {
			m.Message = &draft
		}, "no such page": func(m *store.Mailing) {
			m.Message = &broken
		}, "sending hours": func(m *store.Mailing) { m.Plan.V.Hours.Days[1] = nil; m.Plan.V.Hours.Zone = "Atlantis" },
		"say what is to be done": func(m *store.Mailing) { m.Acts.V = []mailing.LinkAct{{Link: 1, Act: act.Task{}}} },
		"choose the audience": func(m *store.Mailing) {
			m.Acts.V = []mailing.LinkAct{{Link: 1, Act: act.Include{}}}
		},
		"cannot be done here": func(m *store.Mailing) {
			m.Acts.V = []mailing.LinkAct{{Link: 1, Act: act.Enrol{Sequence: 1}}}
		},
	} {
		m := good
		f(&m)
		if err := w.e.Ready(w.ctx, &m); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
}

// TestProgramsGiveThemselvesAway: what comes within seconds of delivery, and
// whoever presses every link within seconds, is no person.
func TestProgramsGiveThemselvesAway(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, bo := w.norwegian("Ana"), w.norwegian("Bo")
	var msg int64
	w.tx(func(tx store.Tx) error {
		var err error
		doc := message.Simple("Three",
			`<p><a href="https://a.example/1">a</a> <a href="https://a.example/2">b</a> <a `+
				`href="https://a.example/3">c</a></p>`)
		msg, err = tx.SaveMessage(w.ctx,
			store.Message{Name: "T", Doc: store.JSON[message.Document]{V: doc}, SenderID: &w.marketer}, w.marketer,
			day0)
		return err
	})
	m := w.newsletter(func(m *store.Mailing) { m.Message = &msg })
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	w.settle()
	at := w.clock.Now()
	press := func(to string, n int) {
		t.Helper()
		touch := w.touchOf(to)
		_, _, err := w.e.Click(w.ctx, touch, n, w.e.Sign("link", touch, int64(n)), "")
		w.must(err)
	}
	marks := func(id int64) string {
		t.Helper()
		list, err := w.s.Timeline(w.ctx, store.Of(id))
		w.must(err)
		out := ""
		for _, s := range list {
			out += s.Kind.String() + " " + s.Machine + ";"
		}
		return out
	}
	w.clock.set(at.Add(2 * time.Second))
	touch := w.touchOf("ana@")
	w.must(w.e.Open(w.ctx, touch, w.e.Sign("open", touch, 0), ""))
	if got := marks(ana); got != "open within seconds of its delivery;" {
		t.Errorf("two seconds after delivery: %q", got)
	}
	w.clock.set(at.Add(time.Hour))
	press("ana@", 1)
	w.clock.set(at.Add(2 * time.Hour))
	press("ana@", 2)
	press("ana@", 3)
	if got := marks(ana); strings.Contains(got, "every link") {
		t.Errorf("two links at once and one an hour before: %q", got)
	}
	for n := 1; n <= 3; n++ {
		w.clock.set(w.clock.Now().Add(time.Second))
		press("bo@", n)
	}
	if got := marks(bo); strings.Count(got, "click pressed every link within seconds;") != 3 {
		t.Errorf("every link within seconds: %q", got)
	}
	w.settle()
	if w.score(bo) != 0 || w.score(ana) != 9 {
		t.Errorf("scores %v and %v, want 0 and 9", w.score(bo), w.score(ana))
	}
}

// TestMergedBeforeAndAfterAnEmail: whoever was to get a one-off email as two
// records gets it once when they are one by then; what went to both stays
// counted, and each merge can be taken back.
func TestMergedBeforeAndAfterAnEmail(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana, anna := w.norwegian("Ana"), w.norwegian("Anna")
	bo, boo := w.norwegian("Bo"), w.norwegian("Boo")
	m := w.newsletter(func(m *store.Mailing) { m.Plan.V.At = day0.Add(24 * time.Hour) })
	edit := message.Edit{Subject: "For Anna alone"}
	w.must(w.e.EditForOne(w.ctx, *m.Message, anna, w.marketer, &edit))
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	w.must(w.e.Visited(w.ctx, "annasbrowser0000", "https://karang.example/a", w.e.VisitToken(anna)))
	w.settle()
	batch, err := w.e.Merge(w.ctx, ana, anna, person.Values{}, w.marketer)
	w.must(err)
	browser := func(of int64) int { return w.count("select count(*) from visitor where person_id = $1", of) }
	if browser(ana) != 1 {
		t.Error("Anna’s browser is not Ana’s")
	}
	w.to(48 * time.Hour)
	if l := w.mail.Letters("ana@n.example", 10); len(l) != 1 || l[0].Subject != "For Anna alone" ||
		len(w.mail.Letters("", 10)) != 3 {
		t.Fatalf("Ana, merged with Anna, got %d letters, all of them %d", len(l), len(w.mail.Letters("", 10)))
	}
	w.must(w.e.UndoBatch(w.ctx, batch, w.marketer))
	if browser(ana) != 0 || browser(anna) != 1 {
		t.Error("Anna’s browser is not hers again")
	}
	if batch, err = w.e.Merge(w.ctx, bo, boo, person.Values{}, w.marketer); err != nil {
		t.Fatalf("merging two who both got it: %v", err)
	}
	if n := w.count("select count(*) from touch where mailing_id = $1 and person_id = $2 and state = 'sent'", m.ID,
		bo); n != 2 {
		t.Errorf("of two emails that were sent %d are Bo's", n)
	}
	w.must(w.e.UndoBatch(w.ctx, batch, w.marketer))
	w.to(96 * time.Hour)
	if n := w.count("select count(distinct person_id) from touch where mailing_id = $1 and not merged", m.ID); n != 4 ||
		len(w.mail.Letters("", 10)) != 3 {
		t.Errorf("taken back: %d readers, %d letters", n, len(w.mail.Letters("", 10)))
	}
	if x, err := w.s.PersonalEdit(w.ctx, *m.Message, anna); err != nil || x == nil || x.Subject != edit.Subject {
		t.Errorf("Anna’s words are not back: %+v, %v", x, err)
	}
}

// A link that no reader sees gives programs away: what they opened and pressed with it does not count (common practice,
// no source).
func TestTheHiddenLink(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	ana := w.fill("Ana", "ana@fjord.example")
	touch := w.touchOf("ana@")
	letter, err := w.mail.Read(w.letters("ana@")[0])
	w.must(err)
	if !strings.Contains(letter.HTML,
		`href="`+w.e.TrapURL(touch)+`" style="display:none" tabindex="-1" aria-hidden="true"`) ||
		strings.Contains(letter.Text, "/h/") {
		t.Error("the letter has no hidden link, or shows it")
	}
	seen, hidden, err := w.mail.Links(w.letters("ana@")[0])
	w.must(err)
	if len(hidden) != 1 || len(seen) == 0 {
		t.Errorf("links %v, hidden %v", seen, hidden)
	}
	counted := func() string {
		return fmt.Sprint(w.count(
			"select count(*) from signal where person_id = $1 and kind in (4, 5) and machine = ''", ana),
			w.count("select count(*) from signal where person_id = $1 and kind in (4, 5) and machine = $2", ana,
				forms.FollowedTrap))
	}
	at := func(after time.Duration) { w.clock.set(day0.Add(after)) }
	press := func() {
		_, _, err := w.e.Click(w.ctx, touch, 1, w.e.Sign("link", touch, 1), "")
		w.must(err)
	}
	at(time.Hour) // a person
	w.must(w.e.Open(w.ctx, touch, w.e.Sign("open", touch, 0), ""))
	press()
	at(2 * time.Hour) // a program: the picture, a link, the hidden one, another link
	w.must(w.e.Open(w.ctx, touch, w.e.Sign("open", touch, 0), ""))
	press()
	w.must(w.e.Trapped(w.ctx, touch, w.e.Sign("trap", touch, 0)))
	at(2*time.Hour + 30*time.Second)
	press()
	if got := counted(); got != "2 4" {
		t.Errorf("counted, and marked as a program’s: %s, want 2 4", got)
	}
	at(4 * time.Hour) // the person again
	press()
	if got := counted(); got != "3 4" {
		t.Errorf("afterwards: %s, want 3 4", got)
	}
	if err := w.e.Trapped(w.ctx, touch, w.e.Sign("open", touch, 0)); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a signature of another link: %v", err)
	}
}

// Attachments come whole, under their names, as Go's mime/multipart reads them; what was attached stays what it was
// when
// the shelf has a newer version or the item no more.
func TestAttachments(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	table := append([]byte("%PDF-1.4\n"), bytes.Repeat([]byte{0, 255, 13, 10}, 4000)...)
	i, err := w.e.Upload(w.ctx, "../limits\"by fish.pdf", table, w.marketer)
	w.must(err)
	for name, data := range map[string][]byte{"x.pdf": []byte("<html>"), "x.exe": []byte("MZ"), "x.pdf ": nil} {
		if _, err := w.e.Upload(w.ctx, name, data, w.marketer); err == nil {
			t.Errorf("%q was taken", name)
		}
	}
	var msg int64
	w.tx(func(tx store.Tx) (err error) {
		doc := message.Simple("{{ campaign.name }}: {{ shelf.item_1 }}",
			`<p>On {{ event.day }} at {{ event.time }}, {{ event.place | default: "online" }}: {{ event.title }}.</p>`)
		doc.Invite = &message.Invite{Title: "Clinic", Start: time.Date(2026, 5, 12, 12, 0, 0, 0, time.UTC), Minutes: 45}
		msg, err = tx.SaveMessage(w.ctx,
			store.Message{Name: "Table", Doc: store.JSON[message.Document]{V: doc}, SenderID: &w.marketer}, w.marketer,
			day0)
		return err
	})
	w.must(w.e.Attach(w.ctx, msg, w.marketer, i.ID))
	w.must(w.e.Attach(w.ctx, msg, w.marketer, i.ID)) // again is once
	if err := w.e.Attach(w.ctx, msg, w.marketer, 999); err == nil {
		t.Error("what is not on the shelf was attached")
	}
	w.must(w.e.KeepMessage(w.ctx, msg, w.marketer))
	_, err = w.e.SaveShelfItem(w.ctx, store.ShelfItem{ID: i.ID, Title: "Newer", Kind: "file", File: "newer.pdf"},
		[]byte("%PDF-1.4 newer"), w.marketer)
	w.must(err)
	doc := page.New("Clinic", "<p>Come.</p>", "Send")
	doc.Form.Message = msg
	p := w.newPage("clinic", doc)
	a := answers("Ana", "Strand", "ana@fjord.example", "Fjord")
	a.Values[person.Country] = "NO"
	w.comes(p, forms.Browser{}, a)
	l := w.letters("ana@")
	if len(l) != 1 {
		touches, err := w.s.TouchesOf(w.ctx, store.Of(1))
		t.Fatalf("%d letters; %+v, %v", len(l), touches, err)
	}
	// The fields of what it is sent for, of the shelf, and of the event by the reader's clock: 12:00 UTC is 14:00 in
	// Oslo.
	read, err := w.mail.Read(l[0])
	w.must(err)
	if l[0].Subject != "Clinic: Newer" ||
		!strings.Contains(read.Text, "On Tuesday 12 May 2026 at 14:00 CEST, online: Clinic.") {
		t.Errorf("%q: %s", l[0].Subject, read.Text)
	}
	source, err := w.mail.Source(l[0])
	w.must(err)
	m, err := netmail.ReadMessage(bytes.NewReader(source))
	w.must(err)
	kind, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	w.must(err)
	if kind != "multipart/mixed" {
		t.Fatalf("it is %s", kind)
	}
	found := map[string][]byte{}
	for r := multipart.NewReader(m.Body, params["boundary"]); ; {
		part, err := r.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		w.must(err)
		if part.FileName() == "" {
			continue
		}
		data, err := io.ReadAll(base64.NewDecoder(base64.StdEncoding, part))
		w.must(err)
		found[part.FileName()+" "+strings.SplitN(part.Header.Get("Content-Type"), ";", 2)[0]] = data
	}
	if got := found["limits-by fish.pdf application/pdf"]; !bytes.Equal(got, table) || len(found) != 2 {
		t.Errorf("%d files: %v", len(found), slices.Collect(maps.Keys(found)))
	}
}

// A letter by hand goes once, from whoever wrote it, and only to somebody who may be written to; what it links to tells
// who took it.
func TestByHand(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	i, err := w.e.Upload(w.ctx, "limits.pdf", []byte("%PDF-1.4"), w.marketer)
	w.must(err)
	ana, _ := w.comes(w.page, forms.Browser{}, answers("Ana", "Strand", "ana@fjord.example", "Fjord"))
	good := post.ByHand{Person: ana, Item: i.ID, Subject: "The limits you asked for",
		Text: "Dear {{ person.first_name }},\n\nhere are <the> limits.\nBy fish.", Once: "0123456789abcdef"}
	for says, change := range map[string]func(b *post.ByHand){
		"few words":      func(b *post.ByHand) { b.Text = " \n" },
		"no subject":     func(b *post.ByHand) { b.Subject = " " },
		"shoe_size":      func(b *post.ByHand) { b.Text = "{{ person.shoe_size }}" },
		"no value":       func(b *post.ByHand) { b.Text = "{{ person.city }}" },
		"shelf any more": func(b *post.ByHand) { b.Item = 99 },
		"too old":        func(b *post.ByHand) { b.Once = "" },
	} {
		b := good
		change(&b)
		if err := w.e.SendByHand(w.ctx, b, w.rep1); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, want that it says %q", err, says)
		}
	}
	for range 3 {
		w.must(w.e.SendByHand(w.ctx, good, w.rep1))
	}
	w.settle()
	l := w.letters("ana@")
	if len(l) != 1 || l[0].FromName != "Tomas Vale" || l[0].Subject != "The limits you asked for" {
		t.Fatalf("%d letters: %+v", len(l), l)
	}
	read, err := w.mail.Read(l[0])
	w.must(err)
	if !strings.Contains(read.HTML, "Dear Ana,") || !strings.Contains(read.HTML, "here are &lt;the&gt; limits.<br") ||
		!strings.Contains(read.HTML, "limits</a>") || !strings.Contains(read.Text, "Tomas Vale") {
		t.Errorf("it reads %s", read.HTML)
	}
	// It is nobody's list, and a few lines have no picture that nobody sees.
	source, err := w.mail.Source(l[0])
	w.must(err)
	if bytes.Contains(source, []byte("List-Unsubscribe")) || strings.Contains(read.HTML, "/o/") {
		t.Errorf("it looks like a list’s: %s", source)
	}
	if list, err := w.s.Messages(w.ctx); err != nil || len(list) != 2 {
		t.Errorf("letters by hand are on the list of messages: %d, %v", len(list), err)
	}
	touch := w.touchOf("ana@")
	target, _, err := w.e.Click(w.ctx, touch, 1, w.e.Sign("link", touch, 1), "")
	w.must(err)
	if !strings.HasPrefix(target, w.e.URL+fmt.Sprintf("/s/%d?k=", i.ID)) {
		t.Errorf("its link leads to %s", target)
	}
	w.must(w.e.OptOut(w.ctx, touch, w.e.Sign("opt-out", touch, 0)))
	good.Once = "fedcba9876543210"
	if err := w.e.SendByHand(w.ctx, good, w.rep1); err == nil || !strings.Contains(err.Error(), "opted out") {
		t.Errorf("to somebody who opted out: %v", err)
	}
	all, err := w.e.Everything(w.ctx, ana)
	w.must(err)
	if len(all.Letters) != 1 || len(all.Forms) != 1 {
		t.Errorf("everything about her lacks the letter or the form: %+v", all.Letters)
	}
}

// Who is walked on in a sequence while they are written to is written to after that, so that each sees the other's email
// when it asks for their rest.
func TestAOneOffEmailWaitsForWhoIsWalked(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	_, bo := w.norwegian("Ana"), w.norwegian("Bo")
	w.settle()
	m := w.newsletter(func(m *store.Mailing) { m.Plan.V.Rest = 0 })
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	locked, release := make(chan struct{}), make(chan struct{})
	var both errgroup.Group
	both.Go(func() error {
		return w.s.InTx(w.ctx, func(tx store.Tx) error {
			err := tx.LockRests(w.ctx, []int64{bo})
			close(locked)
			<-release
			return err
		})
	})
	<-locked
	both.Go(func() error {
		_, err := w.e.FillMailings(w.ctx)
		return err
	})
	waits := "select count(*) from pg_locks where locktype = 'advisory' and not granted and database = (select oid from " +
		"pg_database where datname = current_database())"
	for range 2000 {
		if w.count(waits) > 0 {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	if waiting, made := w.count(waits), w.count("select count(*) from touch where mailing_id = $1", m.ID); waiting != 1 ||
		made != 0 {
		t.Errorf("%d wait, and %d emails are there", waiting, made)
	}
	close(release)
	w.must(both.Wait())
	if made := w.count("select count(*) from touch where mailing_id = $1", m.ID); made != 2 {
		t.Errorf("%d emails were made", made)
	}
}

// Whom an email went out to, or waits to, is in rest for a one-off email; what they asked for themselves, what somebody
// wrote by hand, what was taken back and what is older does not count, as it does not for sequences.
func TestWhomAOneOffEmailLeavesInPeace(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	m := w.newsletter(func(m *store.Mailing) { m.Plan.V.Rest = 3 })
	ago := func(d time.Duration) time.Time { return w.clock.Now().Add(-d) }
	rests := map[int64]bool{}
	for i, x := range []struct {
		kind, state string
		made, done  time.Duration // before now; 0: not done
		rest        string
		rests       bool
	}{
		{"email", "sent", 5 * dayLong, 3*dayLong - time.Second, "", true},
		{"email", "sent", 5 * dayLong, 3*dayLong + time.Second, "", false},
		{"email", "ready", time.Hour, 0, "", true},
		{"email", "held", dayLong, 0, "", true},
		{"email", "ready", 4 * dayLong, 0, "", false},
		{"email", "stopped", time.Hour, 0, "", false},
		{"email", "withdrawn", time.Hour, time.Minute, "", false},
		{"email", "sent", time.Hour, time.Minute, "request = true", false},
		{"email", "sent", time.Hour, time.Minute, "once = 'by hand'", false},
		{"call", "done", time.Hour, time.Minute, "", false},
	} {
		id := w.norwegian(fmt.Sprintf("P%d", i))
		var done *time.Time
		if x.done > 0 {
			done = new(ago(x.done))
		}
		_, err := w.s.DB().ExecContext(w.ctx, `insert into touch (person_id, step, kind, state, made_at, done_at)
			values ($1, 0, $2, $3, $4, $5)`, id, x.kind, x.state, ago(x.made), done)
		w.must(err)
		if x.rest != "" {
			_, err := w.s.DB().ExecContext(w.ctx, "update touch set "+x.rest+" where person_id = $1", id)
			w.must(err)
		}
		rests[id] = x.rests
	}
	w.settle()
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	for did := true; did; {
		var err error
		did, err = w.e.FillMailings(w.ctx)
		w.must(err)
	}
	for id, rest := range rests {
		n := w.count("select count(*) from mailing_left where mailing_id = $1 and person_id = $2 and reason = 'in rest'",
			m.ID, id)
		made := w.count("select count(*) from touch where mailing_id = $1 and person_id = $2", m.ID, id)
		if rest != (n == 1) || rest == (made == 1) {
			t.Errorf("person %d is in rest: %v; left out %d, written to %d", id, rest, n, made)
		}
	}
}
