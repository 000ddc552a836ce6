package network

import (
	"fmt"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"ombak/internal/network"
)

// The network does each errand once, tells each thing that people did once and in order, also
// after it was opened anew, and lets nobody in without the token.
func TestTheNetworkOverHTTP(t *testing.T) {
	now := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	o := Options{Seed: 5, Now: func() time.Time { return now }, Token: "secret",
		File: filepath.Join(t.TempDir(), "network")}
	open := func() *network.Client {
		n, err := New(o)
		if err != nil {
			t.Fatal(err)
		}
		srv := httptest.NewServer(n.Handler())
		t.Cleanup(srv.Close)
		return &network.Client{URL: srv.URL, Token: "secret"}
	}
	c := open()
	ctx := t.Context()
	may := func(id, what, profile string) bool {
		t.Helper()
		done, err := c.Do(ctx, network.Errand{ID: id, From: "t@x.example", Profile: profile, What: what, Text: "Hello"})
		if err != nil {
			t.Fatal(err)
		}
		return done
	}
	profile := func(i int) string { return fmt.Sprintf("https://network.example/in/p%d", i) }
	possible := 0
	for i := range 200 {
		id := fmt.Sprintf("t%d", i)
		once := may(id, "connect", profile(i))
		if once != may(id, "connect", profile(i)) {
			t.Fatal("asked twice, it answers differently")
		}
		if once {
			possible++
		}
	}
	if possible < 180 || possible == 200 || may("t900", "connect", "no address") || may("t901", "message", profile(1)) {
		t.Errorf("%d of 200 are there; or one that is not connected can be written to", possible)
	}
	seen, after, last := map[string]int{}, "", time.Time{}
	for range 90 {
		now = now.Add(time.Hour)
		if now.Hour() == 12 {
			c = open()
		}
		list, err := c.News(ctx, after)
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range list {
			if seen[n.Errand]++; seen[n.Errand] > 1 || n.At.Before(last) || n.At.After(now) || n.What != "accepted" {
				t.Errorf("news %+v, after %s", n, last)
			}
			after, last = n.Cursor, n.At
		}
	}
	if len(seen) < 60 || len(seen) > 120 {
		t.Errorf("%d of 200 accepted", len(seen))
	}
	met := -1
	for i := range 200 {
		if seen[fmt.Sprintf("t%d", i)] == 1 {
			met = i
			break
		}
	}
	if !may("t902", "message", profile(met)) {
		t.Error("who has accepted cannot be written to")
	}
	if err := c.Withdraw(ctx, "t0"); err != nil {
		t.Error(err)
	}
	if _, err := (&network.Client{URL: c.URL, Token: "guessed"}).News(ctx, ""); err == nil {
		t.Error("anybody is told")
	}
}
