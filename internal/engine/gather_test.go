package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"ombak/internal/core/signal"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Signals that come at the same time are all kept, each once, and each is durable when its bringer is answered; one
// that cannot be kept fails alone, and one whose bringer has gone is kept or not, and keeps nobody.
func TestSignalsThatComeTogether(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ana := w.norwegian("Ana")
	var wg sync.WaitGroup
	for i := range 200 {
		wg.Go(func() {
			s := store.Signal{Person: ana, Signal: signal.Signal{At: w.clock.Now(), Kind: signal.Open}, Detail: fmt.Sprint(i)}
			if i%50 == 7 {
				s.Person = 0 // there is none
				s.At = time.Time{}.AddDate(-4800, 0, 0)
			}
			err := w.e.RecordOne(w.ctx, s)
			if i%50 == 7 {
				if err == nil {
					t.Errorf("signal %d is kept, and cannot be", i)
				}
				return
			}
			if err != nil {
				t.Errorf("signal %d: %v", i, err)
			}
			if n := w.count("select count(*) from signal where person_id = $1 and detail = $2", ana, fmt.Sprint(i)); n != 1 {
				t.Errorf("signal %d was answered, and is there %d times", i, n)
			}
		})
	}
	wg.Wait()
	gone, cancel := context.WithCancel(w.ctx)
	cancel()
	if err := w.e.RecordOne(gone, store.Signal{Person: ana, Signal: signal.Signal{At: w.clock.Now(),
		Kind: signal.Open}}); err != nil && !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	w.must(w.e.RecordOne(w.ctx, store.Signal{Person: ana, Signal: signal.Signal{At: w.clock.Now(), Kind: signal.Click}}))
	if n := w.count("select count(*) from signal where person_id = $1 and kind = 5", ana); n != 1 {
		t.Errorf("after it %d are kept", n)
	}
}
