// Package soak lets several workers loose on generated sequences, in virtual time and with a
// real database and mail server, kills some of them now and then, and looks afterwards at
// whether everything that must hold did: nobody took a step that does not follow from the
// last, nothing went out after somebody had left, outside its hours or against a rest rule,
// waves held, every way ended, nothing went out twice, and what is kept of figures is what
// counting gives.
package soak

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/message"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Options say how large it is. URL is an empty, migrated database.
type Options struct {
	URL               string
	Seed              uint64
	People, Sequences int
	Days              int           // of virtual time in which people do things
	Grain             time.Duration // between two looks
	Workers           int
	KillEvery         int // looks, on average, between two kills of a worker
	Log               func(format string, args ...any)

	spoiled func(*world) error // what a test does before it is looked at
}

// Report is what came of it.
type Report struct {
	Steps, Letters, Held, Kills, Entered int
	Mailed                               int      // one-off emails that arrived
	Broken                               []string // what did not hold, at most most of it
}

// mostBroken is how much of what did not hold is told.
const mostBroken = 20

func (w *world) broken(format string, args ...any) {
	if len(w.report.Broken) < mostBroken || w.spoiled != nil {
		w.report.Broken = append(w.report.Broken, fmt.Sprintf(format, args...))
	}
}

// clock is the virtual time.
type clock struct {
	mu sync.Mutex
	t  time.Time
}

func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.t
}

func (c *clock) set(t time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.t = t
}

// began is a Tuesday morning.
var began = time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)

// world is all of it.
type world struct {
	Options
	rnd     *rand.Rand
	clock   *clock
	mail    *mailserver.Server
	s       *store.Store
	e       *engine.Engine // that nobody kills: it records what people do
	workers []*worker
	people  []int64
	user    int64
	message int64
	tags    []int64
	plans   map[int64]*sequence.Plan // by version

	audience, picked int64 // one that follows a rule, and one by hand
	report           Report
}

// worker is one of those that are killed.
type worker struct {
	s *store.Store
	e *engine.Engine
}

// Run runs it. An error is one of what surrounds it; what did not hold is in the report.
func Run(ctx context.Context, o Options) (Report, error) {
	w := &world{Options: o, rnd: rand.New(rand.NewPCG(o.Seed, 31)), clock: &clock{t: began},
		plans: map[int64]*sequence.Plan{}}
	var err error
	if w.mail, err = mailserver.Start(mailserver.Options{Addr: "127.0.0.1:0", Now: w.clock.Now}); err != nil {
		return w.report, err
	}
	defer w.mail.Close()
	main, err := w.worker(ctx)
	if err != nil {
		return w.report, err
	}
	w.s, w.e = main.s, main.e
	defer main.close()
	if err := w.fill(ctx); err != nil {
		return w.report, fmt.Errorf("filling the world: %w", err)
	}
	for range o.Workers {
		x, err := w.worker(ctx)
		if err != nil {
			return w.report, err
		}
		w.workers = append(w.workers, x)
	}
	defer func() {
		for _, x := range w.workers {
			x.close()
		}
	}()
	if err := w.live(ctx); err != nil {
		return w.report, err
	}
	if o.spoiled != nil {
		return w.report, o.spoiled(w)
	}
	return w.report, w.check(ctx)
}

func (w *world) worker(ctx context.Context) (*worker, error) {
	s, err := store.Open(ctx, w.URL, 3)
	if err != nil {
		return nil, err
	}
	sender, err := mail.NewSender(w.mail.Addr())
	if err != nil {
		return nil, err
	}
	e, err := engine.New(ctx, base.Config{Store: s, Clock: w.clock, Mail: sender, URL: "http://ombak.example",
		Domain: "mail.karang.example", PrivateServers: true})
	if err != nil {
		return nil, err
	}
	return &worker{s, e}, e.Register(ctx)
}

func (x *worker) close() {
	x.e.Unregister()
	x.s.Close()
}

// fill makes users, people in four zones, a message, and the sequences.
func (w *world) fill(ctx context.Context) (err error) {
	if err := w.s.EnsureMonths(ctx, began, began.AddDate(0, 4, 0)); err != nil {
		return err
	}
	if w.user, err = w.s.AddUser(ctx, store.User{Name: "Ines Radu", Email: "ines@karang.example", Role: right.Rep,
		PasswordHash: "x"}, began); err != nil {
		return err
	}
	err = w.s.InTx(ctx, func(tx store.Tx) error {
		doc := message.Simple("A word, {{ person.first_name }}", `<p>Read <a href="/p/x">this</a>.</p>`)
		if w.message, err = tx.SaveMessage(ctx, store.Message{Name: "Word", Doc: store.JSON[message.Document]{V: doc},
			SenderID: &w.user}, w.user, began); err != nil {
			return err
		}
		countries := []string{"NO", "NP", "CA", "AU"}
		for i := range w.People {
			id, _, err := tx.MeetPerson(ctx, store.NewPerson{
				First: fmt.Sprint("P", i), Last: "Q", Country: countries[i%4],
				Email: fmt.Sprintf("p%d@soak.example", i),
			}, began)
			if err != nil {
				return err
			}
			w.people = append(w.people, id)
		}
		return nil
	})
	if err == nil {
		err = w.furnish(ctx)
	}
	for i := 0; err == nil && i < w.Sequences; i++ {
		err = w.launch(ctx, i)
	}
	return err
}

// launch makes a sequence and lets it run: entered by rule, in waves or not, with a rest or
// without.
func (w *world) launch(ctx context.Context, i int) error {
	plan, err := w.plan()
	if err != nil {
		return err
	}
	in := rule.Rule{If: &rule.Condition{
		Field: "country", Op: rule.OneOf, Values: []string{"NO", "NP", "CA", "AU"}[:1+i%4],
	}}
	entry := store.Entry{Rule: &in}
	if i%2 == 0 {
		entry.Wave = sequence.Wave{N: 3 + w.rnd.IntN(5), Per: sequence.Day}
	}
	var id int64
	err = w.s.InTx(ctx, func(tx store.Tx) (err error) {
		name := fmt.Sprintf("Soak %d", i)
		if id, err = tx.AddSequence(ctx, name, plan, w.clock.Now()); err != nil {
			return err
		}
		return tx.SetSequence(ctx, id, name, "", entry, w.clock.Now())
	})
	if err != nil {
		return err
	}
	return w.e.Launch(ctx, id, w.user)
}

// plan is a plan of a few steps of the kinds that reach people, wait and decide.
func (w *world) plan() (*sequence.Plan, error) {
	p, rnd := sequence.NewPlan(), w.rnd
	p.Ground.Other, p.LaunchHold = "existing customers", false
	p.LongestStay = calendar.Span{N: []int{0, 5, 9, 14}[rnd.IntN(4)], Unit: calendar.Days}
	p.Hours = calendar.OfficeHours(8*60+30*rnd.IntN(4), 15*60+30*rnd.IntN(6))
	if rnd.IntN(3) > 0 {
		p.Rest = sequence.Rest{Days: 1 + rnd.IntN(3), Any: rnd.IntN(2) == 0, Most: 2 + rnd.IntN(6)}
	}
	for range 3 + rnd.IntN(6) {
		unit := []calendar.Unit{calendar.Days, calendar.WorkingDays}[rnd.IntN(2)]
		days := calendar.Span{N: 1 + rnd.IntN(3), Unit: unit}
		at := sequence.Timing{Wait: calendar.Span{N: rnd.IntN(40), Unit: calendar.Hours}}
		var s sequence.Step
		switch rnd.IntN(8) {
		case 0, 1, 2:
			s = &sequence.Email{Message: w.message, Timing: at}
		case 3:
			s = &sequence.Task{ToDo: sequence.ToDo{Timing: at, Limit: days}, What: "look"}
		case 4:
			s = &sequence.Pause{For: days}
		case 5:
			s = &sequence.Check{Rule: rule.FieldIs("country", []string{"NO", "NP"}[rnd.IntN(2)])}
		default:
			s = &sequence.Watch{Signal: []signal.Kind{signal.Open, signal.Click}[rnd.IntN(2)], N: 1, For: days,
				AtEnd: rnd.IntN(3) == 0}
		}
		s.About().Title = s.Kind().Word
		from := p.Steps[rnd.IntN(len(p.Steps))]
		var err error
		if exits := from.Exits(); len(exits) == 0 || rnd.IntN(4) == 0 {
			_, err = p.Insert(s, 0, "")
		} else {
			_, err = p.Insert(s, from.About().ID, exits[rnd.IntN(len(exits))])
		}
		if err != nil {
			return nil, err
		}
	}
	if len(p.Check()) > 0 || !mails(p) {
		_, err := p.Insert(&sequence.Email{Common: sequence.Common{Title: "Email"}, Message: w.message}, 0, "")
		return p, err
	}
	return p, nil
}

func mails(p *sequence.Plan) bool {
	for _, s := range p.Steps {
		if _, ok := s.(*sequence.Email); ok {
			return true
		}
	}
	return false
}

// live lets time go on: people do this and that, and all workers look at once; some are
// killed meanwhile. Then everybody has time until every way has ended.
func (w *world) live(ctx context.Context) error {
	for now := began; now.Before(began.AddDate(0, 0, w.Days)); now = now.Add(w.Grain) {
		w.clock.set(now)
		if err := w.act(ctx); err != nil {
			return fmt.Errorf("what people do: %w", err)
		}
		if err := w.look(ctx, true); err != nil {
			return err
		}
		if w.Log != nil && now.Hour() == 9 {
			w.Log("%s: %d letters, %d kills", now.Format(time.DateOnly), w.mail.Count(), w.report.Kills)
		}
	}
	for range mostDays * 6 { // the hours of all zones
		w.clock.set(w.clock.Now().Add(4 * time.Hour))
		if err := w.look(ctx, false); err != nil {
			return err
		}
		open, err := w.open(ctx)
		if err != nil || len(open) == 0 {
			return err
		}
	}
	return nil
}

// mostDays is how long everybody has to come to their end, when nobody does anything more.
const mostDays = 120

// look has all workers look until nothing is left to do now.
func (w *world) look(ctx context.Context, kill bool) error {
	var g sync.WaitGroup
	errs := make([]error, len(w.workers))
	cancels := make([]context.CancelFunc, len(w.workers))
	for i, x := range w.workers {
		var one context.Context
		one, cancels[i] = context.WithCancel(ctx)
		g.Go(func() { errs[i] = x.e.Settle(one) })
	}
	killed := -1
	if kill && w.KillEvery > 0 && w.rnd.IntN(w.KillEvery) == 0 {
		killed = w.rnd.IntN(len(w.workers))
		after := time.Duration(w.rnd.IntN(25_000)) * time.Microsecond
		g.Go(func() {
			time.Sleep(after)
			cancels[killed]() // its transactions and its talk to the mail server break off wherever they are
			w.workers[killed].close()
			// The others see that it is dead, and do not wait for what it had in hand.
			w.s.HoldLost(ctx, "killed")
		})
	}
	g.Wait()
	for i, err := range errs {
		cancels[i]()
		if err != nil && i != killed && !errors.Is(err, context.Canceled) {
			return fmt.Errorf("worker %d: %w", i, err)
		}
	}
	if killed >= 0 {
		w.report.Kills++
		x, err := w.worker(ctx)
		if err != nil {
			return err
		}
		w.workers[killed] = x
		if _, err := w.s.HoldLost(ctx, "killed"); err != nil {
			return err
		}
		return w.e.Settle(ctx)
	}
	return nil
}

// act has people open, click, answer and opt out, and reps do some of their work.
func (w *world) act(ctx context.Context) error {
	if err := w.besides(ctx); err != nil {
		return err
	}
	sent, err := w.s.SomeTouches(ctx, 1_000_000)
	if err != nil {
		return err
	}
	var list []store.Signal
	for range len(w.people) / 8 {
		s := store.Signal{Person: w.people[w.rnd.IntN(len(w.people))], Signal: signal.Signal{At: w.clock.Now(),
			Kind: signal.PageView}, Why: []string{"", "", "", "a scanner"}[w.rnd.IntN(4)]}
		if len(sent) > 0 {
			t, err := w.s.Touch(ctx, sent[w.rnd.IntN(len(sent))])
			if err != nil {
				return err
			}
			s.Person, s.Touch, s.Sequence, s.Step = t.Person, t.ID, t.Sequence, t.Step
			s.Kind = []signal.Kind{signal.Open, signal.Open, signal.Click}[w.rnd.IntN(3)]
			if s.Kind == signal.Click {
				s.Link = 1 + w.rnd.Int32N(2)
			}
			switch w.rnd.IntN(60) {
			case 0:
				s.Kind = signal.Reply
			case 1:
				s.Kind = signal.OptOut
			}
		}
		list = append(list, s)
	}
	for _, s := range list {
		if err := w.e.Record(ctx, s); err != nil {
			return err
		}
	}
	work, err := w.s.DeskWork(ctx, 0)
	if err != nil {
		return err
	}
	for _, t := range work {
		if w.rnd.IntN(4) > 0 {
			continue
		}
		outcome := []sequence.Outcome{sequence.DidIt, sequence.DidNot}[w.rnd.IntN(2)]
		if err := w.e.FinishWork(ctx, t.ID, w.user, outcome, ""); err != nil && !errors.Is(err, base.ErrGone) {
			return err
		}
	}
	return nil
}
