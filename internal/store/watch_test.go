package store_test

import (
	"strings"
	"sync"
	"testing"

	"ombak/internal/store"
	"ombak/internal/store/storetest"
)

// Whoever watches is told of every statement within their context, by whichever goroutine, and of none outside it.
func TestWatch(t *testing.T) {
	s := storetest.New(t)
	ctx, w := store.Watch(t.Context())
	if _, err := s.Users(t.Context()); err != nil {
		t.Fatal(err)
	}
	if n, took := w.Asked(); n != 0 || took != 0 {
		t.Errorf("%d were asked before, in %v", n, took)
	}
	var wg sync.WaitGroup
	for range 7 {
		wg.Go(func() {
			if _, err := s.Users(ctx); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	n, took := w.Asked()
	slow := w.Slowest()
	if n != 7 || took < slow.Took || slow.Took <= 0 || !strings.Contains(slow.SQL, "app_user") {
		t.Errorf("%d were asked in %v, the slowest %+v", n, took, slow)
	}
	err := s.InTx(ctx, func(tx store.Tx) error {
		_, err := tx.Users(ctx)
		return err
	})
	if again, _ := w.Asked(); err != nil || again != n+3 { // with its begin and its commit
		t.Errorf("within a transaction %d more, %v", again-n, err)
	}
}
