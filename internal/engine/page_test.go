package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/mailing"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/forms"
	"ombak/internal/engine/people"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// kept are acts as a document keeps them.
func kept(acts []act.Act) (out []act.Kept) {
	for _, a := range acts {
		out = append(out, act.Kept{Act: a})
	}
	return out
}

// clinic publishes a page whose form sends an email of its own, and after which something follows.
func (w *world) clinic(proved bool, acts ...act.Act) store.Page {
	w.t.Helper()
	var msg int64
	w.tx(func(tx store.Tx) (err error) {
		msg, err = tx.SaveMessage(w.ctx,
			store.Message{Name: "Your place",
				Doc: store.JSON[message.Document]{V: message.Simple("Your place, {{ person.first_name | default: "+
					"\"reader\" }}", `<p>Press <a href="/p/alarms">here</a>.</p>`)}, SenderID: &w.marketer}, w.marketer,
			day0)
		return err
	})
	doc := page.New("Clinic", "<p>Come.</p>", "Keep me a place").WithLadder(person.Title, person.Country)
	doc.Form.Message, doc.Form.Proved, doc.Form.Acts = msg, proved, kept(acts)
	doc.Form.Consents = []page.Consent{{Purpose: 1, Words: "Invite me again."}}
	return w.newPage("clinic", doc)
}

// comes has a browser fill the form in; it answers who it is and the browser's token.
func (w *world) comes(p store.Page, b forms.Browser, a page.Answers) (int64, string) {
	w.t.Helper()
	view, err := w.e.Show(w.ctx, p, "trade letter", "")
	w.must(err)
	id, token, err := w.e.FormFilled(w.ctx, p, forms.Filled{Answers: a, Visit: view, Browser: b})
	w.must(err)
	w.settle()
	return id, token
}

func (w *world) browser(token string) forms.Browser {
	w.t.Helper()
	b, err := w.e.Browser(w.ctx, token, "")
	w.must(err)
	return b
}

// What a form leads to waits until its visitor has pressed the link that came to the address; then it is done once.
func TestAnAddressProvesItself(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.clinic(true, act.Tag{Name: "clinic"}, act.Task{Words: "Ask which sensor"},
		act.Alert{Words: "A place was taken", To: w.marketer},
		act.Assign{}, act.Enrol{Sequence: w.seq}, act.Enrol{Sequence: 999})
	a := answers("Ana", "Strand", "ana@fjord.example", "Fjord Farms")
	a.Consents = []page.Given{{Purpose: 1, Words: "Invite me again."}}
	ana, _ := w.comes(p, forms.Browser{}, a)
	done := func() string {
		return fmt.Sprint(w.count("select count(*) from person_tag where person_id = $1", ana),
			w.count("select count(*) from task where person_id = $1", ana),
			w.count("select count(*) from consent where person_id = $1 and given and current", ana),
			w.count("select count(*) from enrolment where person_id = $1", ana),
			w.count("select count(*) from person where id = $1 and owner_id is not null", ana))
	}
	if got := done(); got != "0 0 0 0 0" {
		t.Errorf("before the address proved itself there are tags, tasks, consents, enrolments, owners: %s", got)
	}
	if l := w.letters("ana@"); len(l) != 1 || l[0].Subject != "Your place, Ana" {
		t.Fatalf("what was asked for did not come: %v", l)
	}
	// A program that looks at every link proves nothing.
	touch := w.touchOf("ana@")
	_, _, err := w.e.Click(w.ctx, touch, 1, w.e.Sign("link", touch, 1), "names itself a machine")
	w.must(err)
	if got := done(); got != "0 0 0 0 0" {
		t.Errorf("a machine’s press proved the address: %s", got)
	}
	w.clock.set(w.clock.Now().Add(time.Hour))
	for range 2 {
		_, _, err = w.e.Click(w.ctx, touch, 1, w.e.Sign("link", touch, 1), "")
		w.must(err)
	}
	if got := done(); got != "1 2 1 1 1" {
		t.Errorf("afterwards: %s, want 1 2 1 1 1", got)
	}
	said, err := w.s.PersonConsents(w.ctx, ana)
	w.must(err)
	if len(said) != 1 || !strings.Contains(said[0].Ground, "Invite me again.") ||
		!strings.Contains(said[0].Ground, "pressed the link") || !strings.Contains(said[0].How, "Clinic") {
		t.Errorf("the consent says %+v", said)
	}
	// The owner is the rep whose turn it was, and has the task, whichever was asked for first.
	tasks, err := w.s.OpenTasks(w.ctx, w.rep1, false, w.clock.Now())
	w.must(err)
	if len(tasks) != 1 || tasks[0].User == nil || *tasks[0].User != w.rep1 || tasks[0].Words != "Ask which sensor" ||
		!strings.Contains(tasks[0].How, "by form “Clinic”") {
		t.Errorf("the task: %+v", tasks)
	}
	alerts, err := w.s.OpenTasks(w.ctx, w.marketer, true, w.clock.Now())
	w.must(err)
	if len(alerts) != 1 || alerts[0].UserName != "Ines Radu" {
		t.Errorf("the alert: %+v", alerts)
	}
	if list, err := w.s.OpenTasks(w.ctx, w.rep1, true, w.clock.Now()); err != nil || len(list) != 0 {
		t.Errorf("somebody else is told: %v, %v", list, err)
	}
	// Done once, and taken back.
	if _, err := w.e.FinishTask(w.ctx, tasks[0].ID, w.rep1, "An optical one"); err != nil {
		t.Fatal(err)
	}
	if _, err := w.e.FinishTask(w.ctx, tasks[0].ID, w.rep2, ""); !errors.Is(err, base.ErrGone) {
		t.Errorf("a task that is done was done again: %v", err)
	}
	w.must(w.e.ReopenTask(w.ctx, []int64{tasks[0].ID}, w.rep2))
	if w.count("select count(*) from task where done_at is not null and not alert") != 1 {
		t.Error("somebody took back what another did")
	}
	w.must(w.e.ReopenTask(w.ctx, []int64{tasks[0].ID}, w.rep1))
	seen, err := w.e.SeeAlerts(w.ctx, []int64{alerts[0].ID, tasks[0].ID}, w.marketer)
	w.must(err)
	if len(seen) != 1 || w.count("select count(*) from task where done_at is null") != 1 {
		t.Errorf("seen: %v", seen)
	}
	// She asks again on the same day, from another browser: no second email, and the link of the first one proves this
	// too.
	a.Consents = []page.Given{{Purpose: 2, Words: "And by telephone."}}
	w.tx(func(tx store.Tx) error { _, err := tx.AddPurpose(w.ctx, "Telephone"); return err })
	_, _, err = w.e.FormFilled(w.ctx, p, forms.Filled{Answers: a})
	w.must(err)
	w.settle()
	if w.count("select count(*) from page_answer where proved_at is null") != 1 ||
		w.count("select count(*) from touch where answer_id is not null") != 1 {
		t.Error("the second time is proved already, or a second email came")
	}
	w.clock.set(w.clock.Now().Add(time.Hour))
	_, _, err = w.e.Click(w.ctx, touch, 1, w.e.Sign("link", touch, 1), "")
	w.must(err)
	if w.count("select count(*) from page_answer where proved_at is null") != 0 ||
		w.count("select count(*) from consent where person_id = $1 and given and current", ana) != 2 {
		t.Error("pressing the link again did not prove it")
	}
	// The figures, and who is behind them.
	got, err := w.s.Page(w.ctx, p.ID)
	w.must(err)
	sources, err := w.s.PageSources(w.ctx, p.ID, 5)
	w.must(err)
	if got.Visits != 1 || got.Started != 1 || got.Finished != 1 || len(sources) != 1 ||
		sources[0].Source != "trade letter" {
		t.Errorf("%d visits, %d began, %d filled in; %v", got.Visits, got.Started, got.Finished, sources)
	}
}

// Whoever opted out of all mail and agrees anew gets what they agree to now, and nothing else; somebody who only claims
// to be them changes nothing.
func TestAgreeingAnew(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.tx(func(tx store.Tx) error { _, err := tx.AddPurpose(w.ctx, "Telephone"); return err })
	p := w.clinic(false)
	open := w.newPage("open", page.New("Open", "<p>x</p>", "Send"))
	a := answers("Ana", "Strand", "ana@fjord.example", "Fjord")
	ana, _ := w.comes(p, forms.Browser{}, a)
	w.agrees(ana, true) // to purpose 1
	touch := w.touchOf("ana@")
	w.must(w.e.OptOut(w.ctx, touch, w.e.Sign("opt-out", touch, 0)))
	w.settle()
	state := func() string {
		return fmt.Sprint(w.count("select count(*) from person where opted_out_at is not null"),
			w.count("select count(*) from consent where current and given and purpose_id = 1"),
			w.count("select count(*) from consent where current and given and purpose_id = 2"))
	}
	if got := state(); got != "1 1 0" {
		t.Fatalf("after opting out: %s", got)
	}
	a.Consents = []page.Given{{Purpose: 2, Words: "Call me."}}
	w.comes(open, forms.Browser{}, a) // anybody can type her address
	if got := state(); got != "1 1 1" {
		t.Errorf("a claim made of it %s", got)
	}
	w.comes(open, w.browser(w.e.ReaderToken(ana)).For("ana@fjord.example"), a)
	if got := state(); got != "0 0 1" {
		t.Errorf("her own word made of it %s: opted out, agrees to 1, agrees to 2", got)
	}
	said, err := w.s.PersonConsents(w.ctx, ana)
	w.must(err)
	found := false
	for _, c := range said {
		found = found || c.PurposeID == 1 && !c.Given && strings.Contains(c.Ground, "opted out of all mail")
	}
	if !found {
		t.Errorf("why she gets no more of the other is not kept: %+v", said)
	}
}

// A message that a page or a one-off email sends is not taken away, and knows what does.
func TestWhatSendsAMessage(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := w.clinic(false)
	use, err := w.s.MessageUse(w.ctx, p.Doc.V.Form.Message)
	w.must(err)
	if len(use) != 1 || use[0].Kind != "page" || use[0].Name != "Clinic" {
		t.Errorf("it is used by %+v", use)
	}
	if err := w.e.RemoveMessage(w.ctx, p.Doc.V.Form.Message, false); !errors.Is(err, people.ErrInUse) {
		t.Errorf("it was taken away: %v", err)
	}
	w.norwegian("Ana")
	m := w.newsletter(nil)
	use, err = w.s.MessageUse(w.ctx, *m.Message)
	w.must(err)
	if len(use) != 1 || use[0].Kind != "one-off email" {
		t.Errorf("the newsletter’s is used by %+v", use)
	}
	if use, err = w.s.MessageUse(w.ctx, w.first); err != nil || len(use) != 1 || use[0].Kind != "sequence" {
		t.Errorf("the sequence’s is used by %+v, %v", use, err)
	}
}

// An email that somebody asked for by a form is no reason to rest; one that nobody asked for is.
func TestWhatWasAskedForRestsNobody(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := w.clinic(false)
	ana, ben := w.norwegian("Ana"), w.norwegian("Ben")
	w.comes(p, forms.Browser{}, answers("Ana", "Strand", "ana@n.example", "Fjord"))
	plan := w.plan(&sequence.Email{Message: w.first})
	plan.LaunchHold = false
	w.enters(w.running("One email", plan), ben)
	w.settle()
	if len(w.letters("ana@")) != 1 || len(w.letters("ben@")) != 1 {
		t.Fatal("they got no letters")
	}
	m := w.newsletter(nil)
	reach, err := w.e.Reach(w.ctx, &m)
	w.must(err)
	if reach.Will != 1 || reach.Not[mailing.InRest] != 1 {
		t.Errorf("the newsletter reaches %d, %v in rest", reach.Will, reach.Not)
	}
	w.must(w.e.LaunchMailing(w.ctx, m.ID))
	w.to(dayLong)
	if len(w.letters("ana@")) != 2 || len(w.letters("ben@")) != 1 {
		t.Errorf("Ana (%d) has %d letters, Ben %d", ana, len(w.letters("ana@")), len(w.letters("ben@")))
	}
}

// Whoever asks twice in a day gets one email, and another the day after.
func TestAskedForTwice(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := w.clinic(false, act.Tag{Name: "clinic"})
	for range 3 {
		w.comes(p, forms.Browser{}, answers("Ana", "Strand", "ana@fjord.example", "Fjord"))
	}
	if n := len(w.letters("ana@")); n != 1 {
		t.Errorf("%d letters came for three requests in a day", n)
	}
	w.clock.set(day0.Add(25 * time.Hour))
	w.comes(p, forms.Browser{}, answers("Ana", "Strand", "ana@fjord.example", "Fjord"))
	if n := len(w.letters("ana@")); n != 2 {
		t.Errorf("%d letters after asking again the next day, want 2", n)
	}
	if w.count("select count(*) from person_tag") != 1 {
		t.Error("what follows at once was not done")
	}
	// Who opted out gets what they ask for; who must not be contacted does not.
	who, _ := w.comes(p, forms.Browser{}, answers("Ben", "Moe", "ben@kelp.example", "Kelp"))
	for _, x := range []struct {
		set  string
		want int
	}{{"opted_out_at = now()", 2}, {"do_not_contact = true", 2}} {
		_, err := w.s.DB().ExecContext(w.ctx, "update person set "+x.set+" where id = $1", who)
		w.must(err)
		w.clock.set(w.clock.Now().Add(25 * time.Hour))
		w.comes(p, forms.Browser{}, answers("Ben", "Moe", "ben@kelp.example", "Kelp"))
		if n := len(w.letters("ben@")); n != x.want {
			t.Errorf("%s: %d letters, want %d", x.set, n, x.want)
		}
	}
	if w.count("select count(*) from touch where state = 'withdrawn' and trouble = 'do not contact'") != 1 {
		t.Error("why nothing went out is not kept")
	}
}

// Whoever only claims to be somebody learns nothing about them and changes nothing; whoever pressed a link does.
func TestAClaimChangesNothing(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := w.clinic(false)
	a := answers("Ana", "Strand", "ana@fjord.example", "Fjord")
	a.Values[person.Title] = "Site manager"
	a.Hidden = person.Values{person.Campaign: "spring"}
	ana, token := w.comes(p, forms.Browser{}, a)
	if b := w.browser(token); b.Person != ana || b.Proven || b.Known[person.Title] != "Site manager" {
		t.Errorf("her own browser: %+v", b)
	}
	// Another browser, that types her address.
	b := answers("Anna", "Strand-Lie", "ana@fjord.example", "Elsewhere")
	b.Values[person.Title], b.Values[person.Country] = "Owner", "NO"
	b.Hidden = person.Values{person.Campaign: "autumn", person.Medium: "post"}
	id, other := w.comes(p, forms.Browser{}, b)
	if x := w.browser(other); id != ana || x.Known[person.Title] != "Owner" || x.Known[person.FirstName] != "Anna" {
		t.Errorf("the other browser is told what it did not say itself: %+v", x)
	}
	who := func() string {
		p, err := w.s.Person(w.ctx, ana)
		w.must(err)
		return strings.Join([]string{p.First, p.Last, p.Company, p.Title, p.Country, p.Campaign, p.Medium, p.Source},
			"|")
	}
	if got := who(); got != "Ana|Strand|Fjord|Site manager|NO|spring|post|page clinic" {
		t.Errorf("a claim changed her record: %s", got)
	}
	// She herself, in the browser in which she pressed a link.
	proven := w.browser(w.e.ReaderToken(ana))
	if !proven.Proven || proven.Known[person.Country] != "NO" {
		t.Errorf("her browser: %+v", proven)
	}
	if x := proven.For("ben@kelp.example"); x.Person != 0 || x.Known != nil || x.Proven {
		t.Errorf("with another address: %+v", x)
	}
	w.comes(p, proven.For(" Ana@Fjord.example"), b)
	if got := who(); got != "Anna|Strand-Lie|Fjord|Owner|NO|spring|post|page clinic" {
		t.Errorf("her own word did not stand: %s", got)
	}
	if x := w.browser(""); x.Person != 0 || x.Known != nil {
		t.Errorf("nobody: %+v", x)
	}
}

func TestWhatKeepsAPageFromVisitors(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	id, err := w.e.NewPage(w.ctx, "  Ålesund: the déjà vu clinic! ", w.marketer)
	w.must(err)
	second, err := w.e.NewPage(w.ctx, "Ålesund: the déjà vu clinic!", w.marketer)
	w.must(err)
	p, err := w.s.Page(w.ctx, id)
	w.must(err)
	q, err := w.s.Page(w.ctx, second)
	w.must(err)
	if p.Slug != "alesund-the-deja-vu-clinic" || q.Slug != "alesund-the-deja-vu-clinic-2" || p.Published {
		t.Errorf("begun at %s and %s, published %v", p.Slug, q.Slug, p.Published)
	}
	if _, err := w.e.NewPage(w.ctx, " ", w.marketer); err == nil {
		t.Error("a page without a title was begun")
	}
	edit := func(f func(*page.Document)) {
		w.must(w.e.EditPage(w.ctx, id, w.marketer, fmt.Sprint(w.clock.Now()), func(d *page.Document) error {
			f(d)
			return nil
		}))
		w.clock.set(w.clock.Now().Add(time.Minute))
	}
	refused := func(says string) {
		t.Helper()
		if err := w.e.PublishPage(w.ctx, id); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("published: %v, want that it says %q", err, says)
		}
	}
	refused("the text is empty")
	edit(func(d *page.Document) { d.Blocks[0].Content.Text = "<p>Come.</p>" })
	for says, f := range map[string]func(*page.Form){
		"not there any more":     func(f *page.Form) { f.Message = 999 },
		"such as /p/thanks":      func(f *page.Form) { f.To = "https://elsewhere.example/" },
		"what the box":           func(f *page.Form) { f.Consents = []page.Consent{{Purpose: 999, Words: "Yes"}} },
		"a sequence that":        func(f *page.Form) { f.Acts = []act.Kept{{Act: act.Enrol{Sequence: 999}}} },
		"choose the one that br": func(f *page.Form) { f.Proved = true },
	} {
		edit(func(d *page.Document) { f(&d.Form) })
		refused(says)
		ok, err := w.e.MovePageDraft(w.ctx, id, -1)
		if err != nil || !ok {
			t.Fatalf("not undone: %v", err)
		}
	}
	w.must(w.e.AddSite(w.ctx, "https://karang.example"))
	edit(func(d *page.Document) { d.Form.To = "https://karang.example/thanks" })
	w.must(w.e.PublishPage(w.ctx, id))
	if p, err = w.s.PageBySlug(w.ctx, p.Slug); err != nil || !p.Published || p.Doc.V.Form.To == "" {
		t.Errorf("not published: %+v, %v", p, err)
	}
	// What is written later is not seen until it is published.
	edit(func(d *page.Document) { d.Title = "Another" })
	if p, err = w.s.Page(w.ctx, id); err != nil || p.Doc.V.Title == "Another" || !p.Open {
		t.Errorf("visitors see a draft: %+v, %v", p, err)
	}
	w.launch() // the sequence begins with the page of the world
	if err := w.e.RemovePage(w.ctx, w.page.ID, false); err == nil ||
		!strings.Contains(err.Error(), "Field guide follow-up") {
		t.Errorf("a page that a sequence begins with was taken away: %v", err)
	}
	w.must(w.e.RemovePage(w.ctx, id, false))
	if _, err := w.s.PageBySlug(w.ctx, p.Slug); !store.IsNotFound(err) {
		t.Errorf("visitors still reach it: %v", err)
	}
	w.must(w.e.RemovePage(w.ctx, id, true))
	if _, err := w.s.PageBySlug(w.ctx, p.Slug); err != nil {
		t.Errorf("it did not come back: %v", err)
	}
}
