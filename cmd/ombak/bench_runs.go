package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"strings"
	"time"

	"ombak/internal/core/mailing"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/roster"
	"ombak/internal/store"
)

// going is a clock that goes on from an instant.
type going struct{ from, began time.Time }

func (g going) Now() time.Time { return g.from.Add(time.Since(g.began)) }

// runsBench measures what runs by itself, on a copy of the workspace that pages are measured on.
type runsBench struct {
	ctx    context.Context
	s      *store.Store
	e      *engine.Engine
	people int
}

// benchRuns measures what runs by itself, each beside what it is held against in the same run: live audiences after a
// day's signals, people entered into a sequence, a one-off email written while ways walk on, and an export.
func benchRuns(ctx context.Context, address string, args []string) error {
	var (
		f     = flag.NewFlagSet("runs", flag.ContinueOnError)
		n     = f.Int("people", 1_000_000, "how many people")
		seed  = f.Int("seed", 1, "what the workspace is made from")
		spend = f.Bool("spend", false, "use the kept workspace itself up and copy none: the next run makes it anew")
		only  = f.String("only", "", "only some of figures, audiences, export, entering and mailing")
	)
	if err := f.Parse(args); err != nil {
		return err
	}
	at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	name := fmt.Sprintf("ombak_places_%d_%d", *n, *seed)
	kept, s, made, err := openPlaces(ctx, address, name)
	if err != nil {
		return err
	}
	if made {
		clock := &fixed{}
		clock.set(at)
		e, err := engine.New(ctx, base.Config{Store: s, Clock: clock, Mail: nobody{}, URL: "http://bench.example",
			Domain: "bench.example"})
		if err == nil {
			err = fillPlaces(ctx, s, e, store.Places{People: *n, At: at, Seed: *seed})
		}
		if err != nil {
			s.Close()
			return err
		}
	}
	if *spend {
		err = s.NotWhole(ctx, madePlaces)
	}
	s.Close()
	if err != nil {
		return err
	}
	if !*spend {
		var drop func()
		if kept, drop, err = store.CopyScratch(ctx, address, name, name+"_copy"); err != nil {
			return err
		}
		defer drop()
	}
	if s, err = store.Open(ctx, kept, 16); err != nil {
		return err
	}
	defer s.Close()
	if err := s.Settle(ctx); err != nil {
		return err
	}
	e, err := engine.New(ctx, base.Config{Store: s, Clock: going{at, time.Now()}, Mail: everybodys{},
		URL: "http://bench.example", Domain: "bench.example"})
	if err != nil {
		return err
	}
	atEase() // as whoever works is
	b := &runsBench{ctx, s, e, *n}
	fmt.Printf("%d people\n", *n)
	for _, x := range []struct {
		name string
		do   func() error
	}{{"figures", b.figures}, {"audiences", b.audiences}, {"export", b.export}, {"entering", b.entering},
		{"mailing", b.mailing}} {
		if *only == "" || strings.Contains(*only, x.name) {
			if err := x.do(); err != nil {
				return err
			}
		}
	}
	fmt.Printf("the worker, and what measured it, had %d MB at most\n", mostMemory()>>20)
	return nil
}

// everybodys takes all mail.
type everybodys struct{}

func (everybodys) Send(context.Context, mail.Letter) (mail.Fate, error) { return mail.Taken, nil }

// figures holds all kept figures against all they are of: what the workspace was filled with by hand is mended, and
// then all of it is right.
func (b *runsBench) figures() error {
	var took [2]time.Duration
	var lines [2]int64
	for i := range took {
		start := time.Now()
		list, err := b.s.MendFigures(b.ctx, b.e.Now())
		if err != nil {
			return err
		}
		took[i] = time.Since(start)
		for _, m := range list {
			lines[i] += m.Lines
		}
	}
	fmt.Printf("figures: all of them counted anew in %.1f s, with %d lines mended; and again in %.1f s, with %d\n",
		took[0].Seconds(), lines[0], took[1].Seconds(), lines[1])
	if lines[1] > 0 {
		return fmt.Errorf("%d lines of figures are not right once they are mended", lines[1])
	}
	return nil
}

// audiences has the live audiences follow a day's signals, and does the same by hand for each.
func (b *runsBench) audiences() error {
	const atOnce = 500
	day := b.people / 40
	for i := 0; i < day; i += atOnce {
		var list []store.Signal
		for k := range min(atOnce, day-i) {
			n := i + k
			list = append(list, store.Signal{Person: 1 + int64(n)*7919%int64(b.people), Signal: signal.Signal{
				At:   b.e.Now(),
				Kind: []signal.Kind{signal.PageView, signal.Download, signal.Click, signal.Open}[n%4]}})
		}
		if err := b.e.Record(b.ctx, list...); err != nil {
			return err
		}
	}
	start := time.Now()
	for {
		n, err := b.e.CountBatch(b.ctx, 500)
		if err != nil {
			return err
		}
		if n == 0 {
			break
		}
	}
	scored := time.Since(start)
	start = time.Now()
	var moved int64
	for {
		n, err := b.e.FollowAudiences(b.ctx)
		if err != nil {
			return err
		}
		if moved += n; n == 0 {
			break
		}
	}
	took := time.Since(start)
	start = time.Now()
	var byHand int64
	for i := range placesAudiences {
		id, err := b.s.LiveByName(b.ctx, fmt.Sprintf("Live %d", i))
		if err != nil {
			return err
		}
		country := livePlaces[i%len(livePlaces)]
		n, err := b.s.HandFollow(b.ctx, id, `
			select p.id
			from person p
			where p.country = '`+country+`' and p.erased_at is null and `+handRules[i/len(livePlaces)], b.e.Now())
		if err != nil {
			return err
		}
		byHand += n
	}
	floor := time.Since(start)
	fmt.Printf("audiences: %d signals of a day, whose scores took %.1f s; %d audiences follow them in %.1f s\n"+
		"  by hand, each asked about everybody: %.1f s, and %d would still join or leave; %.2f times as long\n", day,
		scored.Seconds(), placesAudiences, took.Seconds(), floor.Seconds(), byHand, took.Seconds()/floor.Seconds())
	return nil
}

// handRules are the rules of the live audiences, in their kinds, as somebody would write them; $1 is the instant.
var handRules = []string{
	`exists (select from standing s where s.person_id = p.id and s.model_id = 1 and s.score >= 10)
		and $1::timestamptz is not null`,
	`p.id in (
		select person_id
		from signal
		where kind = 5 and machine = '' and at between $1::timestamptz - interval '180 days' and $1
		group by 1
		having count(*) >= 3)`,
	`p.id in (select person_id from enrolment where sequence_id = 1 and ended_at is null)
		and $1::timestamptz is not null`,
	`(select c.given from consent c where c.person_id = p.id and c.purpose_id = 1 order by c.at desc, c.id desc limit 1)
		and p.id not in (select person_id from deal where closed_at is null) and $1::timestamptz is not null`,
	`p.company_id in (select id from company where lower(industry) = 'ports') and $1::timestamptz is not null`,
}

// export writes everybody as CSV.
func (b *runsBench) export() error {
	most := memory()
	start := time.Now()
	n, err := b.e.Export(b.ctx, store.PeopleQuery{Now: b.e.Now()}, roster.CSV, io.Discard)
	took := time.Since(start)
	peak := most()
	if err != nil {
		return err
	}
	start = time.Now()
	if err := b.s.CopyOut(b.ctx, io.Discard); err != nil {
		return err
	}
	floor := time.Since(start)
	fmt.Printf("export: %d people as CSV at %.0f rows/s, %.0f MB at most; COPY of their plain rows %.0f rows/s\n", n,
		float64(n)/took.Seconds(), float64(peak)/1e6, float64(n)/floor.Seconds())
	return nil
}

// entering has three tenths of everybody enter a sequence by a rule, while ways walk on.
func (b *runsBench) entering() error {
	id, err := launchFor(b.ctx, b.s, b.e, store.Entry{Rule: &rule.Rule{If: &rule.Condition{Field: "country",
		Op: rule.OneOf, Values: livePlaces[:4]}}})
	if err != nil {
		return err
	}
	start, last, still := time.Now(), int64(0), time.Now()
	var took time.Duration
	lag, err := b.working(id, func() (bool, error) {
		n, err := b.s.EnrolledIn(b.ctx, id)
		if n != last {
			last, still, took = n, time.Now(), time.Since(start)
		}
		return err == nil && time.Since(still) < 15*time.Second, err
	})
	if err != nil {
		return err
	}
	fmt.Printf("entering: %d people by a rule in %.1f s, while ways of others that came due waited %.1f s at most\n",
		last, took.Seconds(), lag.Seconds())
	return nil
}

// mailing writes a one-off email to four tenths of everybody, while ways walk on.
func (b *runsBench) mailing() error {
	a := store.Audience{Name: "Many", Live: true}
	a.Rule.V = rule.Rule{If: &rule.Condition{Field: "country", Op: rule.OneOf, Values: livePlaces[:5]}}
	aud, err := b.e.SaveAudience(b.ctx, a)
	if err != nil {
		return err
	}
	for {
		if n, err := b.e.FollowAudiences(b.ctx); err != nil || n == 0 {
			if err != nil {
				return err
			}
			break
		}
	}
	purpose, msg := int64(1), int64(2)
	m := store.Mailing{Name: "To many", Message: &msg, Audience: &aud, Purpose: &purpose}
	m.Plan.V = mailing.NewPlan()
	m.Plan.V.Rest, m.Plan.V.WithDeals = 0, true
	id, err := b.e.SaveMailing(b.ctx, m, 1)
	if err == nil {
		err = b.e.LaunchMailing(b.ctx, id)
	}
	if err != nil {
		return err
	}
	start := time.Now()
	lag, err := b.working(0, func() (bool, error) {
		m, err := b.s.MailingText(b.ctx, id)
		return err == nil && m.State == "filling", err
	})
	if err != nil {
		return err
	}
	took := time.Since(start)
	w, err := b.s.Mailing(b.ctx, id)
	if err != nil {
		return err
	}
	fmt.Printf("one-off email: %d readers written and %d left out in %.1f s, while ways that came due waited %.1f s "+
		"at most\n", w.Waiting+w.Sent, w.LeftCount, took.Seconds(), lag.Seconds())
	return nil
}

// dueEach is how many ways come due in a second while something else is done.
const dueEach = 50

// working has a worker work while more says so, with ways coming due all the time, and answers how long one of them
// waited at most; those of one sequence are left out.
func (b *runsBench) working(but int64, more func() (bool, error)) (lag time.Duration, err error) {
	ctx, cancel := context.WithCancel(b.ctx)
	ended := make(chan error, 1)
	go func() { ended <- b.e.Work(ctx) }()
	defer func() {
		cancel()
		err = errors.Join(err, <-ended)
	}()
	for {
		now := b.e.Now()
		if _, err := b.s.MakeDue(ctx, dueEach, now); err != nil {
			return lag, err
		}
		time.Sleep(time.Second)
		since, err := b.s.OldestDue(ctx, b.e.Now(), but)
		if err != nil {
			return lag, err
		}
		if since != nil {
			lag = max(lag, b.e.Now().Sub(*since))
		}
		if on, err := more(); err != nil || !on {
			return lag, err
		}
	}
}
