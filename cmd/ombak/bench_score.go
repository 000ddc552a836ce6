package main

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// benchScore measures the recount of ten million signals for a million people by a model of 15 rules, beside plain SQL
// sums of the same points by person in the same run: read alone, and kept as the scores are.
func benchScore(ctx context.Context, s *store.Store, e *engine.Engine, clock *fixed) error {
	at := clock.Now()
	began := time.Now()
	if err := s.FillLists(ctx, listPeople, listSignals, at); err != nil {
		return err
	}
	if err := e.SaveModel(ctx, benchModel()); err != nil {
		return err
	}
	if err := s.FillStandings(ctx); err != nil {
		return err
	}
	if err := s.Settle(ctx); err != nil {
		return err
	}
	fmt.Printf("%d people, %d signals, 15 rules; made in %.0f s\n", listPeople, listSignals,
		time.Since(began).Seconds())
	for range 2 {
		sum, kept, err := s.PlainScores(ctx, at)
		if err != nil {
			return err
		}
		m, err := s.Model(ctx)
		if err != nil {
			return err
		}
		if err := e.SaveModel(ctx, m); err != nil { // every score is to be counted anew
			return err
		}
		start := time.Now()
		if err := e.RunBatches(ctx); err != nil {
			return err
		}
		took := time.Since(start)
		fmt.Printf("  a plain sum by person %5.1f s; the same, kept %5.1f s; the recount %5.1f s: %.1f and %.2f times "+
			"that; %d MB at most\n", sum.Seconds(), kept.Seconds(), took.Seconds(), took.Seconds()/sum.Seconds(),
			took.Seconds()/kept.Seconds(), mostMemory()>>20)
	}
	return benchCrossing(ctx, s, at)
}

// mostMemory is the most that this process has held, in bytes; 0: the system does not say.
func mostMemory() (n int64) {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			if _, err := fmt.Sscan(rest, &n); err != nil {
				return 0
			}
		}
	}
	return n << 10
}

// benchModel is a model as a team has one: points that last, that halve, that are capped, that are given once, for what
// is on the record, and some that are taken away.
func benchModel() store.Model {
	country := rule.FieldIs(person.Country, "NO")
	title := rule.FieldIs(person.Title, "Harbour master")
	on := func(k signal.Kind) signal.Pattern { return signal.Pattern{Kind: k} }
	rules := []score.Rule{
		{On: on(signal.PageView), Points: 1, Often: score.PerDay, N: 5, Lasts: 30},
		{On: on(signal.PageView), Points: 4, Often: score.While, N: 3, Window: 14},
		{On: on(signal.Form), Points: 10, Lasts: 90},
		{On: on(signal.Form), Points: 5, Often: score.First},
		{On: on(signal.Open), Points: 1, Often: score.PerDay, N: 2, Lasts: 30},
		{On: on(signal.Click), Points: 3, Lasts: 60},
		{On: on(signal.Click), Points: 5, Often: score.While, N: 3, Window: 30},
		{On: on(signal.Click), Points: 2, Lasts: 30, If: country},
		{On: on(signal.Download), Points: 8, Half: 30},
		{On: on(signal.Reply), Points: 9, Often: score.InAll, N: 3, Lasts: 180},
		{On: on(signal.Meeting), Points: 30, Lasts: 90},
		{On: on(signal.Registered), Points: 12, Lasts: 60},
		{On: on(signal.Came), Points: 15, Lasts: 90},
		{On: on(signal.OptOut), Points: -100, Wipe: true},
		{Points: 3, If: title},
	}
	for i := range rules {
		rules[i].ID = int64(i + 1)
	}
	return store.Model{Model: score.Model{Name: "Engagement", Line: 60, Margin: 10, Rules: slices.Clone(rules),
		LastID: int64(len(rules))}}
}

const (
	crossWarm = 5 * time.Second // while the worker begins, and nobody is measured
	crossFor  = 25 * time.Second
	crossRate = 500 // signals a second
	crossOne  = 10  // of so many, one brings somebody over the line
)

// running is a clock that runs as the machine's does, from another instant.
type running struct{ began, at time.Time }

func (r running) Now() time.Time { return r.at.Add(time.Since(r.began)) }

// benchCrossing measures how long it takes from a signal that brings somebody over the ready line to the handoff that a
// rep sees, while 500 signals a second come.
func benchCrossing(ctx context.Context, s *store.Store, at time.Time) error {
	e, err := engine.New(ctx, base.Config{Store: s, Clock: running{time.Now(), at}, Mail: nobody{},
		URL: "http://bench.example", Domain: "bench.example"})
	if err != nil {
		return err
	}
	if _, err := s.AddUser(ctx, store.User{Name: "Rep", Email: benchAddress, Role: right.Rep}, at); err != nil {
		return err
	}
	n := int(crossFor.Seconds()) * crossRate
	near, far, err := s.BenchNear(ctx, 30, 59, n/crossOne, n)
	if err != nil {
		return err
	}
	working, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- e.Work(working) }()
	var mu sync.Mutex
	sent := map[int64]time.Time{}
	var took []float64
	seen := func() error { // looks at the handoffs, as a desk does
		for ; working.Err() == nil; time.Sleep(2 * time.Millisecond) {
			mu.Lock()
			wait := slices.Collect(maps.Keys(sent))
			mu.Unlock()
			list, err := s.BenchHandedOver(working, wait)
			if err != nil {
				return err
			}
			mu.Lock()
			for _, who := range list {
				took = append(took, float64(time.Since(sent[who]).Microseconds())/1000)
				delete(sent, who)
			}
			mu.Unlock()
		}
		return nil
	}
	looked := make(chan error, 1)
	go func() { looked <- seen() }()
	start, crossing := time.Now(), 0
	var late float64
	var wg sync.WaitGroup
	var failed error
	for i := range n {
		due := start.Add(time.Duration(i) * time.Second / crossRate)
		time.Sleep(time.Until(due))
		late = max(late, float64(time.Since(due).Milliseconds()))
		x := store.Signal{Person: far[i%len(far)], Signal: signal.Signal{At: e.Now(), Kind: signal.Click}}
		if i%crossOne == 0 && time.Since(start) > crossWarm && crossing < len(near) {
			x.Person, x.Kind = near[crossing], signal.Meeting
			crossing++
		}
		wg.Go(func() {
			if x.Kind == signal.Meeting {
				mu.Lock()
				sent[x.Person] = time.Now()
				mu.Unlock()
			}
			if err := e.Record(ctx, x); err != nil {
				mu.Lock()
				failed = errors.Join(failed, err)
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	for wait := time.Now(); time.Since(wait) < 10*time.Second; time.Sleep(10 * time.Millisecond) {
		mu.Lock()
		left := len(sent)
		mu.Unlock()
		if left == 0 {
			break
		}
	}
	stop()
	if err := errors.Join(failed, <-ended); err != nil && !errors.Is(err, context.Canceled) {
		return err
	}
	if err := <-looked; err != nil && !errors.Is(err, context.Canceled) {
		return err
	}
	if len(took) == 0 {
		return errors.New("nobody was handed over")
	}
	slices.Sort(took)
	fmt.Printf("  %d signals at %d a second, %d of them over the line, %d seen: from the signal to the handoff median "+
		"%.0f ms, 99th percentile %.0f ms, longest %.0f ms, the first %.0f s left out; sent at most %.0f ms late\n",
		n, crossRate, crossing, len(took), took[len(took)/2], took[len(took)*99/100], took[len(took)-1],
		crossWarm.Seconds(), late)
	return nil
}
