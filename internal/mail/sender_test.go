package mail

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"ombak/internal/standin/unruly"
)

// Letters go over several connections at a time, over no more than are asked for,
// and over those that a server leaves where it lets fewer be open.
func TestConnections(t *testing.T) {
	for _, c := range []struct{ conns, lets, opened int }{{0, 9, 1}, {1, 9, 1}, {4, 9, 4}, {4, 1, 1}, {4, 2, 2}} {
		t.Run(fmt.Sprint(c), func(t *testing.T) {
			var mu sync.Mutex
			opened := 0
			srv, err := unruly.Start(func(at string) string {
				mu.Lock()
				defer mu.Unlock()
				if at == "RCPT" {
					time.Sleep(time.Millisecond) // long enough for the others to want one too
				}
				if at != "greeting" {
					return ""
				}
				if opened >= c.lets {
					return "421 4.7.0 too many connections"
				}
				opened++
				return ""
			})
			if err != nil {
				t.Fatal(err)
			}
			defer srv.Close()
			s, err := NewSender(srv.Addr())
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			s.Conns = c.conns
			var wg sync.WaitGroup
			for g := range 8 {
				wg.Go(func() {
					for i := range 5 {
						l := letter
						l.ID = fmt.Sprintf("%d.%d@mail.karang.example", g, i)
						if fate, err := s.Send(t.Context(), l); fate != Taken {
							t.Errorf("%s: %v", fate, err)
						}
					}
				})
			}
			wg.Wait()
			if len(srv.Taken()) != 40 || opened > c.opened || c.lets == 9 && opened != c.opened {
				t.Errorf("%d letters over %d connections, want 40 over %d", len(srv.Taken()), opened, c.opened)
			}
		})
	}
}
