package engine

import (
	"bytes"
	"context"
	"errors"
	netmail "net/mail"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"ombak/internal/core/calendar"
	"ombak/internal/core/message"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/sales"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

func TestFromFormToDeal(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Ana", "ana@fjord.example")
	if l := w.letters("ana@"); len(l) != 1 || l[0].Subject != "Your guide, Ana" ||
		l[0].From != "marketerI@karang.example" {
		t.Fatalf("after the form: %+v", l)
	}
	if s := w.score(p); s != 10 {
		t.Errorf("a page view makes 10, got %v", s)
	}
	w.must(w.e.Open(w.ctx, w.touchOf("ana@"), w.e.Sign("open", w.touchOf("ana@"), 0), ""))
	w.settle()
	w.to(dayLong)
	w.must(w.e.Open(w.ctx, w.touchOf("ana@"), w.e.Sign("open", w.touchOf("ana@"), 0), ""))
	w.press("ana@", 1) // 10 + 1 + 1 + 3
	if s := w.score(p); s != 15 {
		t.Errorf("score %v, want 15", s)
	}
	// The crossing handed her to the rep whose turn it was, who became her owner before the second email went out.
	l := w.letters("ana@")
	if len(l) != 2 || l[0].Subject != "Three alarms at Fjord Farms" || l[0].FromName != "Tomas Vale" {
		t.Fatalf("after the click: %+v", l[0])
	}
	if way := w.way(p); way.Reason != "handed over" {
		t.Errorf("way %+v", way)
	}
	list, err := w.s.OpenHandoffs(w.ctx, w.rep1, store.MostHandoffs)
	w.must(err)
	if len(list) != 1 || list[0].MadeBy != "crossing" || list[0].Brief.V.Reasons[0].Points != 10 {
		t.Fatalf("one handoff, by the crossing, though the step asks for one too: %+v", list)
	}
	deal, err := w.e.Accept(w.ctx, list[0].ID, w.rep1)
	w.must(err)
	if _, err := w.e.Accept(w.ctx, list[0].ID, w.rep1); !errors.Is(err, base.ErrGone) {
		t.Errorf("accepting twice: %v", err)
	}
	board, err := w.s.Board(w.ctx, store.BoardQuery{Pipeline: w.pipe(), ClosedSince: day0, Each: 20})
	w.must(err)
	if len(board) != 1 || board[0].ID != deal || board[0].Name != "Fjord Farms" {
		t.Errorf("board %+v", board)
	}
	if err := w.e.HandOver(w.ctx, p); !errors.Is(err, sales.ErrHanded) {
		t.Errorf("handing over somebody with an open deal: %v", err)
	}
}

func TestTheOtherBranchEndsOnTheDesk(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Ben", "ben@fjord.example")
	_, err := w.s.DB().ExecContext(w.ctx, "update person set phone = '+4755500100' where id = $1", p)
	w.must(err)
	w.to(2 * dayLong)
	w.press("ben@", 1) // 10 + 3
	calls, err := w.s.DeskWork(w.ctx, w.rep2)
	w.must(err)
	if len(calls) != 1 || calls[0].Person != p {
		t.Fatalf("calls %+v", calls)
	}
	if err := w.e.FinishWork(w.ctx, calls[0].ID, w.rep2, "shrugged", ""); err == nil {
		t.Error("an unknown outcome was taken")
	}
	w.must(w.e.FinishWork(w.ctx, calls[0].ID, w.rep2, sequence.TheyTalked, "wants a price"))
	w.settle()
	if way := w.way(p); way.Reason != "finished" {
		t.Errorf("way %+v", way)
	}
	if err := w.e.FinishWork(w.ctx, calls[0].ID, w.rep2, sequence.TheyTalked, ""); !errors.Is(err, base.ErrGone) {
		t.Errorf("finishing twice: %v", err)
	}
}

func TestNoClickGoesQuiet(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Cy", "cy@fjord.example")
	w.to(5*dayLong - time.Second)
	if way := w.way(p); way.Ended != nil {
		t.Fatalf("before the limit: %+v", way)
	}
	w.to(5*dayLong + time.Second)
	if way := w.way(p); way.Reason != "finished" || !way.Ended.Equal(day0.Add(5*dayLong)) {
		t.Errorf("after the limit: %+v", way)
	}
}

func TestTheSameFormTwiceIsOnePersonAndOneEmail(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	a, b := w.fill("Ana", "ana@fjord.example"), w.fill("Anna", "ana@fjord.example")
	if a != b || len(w.letters("ana@")) != 1 {
		t.Errorf("persons %d and %d, %d letters", a, b, len(w.letters("ana@")))
	}
	if p, err := w.s.Person(w.ctx, a); err != nil || p.First != "Ana" {
		t.Errorf("a known name was replaced: %+v, %v", p, err)
	}
}

// TestAnAnswerStopsEverything answers while the next email is ready but has not gone out.
func TestAnAnswerStopsEverything(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Dee", "dee@fjord.example")
	w.must(w.e.Open(w.ctx, w.touchOf("dee@"), w.e.Sign("open", w.touchOf("dee@"), 0), ""))
	w.must(w.e.Open(w.ctx, w.touchOf("dee@"), w.e.Sign("open", w.touchOf("dee@"), 0), ""))
	touch := w.touchOf("dee@")
	_, _, err := w.e.Click(w.ctx, touch, 1, w.e.Sign("link", touch, 1), "")
	w.must(err)
	if _, _, err := w.e.AdvanceBatch(w.ctx, 10); err != nil { // decides on the second email, which nobody has sent yet
		t.Fatal(err)
	}
	if n := w.count("select count(*) from touch where state = 'ready'"); n != 1 {
		t.Fatalf("%d emails are ready", n)
	}
	letter := w.letters("dee@")[0]
	answer := mail.Received{ID: "a1@fjord.example", From: "dee@fjord.example", Subject: "Re: guide", Text: "Call me",
		References: []string{letter.MessageID}}
	w.must(w.e.Receive(w.ctx, answer))
	w.must(w.e.Receive(w.ctx, answer)) // the same letter delivered again
	w.settle()
	w.to(60 * dayLong)
	if l := w.letters("dee@"); len(l) != 1 {
		t.Errorf("%d letters after the answer", len(l))
	}
	if way := w.way(p); way.Reason != "answered" {
		t.Errorf("way %+v", way)
	}
	if n := w.count("select count(*) from signal where kind = 6"); n != 1 {
		t.Errorf("%d replies counted", n)
	}
}

func TestIncomingIsToldApart(t *testing.T) {
	for _, c := range []struct {
		name   string
		m      mail.Received
		reason string
		kind   int
	}{
		{"an answer without references holds, until somebody has looked", mail.Received{From: "eve@fjord.example"}, "",
			0},
		{"an answer names an email", mail.Received{From: "eve@fjord.example", References: []string{"ID"}}, "answered",
			6},
		{"an automatic answer stops nothing",
			mail.Received{From: "eve@fjord.example", Kind: mail.Automatic, References: []string{"ID"}}, "", 7},
		{"a bounce is known by its return path",
			mail.Received{From: "mailer-daemon@fjord.example", Kind: mail.Bounce, To: []string{"PATH"}}, "bounced", 9},
		{"a stranger's letter touches nobody", mail.Received{From: "who@else.example"}, "", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := newWorld(t, mailserver.Options{})
			w.launch()
			p := w.fill("Eve", "eve@fjord.example")
			for i, to := range c.m.To {
				if to == "PATH" {
					c.m.To[i] = "bounce+" + strings.Replace(w.letters("eve@")[0].MessageID, "@", "@", 1)
				}
			}
			for i := range c.m.References {
				c.m.References[i] = w.letters("eve@")[0].MessageID
			}
			w.must(w.e.Receive(w.ctx, c.m))
			if way := w.way(p); way.Reason != c.reason {
				t.Errorf("reason %q, want %q", way.Reason, c.reason)
			}
			if n := w.count("select count(*) from signal where kind = $1", c.kind); c.kind != 0 && n != 1 {
				t.Errorf("%d signals of kind %d", n, c.kind)
			}
		})
	}
}

// Whoever knows somebody's address can write in their name. Such a letter ends nothing, loses nothing and lets nothing
// out: what is on its way waits until somebody has said whose it is.
func TestLettersInAnothersName(t *testing.T) {
	for _, theirs := range []bool{true, false} {
		w := newWorld(t, mailserver.Options{})
		w.launch()
		p := w.fill("Eve", "eve@fjord.example")
		came := w.clock.Now()
		touch := w.touchOf("eve@")
		w.must(w.e.Receive(w.ctx, mail.Received{ID: "f@x", From: "eve@fjord.example", Text: "Stop it"}))
		w.must(w.e.Receive(w.ctx, mail.Received{ID: "b@x", From: "mailer-daemon@x.example", Kind: mail.Bounce,
			To: []string{"bounce+t1.000000000000@mail.karang.example"}, References: []string{"made@up.example"},
			About: []mail.Recipient{{Address: "eve@fjord.example", Action: "failed", Status: "5.1.1"}}}))
		// What she does counts meanwhile, and would bring the next email.
		w.to(time.Hour)
		for range 2 {
			w.must(w.e.Open(w.ctx, touch, w.e.Sign("open", touch, 0), ""))
		}
		_, _, err := w.e.Click(w.ctx, touch, 1, w.e.Sign("link", touch, 1), "")
		w.must(err)
		w.to(20 * dayLong)
		if way := w.way(p); way.Ended != nil || len(w.letters("eve@")) != 1 {
			t.Fatalf("while it is not sorted: %q, %d letters", way.Reason, len(w.letters("eve@")))
		}
		if n := w.count("select count(*) from person where bounced_at is not null"); n != 0 {
			t.Error("a made up report marks the address")
		}
		list, err := w.s.UnsureIncoming(w.ctx, p, 0, 10)
		w.must(err)
		if len(list) != 2 {
			t.Fatalf("%d letters to sort", len(list))
		}
		for _, m := range list {
			if m.Kind == signal.Bounce {
				w.must(w.e.Sort(w.ctx, m.ID, w.marketer, false))
			} else {
				w.must(w.e.Sort(w.ctx, m.ID, w.marketer, theirs))
			}
		}
		w.settle()
		w.to(40 * dayLong)
		way := w.way(p)
		if theirs && (way.Reason != "answered" || !way.Ended.Equal(came) || len(w.letters("eve@")) != 1) {
			t.Errorf("hers: %q at %v, %d letters", way.Reason, way.Ended, len(w.letters("eve@")))
		}
		if !theirs && (way.Reason == "answered" || len(w.letters("eve@")) < 2) {
			t.Errorf("not hers: %q, %d letters", way.Reason, len(w.letters("eve@")))
		}
	}
}

func TestLinksCannotBeForged(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	w.fill("Fay", "fay@fjord.example")
	touch := w.touchOf("fay@")
	good := w.e.Sign("link", touch, 1)
	for name, f := range map[string]func() error{
		"another link's signature": func() error { _, _, err := w.e.Click(w.ctx, touch, 2, good, ""); return err },
		"another touch's":          func() error { _, _, err := w.e.Click(w.ctx, touch+1, 1, good, ""); return err },
		"none":                     func() error { _, _, err := w.e.Click(w.ctx, touch, 1, "", ""); return err },
		"a link it never had": func() error {
			_, _, err := w.e.Click(w.ctx, touch, 9, w.e.Sign("link", touch, 9), "")
			return err
		},
		"an open":    func() error { return w.e.Open(w.ctx, touch, good, "") },
		"an opt-out": func() error { return w.e.OptOut(w.ctx, touch, good) },
	} {
		if err := f(); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if n := w.count("select count(*) from signal where kind in (4, 5, 8)"); n != 0 {
		t.Errorf("%d forged signals were kept", n)
	}
	for token, want := range map[string][2]int64{w.e.ReaderToken(7): {7, 0}, w.e.ClaimToken(8): {0, 8}, "7.x": {},
		"c8.x": {}, "": {}, "c" + w.e.ReaderToken(7): {}, w.e.ClaimToken(8)[1:]: {}} {
		if who, answer := w.e.ReadToken(token); who != want[0] || answer != want[1] {
			t.Errorf("the token %q is of person %d, answer %d", token, who, answer)
		}
	}
}

func TestOptOut(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	p := w.fill("Gus", "gus@fjord.example")
	touch := w.touchOf("gus@")
	w.must(w.e.OptOut(w.ctx, touch, w.e.Sign("opt-out", touch, 0)))
	w.must(w.e.OptOut(w.ctx, touch, w.e.Sign("opt-out", touch, 0)))
	if way := w.way(p); way.Reason != "opted out" {
		t.Errorf("way %+v", way)
	}
	if n := w.count("select count(*) from signal where kind = 8"); n != 1 {
		t.Errorf("%d opt-outs kept", n)
	}
}

// TestWhatTheMailServerSays sends to a server that misbehaves.
func TestWhatTheMailServerSays(t *testing.T) {
	var mu sync.Mutex
	answers := map[string]error{
		"later@fjord.example": &smtp.SMTPError{Code: 451, Message: "greylisted"},
		"never@fjord.example": &smtp.SMTPError{Code: 550, Message: "no such mailbox"},
	}
	w := newWorld(t, mailserver.Options{AnswerRcpt: func(to string) error {
		mu.Lock()
		defer mu.Unlock()
		return answers[to]
	}})
	w.launch()
	later, never := w.fill("La", "later@fjord.example"), w.fill("Ne", "never@fjord.example")
	if way := w.way(never); way.Reason != "bounced" {
		t.Errorf("refused for good: %+v", way)
	}
	if n := w.count("select count(*) from touch t join letter l on l.touch_id = t.id where t.person_id = $1 and "+
		"l.phase = 'waiting' and l.ready_at = $2", later, day0.Add(time.Minute)); n != 1 {
		t.Error("an email refused for now is not ready again after a minute")
	}
	mu.Lock()
	delete(answers, "later@fjord.example")
	mu.Unlock()
	w.to(2 * time.Minute)
	if l := w.letters("later@"); len(l) != 1 {
		t.Errorf("%d letters after the second try", len(l))
	}
}

func TestAMissingFieldStopsThatEmailAlone(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.tx(func(tx store.Tx) error {
		_, err := tx.SaveMessage(w.ctx,
			store.Message{ID: w.first, Name: "Guide",
				Doc:      store.JSON[message.Document]{V: message.Simple("For {{ person.title }}", "<p>x</p>")},
				SenderID: &w.marketer}, w.marketer, day0)
		return err
	})
	w.launch()
	p := w.fill("Hal", "hal@fjord.example")
	list, err := w.s.Trouble(w.ctx, 10)
	w.must(err)
	if len(list) != 1 || !strings.Contains(list[0].Trouble, "person.title") {
		t.Fatalf("trouble %+v", list)
	}
	if len(w.letters("hal@")) != 0 {
		t.Fatal("it went out")
	}
	w.must(w.e.Resolve(w.ctx, list[0].ID, "pass"))
	w.settle()
	if way := w.way(p); way.Step != int32(w.watch) {
		t.Errorf("passed over, they should be at the watch: %+v", way)
	}
}

// lost is a mail server that is gone before it answers.
type lost struct{}

func (lost) Send(context.Context, mail.Letter) (mail.Fate, error) {
	return mail.Unknown, errors.New("connection reset after the letter’s end")
}

func TestAnUnknownFateIsHeld(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	real := w.e.Mail
	w.e.Mail = lost{}
	p := w.fill("Ida", "ida@fjord.example")
	w.e.Mail = real
	w.to(30 * dayLong)
	if len(w.letters("ida@")) != 0 {
		t.Fatal("it was sent again by itself")
	}
	list, err := w.s.Trouble(w.ctx, 10)
	w.must(err)
	if len(list) != 1 || list[0].State != "held" {
		t.Fatalf("trouble %+v", list)
	}
	w.must(w.e.Resolve(w.ctx, list[0].ID, "again"))
	w.settle()
	l := w.letters("ida@")
	if len(l) != 1 || l[0].MessageID != *list[0].MailID {
		t.Fatalf("sent again under another Message-ID: %+v", l)
	}
	if way := w.way(p); way.Step != int32(w.watch) {
		t.Errorf("way %+v", way)
	}
}

func TestHoldStopsEverything(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	w.must(w.e.Hold(w.ctx, w.seq))
	w.fill("Jo", "jo@fjord.example")
	if len(w.letters("jo@")) != 0 || w.count("select count(*) from enrolment") != 0 {
		t.Error("a held sequence takes people in or sends")
	}
	w.must(w.e.Resume(w.ctx, w.seq))
	p := w.fill("Jo", "jo@fjord.example")
	w.must(w.e.Hold(w.ctx, w.seq))
	w.clock.set(day0.Add(9 * dayLong))
	w.settle()
	if way := w.way(p); way.Ended != nil {
		t.Errorf("walked on while held: %+v", way)
	}
	if err := w.e.Hold(w.ctx, w.seq); !errors.Is(err, flow.ErrNotRunning) {
		t.Errorf("holding twice: %v", err)
	}
}

func TestEntryByRule(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.must(w.s.SetEntry(w.ctx, w.seq, store.Entry{Rule: ruleOf("CA")}, day0))
	w.launch()
	for _, c := range []struct{ email, country string }{{"ca@x.example", "ca "}, {"us@x.example", "US"}} {
		w.tx(func(tx store.Tx) error {
			_, _, err := tx.MeetPerson(w.ctx, store.NewPerson{Email: c.email, Country: c.country}, day0)
			return err
		})
	}
	// In Canada, whose most people live in Toronto, it is still night: the email waits for the morning there.
	w.settle()
	if len(w.letters("")) != 0 {
		t.Error("an email went out at night")
	}
	w.to(12 * time.Hour)
	if len(w.letters("ca@")) != 1 || len(w.letters("us@")) != 0 {
		t.Errorf("letters: %d and %d", len(w.letters("ca@")), len(w.letters("us@")))
	}
	if l := w.letters("ca@")[0]; !l.At.Equal(time.Date(2026, 4, 14, 12, 30, 0, 0, time.UTC)) {
		t.Errorf("it went out at %v, not at 08:30 in Toronto", l.At)
	}
}

func TestALaunchedVersionNeverChanges(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	w.tx(func(tx store.Tx) error {
		_, err := tx.SaveMessage(w.ctx,
			store.Message{ID: w.first, Name: "Guide",
				Doc: store.JSON[message.Document]{V: message.Simple("Changed", "<p>x</p>")}, SenderID: &w.marketer},
			w.marketer, day0)
		return err
	})
	w.fill("Kim", "kim@fjord.example")
	if l := w.letters("kim@")[0]; l.Subject != "Your guide, Kim" {
		t.Errorf("a running version sent %q", l.Subject)
	}
	w.launch()
	w.fill("Lou", "lou@fjord.example")
	if l := w.letters("lou@")[0]; l.Subject != "Changed" {
		t.Errorf("the next version sent %q", l.Subject)
	}
}

// A follow-up answers in the thread of an earlier email (RFC 5322, 3.6.4: References has the parent's References and
// its Message-ID, In-Reply-To the parent's alone); who never got that one gets it by itself.
func TestAnswersInTheThread(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	p := sequence.NewPlan()
	p.LaunchHold, p.Ground.Other = false, "existing customers"
	day := calendar.Span{N: 1, Unit: calendar.Days}
	one, err := p.Insert(&sequence.Email{Message: w.first, Request: true}, 0, "")
	w.must(err)
	two, err := p.Insert(&sequence.Email{Message: w.second, Timing: sequence.Timing{Wait: day}, Request: true,
		Thread: one}, one, sequence.Next)
	w.must(err)
	_, err = p.Insert(&sequence.Email{Message: w.second, Timing: sequence.Timing{Wait: day}, Request: true,
		Thread: two}, two, sequence.Next)
	w.must(err)
	w.tx(func(tx store.Tx) error {
		w.seq, err = tx.AddSequence(w.ctx, "In a thread", p, day0)
		return err
	})
	w.must(w.s.SetEntry(w.ctx, w.seq, store.Entry{Page: w.page.ID}, day0))
	w.launch()
	w.fill("Ana", "ana@fjord.example")
	ben := w.fill("Ben", "ben@kelp.example")
	// nobody knows whether it arrived, and somebody decided to go on without it
	_, err = w.s.DB().ExecContext(w.ctx, "update touch set state = 'passed' where person_id = $1", ben)
	w.must(err)
	w.to(4 * dayLong)
	l := w.letters("ana@") // the newest first
	if len(l) != 3 {
		t.Fatalf("%d letters", len(l))
	}
	head := func(l *mailserver.Letter) netmail.Header {
		source, err := w.mail.Source(l)
		w.must(err)
		m, err := netmail.ReadMessage(bytes.NewReader(source))
		w.must(err)
		return m.Header
	}
	first, second, third := head(l[2]), head(l[1]), head(l[0])
	a, b := first.Get("Message-Id"), second.Get("Message-Id")
	if first.Get("In-Reply-To") != "" || second.Get("In-Reply-To") != a || second.Get("References") != a ||
		third.Get("In-Reply-To") != b || third.Get("References") != a+" "+b {
		t.Errorf("first %v, second %v, third %v", first, second, third)
	}
	if second.Get("Subject") != "Re: Your guide, Ana" || third.Get("Subject") != "Re: Your guide, Ana" {
		t.Errorf("subjects %q and %q", second.Get("Subject"), third.Get("Subject"))
	}
	l = w.letters("ben@")
	if len(l) != 3 || head(l[1]).Get("In-Reply-To") != "" ||
		head(l[1]).Get("Subject") != "Three alarms at Fjord Farms" ||
		head(l[0]).Get("Subject") != "Re: Three alarms at Fjord Farms" {
		t.Errorf("Ben, who did not get the first: %d letters, %v", len(l), head(l[len(l)-1]))
	}
}
