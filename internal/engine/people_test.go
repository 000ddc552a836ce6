package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/engine/post"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// TestErasedMeansErased erases somebody with everything that a person can
// have, and looks through the whole database for what tells who they were.
func TestErasedMeansErased(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Zebulon", "zebulon@fjord.example")
	w.settle()
	w.press("zebulon@fjord.example", 1)
	w.must(w.e.ChangePerson(w.ctx, p,
		person.Values{person.LastName: "Quagga", person.PhoneField: "+442079460177", person.Title: "Zookeeper"},
		w.marketer))
	w.must(w.e.AddContact(w.ctx, p, "zeb@other.example", w.marketer))
	w.must(w.e.TagPerson(w.ctx, p, "fair", w.marketer))
	w.tx(func(tx store.Tx) error {
		return tx.AddNote(w.ctx, p, w.marketer, "Zebulon asks for the price", w.clock.Now())
	})
	id, err := w.e.NewImport(w.ctx, "bad.csv", strings.NewReader("Email,Country\nzebulon@fjord.example,Atlantis\n"),
		w.marketer)
	w.must(err)
	i, err := w.s.Import(w.ctx, id)
	w.must(err)
	w.must(w.e.CheckImport(w.ctx, id, i.Options.V))
	w.must(w.e.RunBatch(w.ctx, id))
	w.audience("Fair", rule.ThingIs(rule.Tag, 1))
	w.settle()
	// Words for them alone, waiting and sent, and a browser known to be theirs.
	w.agrees(p, true)
	m := w.newsletter(nil)
	edit := message.Edit{Subject: "For Zebulon alone"}
	w.must(w.e.EditForOne(w.ctx, *m.Message, p, w.marketer, &edit))
	_, err = w.s.DB().ExecContext(w.ctx,
		"update letter l set edit = (select edit from personal_edit where person_id = $1) from touch t where "+
			"t.person_id = $1 and l.touch_id = t.id", p)
	w.must(err)
	w.must(w.e.AddSite(w.ctx, "https://karang.example"))
	w.must(w.e.Visited(w.ctx, "zebulonsbrowser0", "https://karang.example/quagga", w.e.VisitToken(p)))
	if x, err := w.e.Everything(w.ctx, p); err != nil || len(x.Words) != 1 || len(x.Browsers) != 1 ||
		!strings.Contains(fmt.Sprint(x.Signals), "/quagga") {
		t.Errorf("everything about them: %+v, %v", x, err)
	}
	// A letter by hand, a task, an answer in a form.
	w.must(w.e.SendByHand(w.ctx,
		post.ByHand{Person: p, Subject: "For Zebulon", Text: "Dear Zebulon Quagga", Once: "0123456789abcdef"}, w.rep1))
	w.settle()
	w.tx(func(tx store.Tx) error {
		return tx.AddTasks(w.ctx,
			[]store.NewTask{{Person: p, Words: "Call Zebulon", How: "by hand", At: w.clock.Now()}}, time.UTC)
	})
	sent := w.count("select count(*) from touch")
	signals := w.count("select count(*) from signal where person_id = $1", p)
	w.must(w.e.Erase(w.ctx, p))
	w.settle()
	// Everything there is, as text.
	rows, err := w.s.DB().QueryContext(w.ctx,
		"select table_name from information_schema.tables where table_schema = 'public' and table_type = 'BASE "+
			"TABLE' and table_name not like 'river%'")
	w.must(err)
	var tables []string
	for rows.Next() {
		var name string
		w.must(rows.Scan(&name))
		tables = append(tables, name)
	}
	w.must(rows.Err())
	for _, name := range tables {
		for _, word := range []string{"zebulon", "quagga", "zeb@other", "2079460177", "zookeeper"} {
			if n := w.count("select count(*) from "+name+" x where lower(x::text) like $1", "%"+word+"%"); n > 0 {
				t.Errorf("%s still says %q in %d rows", name, word, n)
			}
		}
	}
	if w.count("select count(*) from touch") != sent ||
		w.count("select count(*) from signal where person_id = $1", p) != signals {
		t.Error("counts of what was sent and done have changed")
	}
	if w.count("select count(*) from never_again") != 2 {
		t.Error("the hashed addresses are not kept")
	}
	// A list does not bring them back; they themselves do.
	w.meet(store.NewPerson{Email: "other@fjord.example"})
	again := w.bring("list.csv", []byte("Email\nzebulon@fjord.example\nnew@fjord.example\n"), nil)
	list, err := w.s.Rejects(w.ctx, again, false, 0, 5)
	w.must(err)
	if len(list) != 1 || !strings.Contains(list[0].Reason, "asked to be erased") {
		t.Errorf("brought in again: %+v", list)
	}
	back := w.fill("Zebulon", "zebulon@fjord.example")
	third := w.bring("list.csv", []byte("Email,City\nzebulon@fjord.example,Oban\n"), nil)
	if list, err = w.s.Rejects(w.ctx, third, false, 0, 5); err != nil || len(list) != 0 {
		t.Errorf("come back by themselves, a list may not say more of them: %+v, %v", list, err)
	}
	if who, err := w.s.Person(w.ctx, back); err != nil || who.City != "Oban" || who.DoNotContact {
		t.Errorf("come back: %q, do not contact %v, %v", who.City, who.DoNotContact, err)
	}
}

func TestMergesAndTheirUndo(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	a := w.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", City: "Bergen"})
	b := w.fill("Ana", "ana.s@fjord.example")
	w.settle()
	w.clicks(b, w.clock.Now())
	w.must(w.e.TagPerson(w.ctx, b, "fair", w.marketer))
	w.tx(func(tx store.Tx) error {
		if err := tx.SetConsent(w.ctx, 1, a, true, "x", store.Author{How: "by hand", At: day0}); err != nil {
			return err
		}
		return tx.SetConsent(w.ctx, 1, b, false, "y", store.Author{How: "by hand", At: day0.Add(time.Hour)})
	})
	w.tx(func(tx store.Tx) error {
		return tx.AddTasks(w.ctx, []store.NewTask{{Person: b, Words: "Call", How: "by hand", At: day0}}, time.UTC)
	})
	w.must(w.e.SendByHand(w.ctx, post.ByHand{Person: b, Subject: "For you", Text: "Dear Ana", Once: "0123456789abcdef"},
		w.rep1))
	w.settle()
	state := func() string {
		var all []string
		for _, id := range []int64{a, b} {
			x, err := w.e.Everything(w.ctx, id)
			if err != nil {
				all = append(all, err.Error())
				continue
			}
			all = append(all,
				fmt.Sprint(x.Record, x.Also, x.Tags, len(x.Signals), len(x.Touches), len(x.Sequences), len(x.Consents),
					len(x.Forms), len(x.Tasks), len(x.Letters), x.Score))
		}
		return strings.Join(all, "\n")
	}
	before := state()
	batch, err := w.e.Merge(w.ctx, a, b, person.Values{person.EmailField: "ana.s@fjord.example"}, w.marketer)
	w.must(err)
	w.settle()
	p, err := w.s.Person(w.ctx, a)
	w.must(err)
	if x, err := w.e.Everything(w.ctx, a); err != nil || len(x.Forms) != 1 || len(x.Tasks) != 1 || len(x.Letters) != 1 {
		t.Errorf("forms, tasks and letters of the one that went: %d, %d, %d, %v", len(x.Forms), len(x.Tasks),
			len(x.Letters), err)
	}
	if p.Email != "ana.s@fjord.example" || p.City != "Bergen" || p.Score == 0 {
		t.Errorf("merged: %q, %q, score %g", p.Email, p.City, p.Score)
	}
	if w.count("select count(*) from consent where person_id = $1 and current and given", a) != 0 ||
		w.count("select count(*) from consent where person_id = $1 and current", a) != 1 {
		t.Error("of two consents the later one does not stand")
	}
	if who, err := w.s.PersonByEmail(w.ctx, "ana@fjord.example"); err != nil || who.ID != a {
		t.Errorf("the other address leads to %d, %v", who.ID, err)
	}
	w.must(w.e.UndoBatch(w.ctx, batch, w.marketer))
	w.settle()
	if after := state(); after != before {
		t.Errorf("undone:\n%s\nwas\n%s", after, before)
	}
	// Two open deals are two deals.
	for _, id := range []int64{a, b} {
		w.must(w.e.HandOver(w.ctx, id))
		h, err := w.s.HandoffsOf(w.ctx, store.Of(id))
		w.must(err)
		_, err = w.e.Accept(w.ctx, h[0].ID, *h[0].Rep)
		w.must(err)
	}
	if _, err := w.e.Merge(w.ctx, a, b, nil, w.marketer); !errors.Is(err, store.ErrTwoDeals) {
		t.Errorf("two open deals: %v", err)
	}
	if _, err := w.e.Merge(w.ctx, a, a, nil, w.marketer); err == nil {
		t.Error("a record was merged into itself")
	}
}

// TestNobodyWithoutAnAddressIsSentTo brings people in by telephone number alone.
func TestNobodyWithoutAnAddressIsSentTo(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	w.bring("calls.csv",
		[]byte("First name,Last name,Phone\nAna,Strand,+44 20 7946 0101\nAna,Strand,+44 20 7946 0102\nBo,Vik,+44 20 "+
			"7946 0101\n"), nil)
	if n := w.count("select count(*) from person where email = ''"); n != 3 {
		t.Fatalf("%d people without an address, want 3: a number can be shared", n)
	}
	again := w.bring("calls.csv", []byte("First name,Last name,Phone,City\nAna,STRAND,+44 20 7946 0102,Oban\n"), nil)
	if i, err := w.s.Import(w.ctx, again); err != nil || i.Counts.V.Updated != 1 {
		t.Errorf("by number and last name somebody is not found again: %+v, %v", i.Counts.V, err)
	}
	first := int64(w.count("select min(id) from person"))
	w.tx(func(tx store.Tx) error {
		q, err := tx.RunningSequence(w.ctx, w.seq)
		if err != nil {
			return err
		}
		_, err = tx.Enrol(w.ctx, &q, []int64{first}, w.clock.Now())
		return err
	})
	w.settle()
	if n := w.count("select count(*) from touch where person_id = $1 ", first); n != 0 {
		t.Error("an email to nobody was made")
	}
	// They can be called: the sequence passes its email over and goes on.
	if n := w.count("select count(*) from enrolment_log l join enrolment e on e.id = l.enrolment_id where "+
		"e.person_id = $1 and l.step = $2 and l.exit = 'next' and l.reason = 'passed over: no address'", first,
		w.email); n != 1 {
		t.Error("the log does not say that it was passed over")
	}
}
