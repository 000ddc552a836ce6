package main

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"runtime"
	"strings"
	"time"

	"ombak/internal/core/right"
	"ombak/internal/engine"
	"ombak/internal/store"
)

const (
	importRows  = 100_000
	importKnown = 20 // one row in so many is of somebody who is known
)

// benchImport measures an import end to end, from the first byte of the file
// to the last person kept, beside PostgreSQL's own COPY of the same rows.
func benchImport(ctx context.Context, s *store.Store, e *engine.Engine, clock *fixed) error {
	at := clock.Now()
	user, err := s.AddUser(ctx,
		store.User{Name: "Bench", Email: "bench@bench.example", Role: right.Marketer, PasswordHash: "x"}, at)
	if err != nil {
		return err
	}
	head := []string{"First name", "Last name", "Email", "Phone", "Job title", "Department", "Company", "Industry",
		"Country", "City", "Language", "Source"}
	file := func(name string, from, to, each int) []byte {
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		w.Write(head)
		for i := from; i < to; i += each {
			w.Write([]string{"First" + fmt.Sprint(i%997), "Last" + fmt.Sprint(i%7919),
				fmt.Sprintf("person.%d@company%d.example", i, i%4000), fmt.Sprintf("+44 20 7946 0%03d", i%1000),
				"Water quality lead", "Laboratory",
				fmt.Sprintf("Company %d", i%4000), "Waterworks", []string{"Norway", "GB", "Canada", "US"}[i%4],
				"City " + fmt.Sprint(i%300), "en", "fair"})
		}
		w.Flush()
		return b.Bytes()
	}
	bring := func(data []byte) (store.Import, time.Duration, error) {
		start := time.Now()
		id, err := e.NewImport(ctx, "bench.csv", bytes.NewReader(data), user)
		if err != nil {
			return store.Import{}, 0, err
		}
		i, err := s.Import(ctx, id)
		if err != nil {
			return i, 0, err
		}
		looked := time.Now()
		if err := e.CheckImport(ctx, id, i.Options.V); err != nil {
			return i, 0, err
		}
		if err := e.RunBatch(ctx, id); err != nil {
			return i, 0, err
		}
		checked := time.Now()
		if err := e.StartImport(ctx, id); err != nil {
			return i, 0, err
		}
		if err := e.RunBatch(ctx, id); err != nil {
			return i, 0, err
		}
		took := time.Since(start)
		if i, err = s.Import(ctx, id); err == nil {
			fmt.Printf("  taken in %.2f s, checked %.2f s, brought in %.2f s\n", looked.Sub(start).Seconds(),
				checked.Sub(looked).Seconds(), took.Seconds()-checked.Sub(start).Seconds())
		}
		return i, took, err
	}
	// Some of them are here already.
	known := file("known", 0, importRows, importKnown)
	if _, _, err := bring(known); err != nil {
		return err
	}
	known = nil
	if err := s.Settle(ctx); err != nil {
		return err
	}
	data := file("all", 0, importRows, 1)
	copied, err := s.CopyPlain(ctx, head, data)
	if err != nil {
		return err
	}
	most := memory()
	fmt.Printf("%d rows of %d columns, %.1f MB, one in %d known\n", importRows, len(head), float64(len(data))/1e6,
		importKnown)
	i, took, err := bring(data)
	peak := most()
	if err != nil {
		return err
	}
	again, err := s.CopyPlain(ctx, head, data)
	if err != nil {
		return err
	}
	put, err := s.PutPlain(ctx)
	if err != nil {
		return err
	}
	plain := (copied + again) / 2
	c := i.Counts.V
	fmt.Printf("  %d new, %d updated, %d unchanged, %d not taken\n", c.New, c.Updated, c.Unchanged, c.Rejected)
	fmt.Printf("import %8.0f rows/s, %.0f MB at most\nCOPY   %8.0f rows/s into a table with the same columns and no "+
		"index\ninsert %8.0f rows/s from there into the table of people, nothing looked at\n"+
		"import takes %.1f times as long as the copy, and %.1f times as long as both\n",
		importRows/took.Seconds(), float64(peak)/1e6, importRows/plain.Seconds(), importRows/put.Seconds(),
		took.Seconds()/plain.Seconds(), took.Seconds()/(plain+put).Seconds())
	if c.Rejected > 0 || c.New+c.Updated+c.Unchanged != importRows {
		return fmt.Errorf("rows are missing: %s", strings.TrimSpace(fmt.Sprint(c)))
	}
	return nil
}

// memory watches how much memory this process has, what it measures with among it, until most is called, which answers
// how much that was at most.
func memory() (most func() uint64) {
	runtime.GC()
	stop, peak := make(chan struct{}), make(chan uint64)
	go func() {
		var m runtime.MemStats
		for had := uint64(0); ; {
			runtime.ReadMemStats(&m)
			had = max(had, m.Sys-m.HeapReleased)
			select {
			case <-stop:
				peak <- had
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	return func() uint64 { close(stop); return <-peak }
}
