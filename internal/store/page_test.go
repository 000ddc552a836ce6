package store_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// page keeps a page at an address.
func (k kept) page(slug string) int64 {
	k.t.Helper()
	var id int64
	k.tx(func(tx store.Tx) (err error) {
		id, err = tx.SavePage(k.ctx,
			store.Page{Slug: slug, Doc: store.JSON[page.Document]{V: page.New("A", "<p>a</p>", "Send")},
				Published: true}, nil, at)
		return err
	})
	return id
}

// A page's draft goes back and on by its steps; edits of one thing in a row are one step, and the first of very many
// go.
func TestDraftsOfAPage(t *testing.T) {
	k := open(t)
	id := k.page("guide")
	when := at
	edit := func(what, title string) {
		t.Helper()
		k.tx(func(tx store.Tx) error {
			return tx.EditPage(k.ctx, id, 0, what, when, func(d *page.Document) error { d.Title = title; return nil })
		})
	}
	shows := func(title string, undo, redo bool) {
		t.Helper()
		d, err := k.PageDraft(k.ctx, id)
		k.must(err)
		if d.Doc.V.Title != title || d.CanUndo != undo || d.CanRedo != redo {
			t.Errorf("%q, undo %v, redo %v; want %q, %v, %v", d.Doc.V.Title, d.CanUndo, d.CanRedo, title, undo, redo)
		}
	}
	move := func(by int, want bool) {
		t.Helper()
		k.tx(func(tx store.Tx) error {
			ok, err := tx.MovePageDraft(k.ctx, id, by)
			if err == nil && ok != want {
				t.Errorf("moved by %d: %v", by, ok)
			}
			return err
		})
	}
	shows("A", false, false)
	edit("title", "B")
	when = when.Add(5 * time.Second)
	edit("title", "C") // still the same step
	shows("C", true, false)
	edit("blocks", "D")
	move(-1, true)
	shows("C", true, true)
	move(-1, true)
	shows("A", false, true)
	move(-1, false)
	move(1, true)
	shows("C", true, true)
	when = when.Add(time.Minute)
	edit("title", "E") // what was undone is gone
	shows("E", true, false)
	for n := range 230 {
		when = when.Add(time.Minute)
		edit("title", fmt.Sprint("F", n))
	}
	var n int
	k.must(k.DB().QueryRow("select count(*) from page_draft").Scan(&n))
	if n < 200 || n > 203 {
		t.Errorf("%d states are kept of 232", n)
	}
	p, err := k.Page(k.ctx, id)
	k.must(err)
	if p.Title != "A" || p.Doc.V.Title != "A" || !p.Open {
		t.Errorf("visitors see %q", p.Doc.V.Title)
	}
	// One that fails changes nothing.
	err = k.InTx(k.ctx, func(tx store.Tx) error {
		return tx.EditPage(k.ctx, id, 0, "x", when, func(d *page.Document) error {
			d.Title = "X"
			return store.ErrOver
		})
	})
	if err == nil {
		t.Error("an edit that failed did not")
	}
	shows("F229", true, false)
}

// How far visitors came is counted by day of a zone, by campaign tag and by site.
func TestHowFarVisitorsCame(t *testing.T) {
	k := open(t)
	id, other := k.page("guide"), k.page("other")
	visit := func(of int64, source, site string, after time.Duration) int64 {
		t.Helper()
		v, err := k.PageVisit(k.ctx, of, source, site, at.Add(after))
		k.must(err)
		return v
	}
	a, b := visit(id, "letter", "", 0), visit(id, "letter", "", 15*time.Hour) // 00:20 the next day in Oslo
	c, d := visit(id, "", "https://karang.example", time.Hour), visit(other, "letter", "", 0)
	for _, v := range []int64{a, b, b} {
		k.must(k.StartForm(k.ctx, v, at.Add(time.Minute)))
	}
	finish := func(of, v int64, want bool) {
		t.Helper()
		err := k.InTx(k.ctx, func(tx store.Tx) error {
			shown, err := tx.FinishVisit(k.ctx, of, v, at.Add(2*time.Minute))
			if err == nil && v == a && !shown.Equal(at) {
				t.Errorf("it was shown at %v", shown)
			}
			return err
		})
		if (err == nil) != want {
			t.Errorf("visit %d of page %d: %v", v, of, err)
		}
	}
	finish(id, a, true)
	finish(id, a, false) // once
	finish(id, d, false) // another page's
	finish(id, c, true)  // who never began by our count has begun
	p, err := k.Page(k.ctx, id)
	k.must(err)
	if p.Visits != 3 || p.Started != 3 || p.Finished != 2 {
		t.Errorf("%d visits, %d began, %d filled in", p.Visits, p.Started, p.Finished)
	}
	days, err := k.PageDays(k.ctx, id, at.AddDate(0, 0, -1), "Europe/Oslo")
	k.must(err)
	if len(days) != 2 || days[0].Visits != 2 || days[0].Finished != 2 || days[1].Visits != 1 ||
		days[1].Day.Day() != 15 {
		t.Errorf("by day: %+v", days)
	}
	sources, err := k.PageSources(k.ctx, id, 10)
	k.must(err)
	if got := fmt.Sprint(sources); got != "[{letter  2 2 1} { https://karang.example 1 1 1}]" {
		t.Errorf("by source: %s", got)
	}
}

// The email that a form asked for is made once within the time, for each page and person.
func TestTheEmailOfAForm(t *testing.T) {
	k := open(t)
	ines := k.user("ines", "marketer")
	var msg, draft int64
	k.tx(func(tx store.Tx) (err error) {
		m := store.Message{Name: "M", Doc: store.JSON[message.Document]{V: message.Simple("s", "<p>x</p>")},
			SenderID: &ines}
		if msg, err = tx.SaveMessage(k.ctx, m, ines, at); err != nil {
			return err
		}
		draft, err = tx.AddMessage(k.ctx, m, ines, at)
		return err
	})
	one, two := k.page("one"), k.page("two")
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	ben, _ := k.meet(store.NewPerson{First: "Ben", Email: "ben@kelp.example"})
	for _, c := range []struct {
		what           string
		who, page, msg int64
		after          time.Duration
		want           bool
	}{
		{"the first time", ana, one, msg, 0, true},
		{"again", ana, one, msg, 23 * time.Hour, false},
		{"another page", ana, two, msg, time.Minute, true},
		{"another person", ben, one, msg, time.Minute, true},
		{"the day after", ana, one, msg, 25 * time.Hour, true},
		{"a message that was never kept", ben, two, draft, time.Minute, false},
		{"a message that is not there", ben, two, 999, time.Minute, false},
	} {
		k.tx(func(tx store.Tx) error {
			a, err := tx.AddAnswer(k.ctx, store.Answer{Page: c.page, Person: c.who, At: at.Add(c.after)})
			if err != nil {
				return err
			}
			got, err := tx.MailAnswer(k.ctx, a, c.who, c.page, c.msg, 24*time.Hour, at.Add(c.after))
			if got != c.want {
				t.Errorf("%s: %v", c.what, got)
			}
			return err
		})
	}
}

// What one browser answered is known again by the chain of its answers or by its name, the newest first, and what waits
// for an address to prove itself is done once.
func TestAnswersOfABrowser(t *testing.T) {
	k := open(t)
	id := k.page("guide")
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	answer := func(chain int64, visitor, title string) (n int64) {
		k.tx(func(tx store.Tx) (err error) {
			a := store.Answer{Page: id, Person: ana, At: at, Chain: chain, Visitor: visitor}
			a.Answers.V = person.Values{person.Title: title}
			a.Consents.V = []page.Given{{Purpose: 1, Words: "Yes."}}
			a.Acts.V = []act.Kept{{Act: act.Tag{Name: "x"}}}
			n, err = tx.AddAnswer(k.ctx, a)
			return err
		})
		return n
	}
	first := answer(0, "", "one")
	answer(first, "", "two")
	answer(0, "", "of another browser")
	answer(0, "0123456789abcdef", "three")
	said := func(chain int64, visitor string) string {
		list, err := k.BrowserAnswers(k.ctx, chain, visitor)
		k.must(err)
		var out []string
		for _, a := range list {
			out = append(out, a.Answers.V[person.Title])
		}
		return strings.Join(out, " ")
	}
	for want, got := range map[string]string{"two one": said(first, ""), "three": said(0, "0123456789abcdef"),
		"three two one": said(first, "0123456789abcdef"), "": said(0, "")} {
		if got != want {
			t.Errorf("a browser said %q, want %q", got, want)
		}
	}
	for n := range 2 {
		err := k.InTx(k.ctx, func(tx store.Tx) error {
			list, err := tx.ProveAnswers(k.ctx, first, at.Add(time.Hour))
			// all that she answered on this page, and nothing the second time
			if want := []int{4, 0}[n]; len(list) != want {
				t.Errorf("the %d. time %d are proved, want %d", n+1, len(list), want)
			}
			for _, a := range list {
				if a.Person != ana || a.Title != "A" || len(a.Acts.V) != 1 || len(a.Consents.V) != 1 ||
					a.Proved == nil {
					t.Errorf("proved: %+v", a)
				}
			}
			return err
		})
		k.must(err)
	}
	list, err := k.PageAnswers(k.ctx, id, 2)
	k.must(err)
	if len(list) != 2 || list[0].First != "Ana" || list[0].ID < list[1].ID {
		t.Errorf("the last two: %+v", list)
	}
}

// Pages that were there before pages had blocks become pages of one text that ask what they asked, and what was seen
// and
// filled in is counted on; the way back loses no page.
func TestPagesOfBeforeMoveIn(t *testing.T) {
	k := open(t)
	run := k.run
	k.page("kept")
	forward := k.before(14)
	run(`update page set title = 'Alarms', intro = '<p>Read “this”.</p>', button = 'Send', thanks = 'Thanks.', offer ` +
		`= 'Field guide'`)
	run(`insert into page (slug, title, button, updated_at) values ('bare', 'Bare', 'Go', now())`)
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	sig := func(kind signal.Kind, after time.Duration) {
		t.Helper()
		_, err := k.DB().ExecContext(k.ctx, "insert into signal (person_id, at, kind, page_id) values ($1, $2, $3, 1)", ana,
			at.Add(after), int16(kind))
		k.must(err)
	}
	sig(signal.PageView, 0)
	sig(signal.Form, time.Minute)
	sig(signal.PageView, 50*time.Hour)
	forward()
	p, err := k.PageBySlug(k.ctx, "kept")
	k.must(err)
	d := p.Doc.V
	if d.Title != "Alarms" || len(d.Blocks) != 1 || d.Blocks[0].Content.Text != "<p>Read “this”.</p>" ||
		d.Form.Button != "Send" || d.Form.Thanks != "Thanks." || d.Form.Title != "Field guide" ||
		len(d.Form.Questions) != 4 || !d.Form.Questions[3].Must {
		t.Errorf("moved in as %+v", d)
	}
	if err := d.Check(person.Define); err != nil {
		t.Errorf("it could not be published: %v", err)
	}
	if p, err = k.Page(k.ctx, p.ID); err != nil || p.Visits != 2 || p.Finished != 1 {
		t.Errorf("%d visits, %d filled in, %v; want 2 and 1", p.Visits, p.Finished, err)
	}
	if p, err = k.PageBySlug(k.ctx, "bare"); err != nil || len(p.Doc.V.Blocks) != 0 || p.Doc.V.Form.Button != "Go" {
		t.Errorf("a page without words: %+v, %v", p.Doc.V, err)
	}
}
