package network

import (
	"fmt"
	"net/http/httptest"
	"path/filepath"
	"strings"
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

// A source has people, the same each time and no more than are asked for.
func TestPeopleOfASource(t *testing.T) {
	n, err := New(Options{Seed: 3, Now: time.Now, Token: "secret"})
	if err != nil {
		t.Fatal(err)
	}
	s := httptest.NewServer(n.Handler())
	defer s.Close()
	c := &network.Client{URL: s.URL, Token: "secret"}
	var first string
	for _, from := range network.Sources() {
		list, err := c.People(t.Context(), from, "https://net.example/x", 10)
		if err != nil || len(list) != 10 || list[0].First == "" || !strings.HasPrefix(list[0].Profile, "https://net.example/") {
			t.Errorf("%s has %+v, %v", from, list, err)
		}
		again, err := c.People(t.Context(), from, "https://net.example/x", 5)
		if err != nil || len(again) != 5 || again[4] != list[4] {
			t.Errorf("%s has others the second time, %v", from, err)
		}
		if list[0].Profile == first {
			t.Error("two sources have the same people")
		}
		first = list[0].Profile
	}
	if _, err := c.People(t.Context(), network.AtEvent, "", 5); err == nil {
		t.Error("of no event there are people")
	}
}
