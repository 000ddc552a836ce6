package browser_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ombak/internal/browser"
	"ombak/internal/demo"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
	"ombak/internal/web"
	"ombak/internal/web/shell"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// house is an Ombak that nobody has worked with yet: users, stages and a score model, and the stand-ins around it.
type house struct {
	t       *testing.T
	tab     *browser.Tab
	s       *store.Store
	d       *demo.Demo
	url     string
	mailbox string
}

func open(t *testing.T) *house {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	h := &house{t: t, s: storetest.New(t)}
	clock, err := base.NewHandClock(ctx, h.s, demo.Start)
	h.must(err)
	l, lv := listen(t), listen(t)
	h.url, h.mailbox = "http://"+l.Addr().String(), "http://"+lv.Addr().String()
	d, end, err := demo.Open(ctx, demo.Surroundings{Store: h.s, Clock: clock, MailIn: "127.0.0.1:0", Readers: h.mailbox,
		Engine: func(out string) (*engine.Engine, func(), error) { return demo.Plain(ctx, h.s, clock, h.url, out) }})
	h.must(err)
	t.Cleanup(end)
	h.d = d
	e, view := d.Engine, d.World.View
	_, _, err = h.d.Begin(ctx)
	h.must(err)
	h.must(h.s.EnsureMonths(ctx, demo.Start, demo.Start.AddDate(0, 2, 0)))
	for _, x := range []struct {
		l net.Listener
		h http.Handler
	}{{l, web.New(ctx, shell.Config{Store: h.s, Engine: e, Demo: h.d}).Handler()}, {lv, view}} {
		srv := &http.Server{Handler: x.h, BaseContext: func(net.Listener) context.Context { return ctx }}
		go srv.Serve(x.l)
		t.Cleanup(func() { srv.Close() })
	}
	h.must(e.Register(ctx))
	done := make(chan struct{})
	go func() { defer close(done); e.Work(ctx) }()
	t.Cleanup(func() { cancel(); <-done })
	h.tab, err = browser.Start(ctx)
	h.must(err)
	t.Cleanup(h.tab.Close)
	return h
}

func listen(t *testing.T) net.Listener {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func (h *house) must(err error) {
	h.t.Helper()
	if err != nil {
		if dir := os.Getenv("OMBAK_TEST_PICTURES"); dir != "" && h.tab != nil {
			if png, perr := h.tab.Picture(); perr == nil {
				os.WriteFile(filepath.Join(dir, strings.ReplaceAll(h.t.Name(), "/", "-")+".png"), png, 0o644)
			}
		}
		h.t.Fatal(err)
	}
}

// What somebody does. Each fails the test where it cannot be done.
func (h *house) goes(path string)          { h.t.Helper(); h.must(h.tab.Go(h.url + path)) }
func (h *house) presses(text string)       { h.t.Helper(); h.must(h.tab.Press(text)) }
func (h *house) types(sel, text string)    { h.t.Helper(); h.must(h.tab.Type(sel, text)) }
func (h *house) chooses(sel, entry string) { h.t.Helper(); h.must(h.tab.Choose(sel, entry)) }
func (h *house) key(k string)              { h.t.Helper(); h.must(h.tab.Key(k)) }
func (h *house) sees(texts ...string) {
	h.t.Helper()
	for _, x := range texts {
		h.must(h.tab.See(x))
	}
}

// until waits for something that no page shows.
func (h *house) until(what string, is func() bool) error {
	for deadline := time.Now().Add(15 * time.Second); !is(); time.Sleep(30 * time.Millisecond) {
		if time.Now().After(deadline) {
			return fmt.Errorf("waited 15 s for %s", what)
		}
	}
	return nil
}

// signsIn signs in with one press, or by address and password.
func (h *house) signsIn(name string, email ...string) {
	h.t.Helper()
	h.goes("/sign-in")
	if len(email) == 0 {
		h.presses(name)
	} else {
		h.types(`input[name=email]`, email[0])
		h.types(`input[name=password]`, demo.Password)
		h.presses("Sign in")
	}
	h.must(h.tab.Find(".places"))
}

func (h *house) movesClock(how string) {
	h.t.Helper()
	before := h.d.Clock.Now()
	h.presses("Demo clock")
	h.presses(how)
	h.must(h.tab.Until("the clock to move and stand",
		fmt.Sprintf(`document.querySelector('#clock details') && `+
			`!document.querySelector('#clock').innerText.includes(%q)`,
			before.In(h.zone()).Format("Mon 2 Jan, 15:04"))))
}

// passes lets weeks and days pass, before the map of the first sequence.
func (h *house) passes(weeks, days int) {
	h.t.Helper()
	h.goes("/sequences/1")
	for range weeks {
		h.movesClock("Forward a week")
	}
	for range days {
		h.movesClock("Forward a day")
	}
}

func (h *house) zone() *time.Location { return h.d.Engine.Zone() }

// insert presses the plus on a stream, chooses a kind of step, and fills its form.
// atRest is that a page is all there and asks for nothing: whoever presses a key sooner than
// anybody could is not heard.
const atRest = ` && document.readyState === 'complete' && !document.querySelector('.htmx-request')`

func (h *house) insert(after, kind, title string, fill func()) {
	h.t.Helper()
	h.must(h.tab.Click(fmt.Sprintf(`#map a.plus[aria-label*=%q]`, after)))
	h.sees("Insert a step")
	h.must(h.tab.Click(fmt.Sprintf(`.kinds button[value=%q]`, kind)))
	h.must(h.tab.Find(`aside input[name=title]`))
	h.types(`aside input[name=title]`, title)
	fill()
	h.presses("Save")
	h.must(h.tab.Until("the map to show "+title,
		fmt.Sprintf(`document.querySelector('#map').textContent.includes(%q)`, title)))
	h.must(h.tab.Until("the step to be kept",
		fmt.Sprintf(`document.querySelector('aside input[name=title]')?.value === %q`, title)))
}

// TestFromAFormToADeal walks the whole job by pressing and typing, and asserts what each person sees.
func TestFromAFormToADeal(t *testing.T) {
	h := open(t)
	h.signsIn("Ines Radu")

	// 1. A page that offers a guide.
	h.goes("/content")
	h.sees("No message yet")
	h.presses("Pages")
	h.sees("No page yet")
	h.presses("New page")
	h.types(`.drop input[name=title]`, "Is your oxygen alarm the right one?")
	h.presses("Write it")
	h.sees("not published", "Before it can be published", "Block 1: the text is empty")
	h.must(h.tab.Click(`[data-part="1"] .part-show`))
	h.must(h.tab.Until("the editor of the block", `document.querySelector('.part.open trix-editor')?.dataset.ready`))
	h.types(`.part.open trix-editor`, "Our field guide shows where to hang a sensor.")
	h.presses("List")
	h.must(h.tab.Until("the list", `document.querySelector('.part.open textarea')`))
	h.types(`.part.open textarea`, "Three alarms that saved a pen")
	h.must(h.tab.Click(`.part.open [aria-label="Move up"]`))
	h.must(h.tab.Until("the list above the text", `document.querySelector('[data-part]').dataset.part === '2'`))
	h.types(`input[name=button]`, "Send me the guide")
	h.chooses(`select[data-ask]`, "seniority")
	h.presses("Ask for it too")
	h.sees("Of the 4 questions on the ladder")
	h.presses("A box for consent")
	h.must(h.tab.Until("the box", `document.querySelector('input[name=c_words]')`))
	h.types(`input[name=slug]`, "Not an address!")
	h.types(`input[name=offer]`, "Field guide")
	h.must(h.tab.Click(`form[action$="/place"] button`))
	h.sees("The address is made of small letters")
	h.types(`input[name=slug]`, "oxygen-alarms")
	file := filepath.Join(t.TempDir(), "guide.txt")
	h.must(os.WriteFile(file, []byte("Set the first alarm where fish slow down."), 0o644))
	h.must(h.tab.Upload(`input[name=file]`, file))
	h.must(h.tab.Click(`form[action$="/place"] button`))
	h.sees("Saved.", "Now: guide.txt")
	h.presses("As a visitor")
	h.sees("The draft, as a visitor sees it", "Three alarms that saved a pen", "Title if you like")
	h.presses("after 2")
	h.sees("Phone if you like")
	h.presses("Back to writing")
	h.presses("Publish")
	h.sees("Published. Visitors see it from now on.")
	// What is typed afterwards is kept by itself, can be published at once, and is seen then.
	h.types(`input[name=form_title]`, "Where shall we send it?")
	h.must(h.tab.Until("the way to publish it",
		`!document.querySelector('[data-key=s]').disabled && !document.querySelector('[data-key=u]').disabled`))
	h.presses("Publish")
	h.must(h.tab.Until("that it is published", `document.querySelector('[data-key=s]').disabled`))

	// 2. Two messages, with merge fields and fallbacks.
	begin := func(name string) {
		t.Helper()
		h.goes("/content")
		h.presses("New message")
		h.types(`.drop input[name=name]`, name)
		h.presses("Letter")
		h.sees("a draft, not kept yet")
		h.must(h.tab.Click(`[data-part="1"] .part-show`))
		h.must(h.tab.Until("the editor of the section",
			`document.querySelector('.part.open trix-editor')?.dataset.ready`))
	}
	begin("Field guide")
	h.types(`#subject`, `Your guide, {{ person.first_name | default: "reader" }}`)
	h.key("\r") // undoes nothing
	h.must(h.tab.Until("the subject stays",
		`document.querySelector('#subject').value.startsWith('Your guide') && !document.querySelector('.htmx-request')`))
	h.types(`trix-editor`, `Dear {{ person.first_name | default: "reader" }}, here it is: `)
	h.chooses(`select[data-page]`, "Field guide")
	h.presses("Put in a link to it")
	h.must(h.tab.Until("the link in the editor", `document.querySelector('trix-editor a')`))
	h.chooses(`select[name=from]`, "always the same person")
	h.must(h.tab.Until("the sender is kept",
		`!document.querySelector('.htmx-request') && document.querySelector('select[name=from]').value === 'one'`))
	h.presses("Save as version 1")
	h.sees("Saved.")
	begin("From the owner")
	h.types(`#subject`, `A quarter of an hour, {{ person.shoe_size }}?`)
	h.types(`trix-editor`, `Shall we talk? {{ sender.name }}`)
	h.presses("Save as version 1")
	h.sees("there is no merge field person.shoe_size")
	h.types(`#subject`, `A quarter of an hour for {{ company.name | default: "you" }}?`)
	h.presses("Save as version 1")
	h.sees("Saved.")

	// 3. The sequence, drawn on the map.
	h.goes("/sequences")
	h.sees("No sequence yet")
	h.presses("New sequence")
	h.types(`input[name=name]`, "Field guide follow-up")
	h.presses("Start drafting")
	h.sees("Nothing is done for anybody", "Nobody enters yet")
	h.insert("the start to End", "email", "Guide", func() {
		h.chooses(`aside select[name=message]`, "Field guide")
		h.must(h.tab.Click(`aside input[name=request]`))
	})
	h.insert("Guide to End", "watch", "Takes it?", func() {
		h.chooses(`aside select[name=signal]`, "click")
		h.types(`aside input[name=for]`, "5")
	})
	h.insert("Takes it?, Clicked, to End", "check", "Ready?", func() { h.types(`aside input[name="n.r.0"]`, "15") })
	h.insert("Ready?, Yes, to End", "email", "Second", func() {
		h.chooses(`aside select[name=message]`, "From the owner")
	})
	h.insert("Second to End", "hand over", "To a rep", func() {})
	h.insert("Ready?, No, to End", "call", "Ring them", func() {
		h.types(`aside textarea[name=guide]`, "Ask about their pens.")
	})
	h.insert("Ready?, Yes, to Second", "pause", "Needless", func() {})
	h.key("x") // changes her mind: the chosen step goes
	h.must(h.tab.Until("the pause to go", `!document.querySelector('#map').textContent.includes('Needless')`+atRest))
	h.key("u") // and undoes that
	h.must(h.tab.Until("the pause to be back", `document.querySelector('#map').textContent.includes('Needless')`+atRest))
	h.key("r")
	h.must(h.tab.Until("the pause to go again",
		`!document.querySelector('#map').textContent.includes('Needless')`+atRest))
	h.chooses(`aside select[name=page]`, "Is your oxygen alarm")
	h.must(h.tab.Click(`details[data-part=when] > summary`))
	h.must(h.tab.Click(`aside input[name=hold]`))
	h.chooses(`aside select[name=ground]`, "legitimate interest")
	h.presses("Save")
	h.sees("Nothing keeps this from being launched")
	h.must(h.tab.Click(`.actions a.main`))
	h.sees("Launch version 1?", "Nobody enters now. From now on enter those who fill in")
	h.presses("Launch")
	h.sees("Launched.", "Running · version 1")

	// A visitor: first badly, then well, then again.
	h.must(h.tab.Forget())
	h.goes("/p/oxygen-alarms")
	h.sees("Is your oxygen alarm the right one?", "Our field guide shows", "Where shall we send it?")
	h.types(`input[name=f-first-name]`, "Ana")
	h.types(`input[name=f-email]`, "ana at fjord")
	h.presses("Send me the guide")
	h.sees("Please give your last name.", "This does not look like an email address.")
	if v, err := h.tab.Eval(`document.querySelector('input[name=f-first-name]').value + '|' + ` +
		`document.querySelector('input[name=f-email]').value`); err != nil || v != "Ana|ana at fjord" {
		t.Errorf("what was typed is lost: %q, %v", v, err)
	}
	visit := func(first, last, company, email string) { // each in a browser of their own
		h.must(h.tab.Forget())
		h.goes("/p/oxygen-alarms")
		h.types(`input[name=f-first-name]`, first)
		h.types(`input[name=f-last-name]`, last)
		h.types(`input[name=f-company]`, company)
		h.types(`input[name=f-email]`, email)
		h.presses("Send me the guide")
		h.sees("It is on its way to your mailbox.")
	}
	visit("Ana", "Strand", "Fjord Farms", "ana@fjord.example")

	// 4. The letter, its source, its link.
	h.reads("ana@fjord.example", "Your guide, Ana")
	h.presses("Source")
	h.sees("List-Unsubscribe-Post: List-Unsubscribe=One-Click", "Message-ID: <t1.")
	guide := h.link("Field guide")

	// A rep finds her number and notes it: nobody is called without one.
	h.signsIn("Tomas Vale")
	h.goes("/people/1")
	h.must(h.tab.Click(`details.more:has(input[value=phone]) > summary`))
	h.must(h.tab.Click(`details.edit:has(input[value=phone]) > summary`))
	h.types(`form:has(input[name=field][value=phone]) input[name=value]`, "+44 20 7946 0111")
	h.must(h.tab.Click(`form:has(input[name=field][value=phone]) button`))
	h.sees("+44 20 7946 0111", "phone is known 10")
	h.must(h.tab.Forget())
	h.must(h.tab.Go(guide))
	h.sees("Set the first alarm where fish slow down.")

	// 10 for the page, 1 for the open, 3 for the click: not ready, so the sequence asks for a call.
	h.signsIn("Tomas Vale")
	h.sees("Calls 1", "Ana Strand", "Ask about their pens.")
	h.key("n")
	h.must(h.tab.Until("the notes to have the focus", `document.activeElement.name === 'notes'`))
	h.types(`textarea[name=notes]`, "Wants a price for three pens")
	if _, err := h.tab.Eval(`document.activeElement.blur()`); err != nil {
		t.Fatal(err)
	}
	h.key("1")
	h.sees("Noted: talked.", "Your desk is clear")

	// 5. She looks at the page again, and crosses the line.
	h.goes("/p/oxygen-alarms")
	h.goes("/desk")
	h.sees("Handoffs 1", "Why now", "+20", "2 × page view", "+3", "1 × click", "24 points at that moment")
	h.key("a")
	h.sees("Accepted. A deal stands on the pipeline.")
	h.goes("/pipeline")
	h.sees("Accepted 1", "Fjord Farms", "Talking 0")
	h.must(h.tab.Drag(`[data-deal]`, `.stage:nth-child(2) .deals`))
	h.sees("Accepted 0", "Talking 1")

	// 7. All of it on one timeline.
	h.goes("/people")
	h.sees("1 person", "Ana Strand")
	h.presses("Ana Strand")
	h.sees("Entered “Field guide follow-up”", "Got the email “Your guide, Ana”", "Clicked a link: /g/oxygen-alarms",
		"Took a download: Field guide", "Call: talked", "Wants a price for three pens",
		"Handed over to Tomas Vale: the score crossed the ready line", "Accepted by Tomas Vale",
		"Deal in stage Talking", "Tide of interest", "ready line 15", "Sum now, high water 24")

	// Another answers: nothing more goes out.
	visit("Ben", "Moen", "Kelp Pens", "ben@kelp.example")
	h.reads("ben@kelp.example", "Your guide, Ben")
	h.types(`textarea[name=text]`, "Please call me instead.")
	h.presses("Send answer")
	h.sees("Your answer is on its way.")
	h.signsIn("Ines Radu")
	h.sees("Please call me instead.")
	h.movesClock("Forward a week")
	if n := len(h.d.World.Mail.Letters("ben@", 10)); n != 1 {
		t.Errorf("Ben answered and has %d letters", n)
	}

	// A third goes quiet, a fourth is sent back by the rep.
	visit("Cy", "Lunde", "Reef Pens", "cy@reef.example")
	visit("Cyrus", "Lunde", "Reef Pens", "CY@reef.example")
	h.signsIn("Ines Radu")
	h.goes("/people?text=reef")
	h.sees("1 person", "Cy Lunde")
	visit("Dee", "Vik", "Tern Pens", "dee@tern.example")
	h.reads("dee@tern.example", "Your guide, Dee")
	for range 2 { // this is Dee's browser now: 20 points
		h.goes("/p/oxygen-alarms")
		h.sees("Is your oxygen alarm the right one?")
	}
	h.signsIn("Bao Lindqvist", "bao.lindqvist@karang.example") // whose turn it is: Cy, who came twice, went to Signe
	h.goes("/desk?kind=handoff")
	h.sees("Dee Vik")
	h.presses("Send back")
	h.sees("Sending back needs a reason.")
	h.types(`input[name=reason]`, "Studies, has no site")
	h.presses("Send back")
	h.sees("Sent back. Marketing sees your reason.")

	// The map counts what happened, and every figure opens into its people.
	h.signsIn("Ines Radu")
	h.movesClock("Forward a week")
	h.goes("/sequences")
	h.presses("Field guide follow-up")
	h.sees("0 on the way", "left: answered 1")
	h.presses("Takes it?")
	h.sees("Came through")
	h.must(h.tab.Click(`aside a[href*="which=passed"]`))
	h.sees("Ana Strand", "Cy Lunde")

	// A marketer changes what counts; what a role may not do, the server refuses.
	h.goes("/scoring")
	h.types(`input[name=line]`, "nine")
	h.presses("Save")
	h.sees("“nine” is no whole number", "What you typed is still here")
	h.types(`input[name=line]`, "25")
	h.presses("a rule")
	h.must(h.tab.Find(`select[name="s.4"]`))
	h.types(`input[name="p.4"]`, "4")
	h.chooses(`select[name="s.4"]`, "what is on the record")
	h.must(h.tab.Until("no place to come from", `!document.querySelector('select[name="q.4"]')`))
	h.must(h.tab.Click(`button[value="cond c4"]`))
	h.must(h.tab.Find(`input[name="v.c4.0"]`))
	h.types(`input[name="v.c4.0"]`, "Norway")
	h.presses("Save")
	h.sees("Saved as a draft", "Version 1 counts until it takes over")
	h.presses("What it changes")
	h.sees("ready from 25", "4 points while country is Norway", "was: ready from 15")
	h.presses("Count it")
	h.sees("with another score", "Would not be ready any more")
	h.types(`input[name=note]`, "agreed with sales")
	h.presses("Let it count")
	h.sees("Version 2 counts now")
	h.presses("Versions")
	h.sees("counts now", "agreed with sales", "Version 1")

	// Keys.
	h.goes("/people")
	h.key("/")
	h.sees("Hold all")
	h.key("strand")
	h.sees("Ana Strand", "Fjord Farms")
}

// reads opens the newest letter to somebody.
func (h *house) reads(to, subject string) {
	h.t.Helper()
	for deadline := time.Now().Add(15 * time.Second); len(h.d.World.Mail.Letters(to,
		1)) == 0; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			h.t.Fatalf("no letter came to %s", to)
		}
	}
	h.must(h.tab.Go(fmt.Sprintf("%s/letter/%d", h.mailbox, h.d.World.Mail.Letters(to, 1)[0].N)))
	h.sees(subject)
}

// link is where a link of the letter that is open leads.
func (h *house) link(text string) string {
	h.t.Helper()
	href, err := h.tab.Eval(fmt.Sprintf(
		`[...document.querySelectorAll('.links a')].find(a => a.textContent.includes(%q)).href`, text))
	h.must(err)
	return href
}
