package main

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/store"
	"ombak/internal/store/server"
)

const benchPeople = 200_000

// benchConns is how many connections work at a time, for the engine and the
// floor alike.
const benchConns = 2

func runBench(ctx context.Context, c config) error {
	kinds := map[string]func(context.Context, *store.Store, *engine.Engine, *fixed) error{"engine": benchEngine,
		"map": benchMap, "desk": benchDesk, "people": benchPeopleLists, "import": benchImport, "mail": benchMail,
		"pipeline": benchPipeline, "score": benchScore}
	if len(os.Args) > 2 && os.Args[2] == "interpret" { // it needs no database
		return benchInterpret(os.Stdout)
	}
	var run func(context.Context, *store.Store, *engine.Engine, *fixed) error
	if len(os.Args) > 2 {
		run = kinds[os.Args[2]]
	}
	soaks := len(os.Args) > 2 && os.Args[2] == "soak"
	kept := map[string]func(context.Context, string, []string) error{"places": benchPlaces, "runs": benchRuns}
	var runKept func(context.Context, string, []string) error // on a workspace that is kept between runs
	if len(os.Args) > 2 {
		runKept = kept[os.Args[2]]
	}
	if run == nil && !soaks && runKept == nil {
		return errors.New("ombak bench engine, map, desk, pipeline, score, people, import, mail, places, runs, " +
			"interpret or soak")
	}
	address := c["OMBAK_DATABASE_URL"]
	if address == "" {
		home, err := c.home()
		if err != nil {
			return err
		}
		srv, err := server.Start(ctx, server.Options{Dir: filepath.Join(home, "postgres")})
		if err != nil {
			return err
		}
		defer srv.Stop()
		address = srv.URL
	}
	if runKept != nil {
		return runKept(ctx, address, os.Args[3:])
	}
	scratch, drop, err := store.Scratch(ctx, address, "ombak_bench")
	if err != nil {
		return err
	}
	defer drop()
	s, err := store.Open(ctx, scratch, 8)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	if soaks {
		return benchSoak(ctx, scratch)
	}
	at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	clock := &fixed{}
	clock.set(at)
	if err := s.EnsureMonths(ctx, at.AddDate(-1, 0, 0), at.AddDate(0, 2, 0)); err != nil {
		return err
	}
	e, err := engine.New(ctx,
		base.Config{Store: s, Clock: clock, Mail: nobody{}, URL: "http://bench.example", Domain: "bench.example"})
	if err != nil {
		return err
	}
	return run(ctx, s, e, clock)
}

// fixed is a clock that is set.
type fixed struct{ t atomic.Pointer[time.Time] }

func (f *fixed) Now() time.Time  { return *f.t.Load() }
func (f *fixed) set(t time.Time) { f.t.Store(&t) }

// nobody takes no mail: the bench's plan sends none before it is over.
type nobody struct{}

func (nobody) Send(context.Context, mail.Letter) (mail.Fate, error) {
	return mail.Refused, errors.New("no mail in a measurement")
}
