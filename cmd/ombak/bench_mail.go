package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/mailing"
	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/engine/post"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
	"ombak/internal/web"
	"ombak/internal/web/shell"
)

const (
	mailRenders = 20_000
	mailRounds  = 4     // how often each way of sending is tried, in turn
	mailRound   = 4_000 // letters of each that are not signed
	mailSigned  = 1_200 // and of those that are
	mailPeople  = (mailRounds + 1) * (mailRound + mailSigned + 4*mailTurn)
	mailTurn    = 200 // letters claimed at a time, as a worker does
	mailPresses = 8_000
	mailReaders = 16 // who open and click at a time: readers are many, however few processors there are
)

// benchMail measures writing, sending, and taking in what readers do: each
// beside what is least of it in the same run.
func benchMail(ctx context.Context, s *store.Store, _ *engine.Engine, clock *fixed) error {
	doc := benchLetter()
	fields := message.Fields(nil)
	p, err := message.Compile(&doc, fields)
	if err != nil {
		return err
	}
	v := message.Values{}
	for _, f := range fields {
		v[f.Name] = "Some value"
	}
	groups := []int64{1, 2, 3, message.Else}
	rendered, size := time.Now(), 0
	for i := range mailRenders {
		r, err := p.Render(groups[i%4], v, message.Addresses{Link: func(n int, _ string) string {
			return fmt.Sprintf("https://bench.example/l/%d/%d/abcdefghijklmnopqrst", i, n)
		}, OptOut: "https://bench.example/u/1/abc", Pixel: "https://bench.example/o/1/abc.gif"})
		if err != nil {
			return err
		}
		size += len(r.HTML) + len(r.Text)
	}
	took := time.Since(rendered)
	fmt.Printf("written: three groups of readers, ten fields, %d bytes each\n  %6.0f messages/s on one core\n\n",
		size/mailRenders, mailRenders/took.Seconds())

	// Sending: a one-off email to everybody, to the stand-in on this machine.
	box, err := mailserver.Start(mailserver.Options{Addr: "127.0.0.1:0", Now: clock.Now})
	if err != nil {
		return err
	}
	defer box.Close()
	sender, err := mail.NewSender(box.Addr())
	if err != nil {
		return err
	}
	sender.Conns = post.OutboxConns
	defer sender.Close()
	key, err := mail.NewKey()
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer l.Close()
	e, err := engine.New(ctx,
		base.Config{Store: s, Clock: clock, Mail: sender, URL: "http://" + l.Addr().String(), Domain: "bench.example"})
	if err != nil {
		return err
	}
	if err := keepMailing(ctx, s, e, doc); err != nil {
		return err
	}
	if err := e.Register(ctx); err != nil {
		return err
	}
	defer e.Unregister()
	for {
		did, err := e.FillMailings(ctx)
		if err != nil {
			return err
		}
		if !did {
			break
		}
	}
	// Three batches at a time, as a worker has them on their way.
	ours := func(n int) (float64, error) {
		start := time.Now()
		var sent atomic.Int64
		err := together(3, func() error {
			for sent.Load() < int64(n-mailTurn) {
				k, err := e.SendBatch(ctx, mailTurn)
				if err == nil && k == 0 {
					err = fmt.Errorf("sending stopped after %d", sent.Load())
				}
				if err != nil {
					return err
				}
				sent.Add(int64(k))
			}
			return nil
		})
		return float64(sent.Load()) / time.Since(start).Seconds(), err
	}
	r, err := p.Render(message.Else, v, message.Addresses{OptOut: "https://bench.example/u"})
	if err != nil {
		return err
	}
	bareSender := func(n int) (float64, error) {
		var next atomic.Int64
		start := time.Now()
		err := together(3*post.OutboxConns, func() error {
			for i := next.Add(1); i <= int64(n); i = next.Add(1) {
				fate, err := sender.Send(ctx,
					mail.Letter{ID: fmt.Sprintf("bare.%d@bench.example", i), From: "a@bench.example",
						To:      "b@bench.example",
						Subject: r.Subject, Text: r.Text, HTML: r.HTML, Date: clock.Now()})
				if fate != mail.Taken {
					return fmt.Errorf("a letter was not taken: %w", err)
				}
			}
			return nil
		})
		return float64(n) / time.Since(start).Seconds(), err
	}
	signer, err := mail.NewSigner("bench", key)
	if err != nil {
		return err
	}
	// What is compared goes in turn, so that whatever the machine does meanwhile meets both; what is first is not
	// counted.
	inTurn := func(n int) (mine, bare float64, err error) {
		var a, b []float64
		for i := range mailRounds + 1 {
			x, err := ours(n)
			if err != nil {
				return 0, 0, err
			}
			y, err := bareSender(n)
			if err != nil {
				return 0, 0, err
			}
			if i > 0 {
				a, b = append(a, x), append(b, y)
			}
		}
		return median(a), median(b), nil
	}
	plain, bare, err := inTurn(mailRound)
	if err != nil {
		return err
	}
	sender.Signer = signer
	signed, bareSigned, err := inTurn(mailSigned)
	if err != nil {
		return err
	}
	sender.Signer = nil
	fmt.Printf("sent, by one worker over %d connections to the stand-in\n"+
		"  %6.0f emails/s claimed, written, sent and noted; %6.0f letters/s by the bare sender: %.2f of it\n"+
		"  %6.0f/s signed (DKIM, RSA 2048); %6.0f/s by the bare sender that signs: %.2f of it, and %.2f of the one "+
		"that does not\n\n",
		post.OutboxConns, plain, bare, plain/bare, signed, bareSigned, signed/bareSigned, signed/bare)

	// What readers do, over HTTP.
	srv := &http.Server{Handler: web.New(ctx, shell.Config{Store: s, Engine: e}).Handler()}
	go srv.Serve(l)
	defer srv.Close()
	touches, err := s.SomeTouches(ctx, mailPresses)
	if err != nil {
		return err
	}
	at := *clock.t.Load()
	clock.set(at.Add(time.Hour))
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}, Transport: &http.Transport{MaxIdleConnsPerHost: mailReaders}}
	hit := func(name string, url func(i int) string) (float64, error) {
		var next atomic.Int64
		var wg sync.WaitGroup
		var failed atomic.Pointer[error]
		start := time.Now()
		for range mailReaders {
			wg.Go(func() {
				for i := int(next.Add(1)) - 1; i < mailPresses; i = int(next.Add(1)) - 1 {
					req, err := http.NewRequestWithContext(ctx, http.MethodGet, url(i), nil)
					if err == nil {
						req.Header.Set("User-Agent", "Mozilla/5.0 bench")
						var res *http.Response
						if res, err = client.Do(req); err == nil {
							io.Copy(io.Discard, res.Body)
							res.Body.Close()
							if res.StatusCode >= 400 {
								err = fmt.Errorf("%s answered %s", name, res.Status)
							}
						}
					}
					if err != nil {
						failed.Store(&err)
						return
					}
				}
			})
		}
		wg.Wait()
		if err := failed.Load(); err != nil {
			return 0, *err
		}
		return mailPresses / time.Since(start).Seconds(), nil
	}
	empty, err := hit("the bare handler", func(int) string { return e.URL + "/healthz" })
	if err != nil {
		return err
	}
	opens, err := hit("an open", func(i int) string { return e.PixelURL(touches[i%len(touches)]) })
	if err != nil {
		return err
	}
	clicks, err := hit("a click", func(i int) string { return e.LinkURL(touches[i%len(touches)], 1) })
	if err != nil {
		return err
	}
	var next atomic.Int64
	var wg sync.WaitGroup
	start := time.Now()
	var failed atomic.Pointer[error]
	for range mailReaders {
		wg.Go(func() {
			for i := next.Add(1); i <= mailPresses; i = next.Add(1) {
				if err := s.InTx(ctx, func(tx store.Tx) error {
					return tx.AddSignals(ctx,
						[]store.Signal{{Person: i%mailPeople + 1,
							Signal: signal.Signal{At: clock.Now(), Kind: signal.Open}}})
				}); err != nil {
					failed.Store(&err)
					return
				}
			}
		})
	}
	wg.Wait()
	if err := failed.Load(); err != nil {
		return *err
	}
	inserts := mailPresses / time.Since(start).Seconds()
	both := func(f float64) float64 { return (1 / f) / (1/empty + 1/inserts) }
	fmt.Printf("taken in, over HTTP with %d connections, each signal durable when it is answered\n  %6.0f opens/s, "+
		"%6.0f clicks/s\n  %6.0f/s by a handler that does nothing; %.0f signals/s by the bare insert, a transaction "+
		"each\n  %.2f and %.2f of those two together\n", mailReaders, opens, clicks, empty, inserts, 1/both(opens),
		1/both(clicks))
	return nil
}

// benchLetter has three groups of readers and ten fields.
func benchLetter() message.Document {
	text := func(lang string) string {
		return fmt.Sprintf(`<div>%s {{ person.first_name }} {{ person.last_name }},</div><div>{{ person.title }} {{ `+
			`company.name }} {{ company.industry }} {{ person.city }} {{ person.country }} <a `+
			`href="https://bench.example/a">one</a> %s</div><div>{{ sender.name }} {{ sender.email }} {{ `+
			`sender.phone }}</div>`, lang, strings.Repeat("Some more words of a letter. ", 30))
	}
	d := message.Document{Style: message.Designed, Subject: message.Words{message.Else: "For {{ person.first_name }}"},
		Last: 3,
		Groups: []message.Group{{ID: 1, Name: "de", Rule: rule.FieldIs(person.Language, "de")},
			{ID: 2, Name: "es", Rule: rule.FieldIs(person.Language, "es")},
			{ID: 3, Name: "nb", Rule: rule.FieldIs(person.Language, "nb")}},
		Sections: []message.Section{{ID: 1, Kind: message.Heading,
			For: map[int64]message.Content{message.Else: {Text: "A heading"}}},
			{ID: 2, Kind: message.Text,
				For: map[int64]message.Content{message.Else: {Text: text("Dear")}, 1: {Text: text("Liebe")},
					2: {Text: text("Estimada")}, 3: {Text: text("Kjære")}}},
			{ID: 3, Kind: message.Button,
				For: map[int64]message.Content{message.Else: {Label: "Read", Link: "https://bench.example/b"}}}}}
	return d
}

// keepMailing keeps people in four languages who agreed, and an email to all
// of them.
func keepMailing(ctx context.Context, s *store.Store, e *engine.Engine, doc message.Document) error {
	at := e.Now()
	user, err := s.AddUser(ctx,
		store.User{Name: "Bench", Email: "bench@bench.example", Phone: "+442079460101", Role: right.Marketer,
			PasswordHash: "x"}, at)
	if err != nil {
		return err
	}
	if err := s.BenchReaders(ctx, mailPeople, at); err != nil {
		return err
	}
	a := store.Audience{Name: "All", Live: true}
	a.Rule.V = rule.Rule{If: &rule.Condition{Field: person.EmailField, Op: rule.Known}}
	aud, err := e.SaveAudience(ctx, a)
	if err != nil {
		return err
	}
	for {
		n, err := e.FollowAudiences(ctx)
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	var msg int64
	if err := s.InTx(ctx, func(tx store.Tx) error {
		msg, err = tx.SaveMessage(ctx,
			store.Message{Name: "Bench", SenderID: &user, Doc: store.JSON[message.Document]{V: doc}}, user, at)
		return err
	}); err != nil {
		return err
	}
	purpose := int64(1)
	m := store.Mailing{Name: "Bench", Message: &msg, Audience: &aud, Purpose: &purpose}
	m.Plan.V = mailing.NewPlan()
	for d := range m.Plan.V.Hours.Days {
		m.Plan.V.Hours.Days[d] = []calendar.Interval{{From: 0, To: 24 * 60}}
	}
	id, err := e.SaveMailing(ctx, m, user)
	if err != nil {
		return err
	}
	return e.LaunchMailing(ctx, id)
}

// together runs f so many times at once, and answers one of the errors.
func together(n int, f func() error) error {
	errs := make(chan error, n)
	for range n {
		go func() { errs <- f() }()
	}
	var first error
	for range n {
		if err := <-errs; err != nil && first == nil {
			first = err
		}
	}
	return first
}

func median(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}
