package readers

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"ombak/internal/standin/mailserver"
)

func TestOneSeedOneWorld(t *testing.T) {
	plan := func(seed uint64) string {
		w := &World{Seed: seed}
		at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
		for n := range 300 {
			w.Got(&mailserver.Letter{N: n, To: fmt.Sprintf("p%d@x.example", n%100), At: at})
		}
		s := ""
		for _, a := range w.queue {
			s += a.what + a.at.String()
		}
		return fmt.Sprint(len(w.queue), s)
	}
	if plan(7) != plan(7) {
		t.Error("the same seed makes people act differently")
	}
	if plan(7) == plan(8) {
		t.Error("another seed makes the same people")
	}
}

func TestTemperaments(t *testing.T) {
	count := map[Temperament]int{}
	for n := range 2000 {
		count[Of(7, fmt.Sprintf("p%d@x.example", n))]++
	}
	total := 0
	for _, s := range shares {
		total += s.n
		if got := count[s.t]; got < s.n*20*6/10 || got > s.n*20*14/10 {
			t.Errorf("%d of 2,000 are %s, want about %d", got, s.t, s.n*20)
		}
	}
	if total != 100 {
		t.Errorf("the shares sum to %d", total)
	}
}

func TestActsComeInOrder(t *testing.T) {
	w := &World{Seed: 3}
	at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	for n := range 200 {
		w.Got(&mailserver.Letter{N: n, To: fmt.Sprintf("p%d@x.example", n), At: at})
	}
	if next := w.Next(); !next.After(at) {
		t.Errorf("somebody acts at %v, before the letter came", next)
	}
}

// TestFollowing presses a link that leads to a site which records visits: whoever lets it is noted there with the token
// of the link and the site's origin, nobody else is; a site without the script hears nothing.
func TestFollowing(t *testing.T) {
	type view struct{ V, U, K string }
	var got []view
	var origin string
	ombak := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var v view
		if err := json.NewDecoder(r.Body).Decode(&v); err != nil || r.URL.Path != "/v" {
			t.Errorf("%s: %v", r.URL, err)
		}
		got, origin = append(got, v), r.Header.Get("Origin")
	}))
	defer ombak.Close()
	script := true
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if script {
			fmt.Fprintf(w, `<script src="%s/v.js" defer></script>`, ombak.URL)
		}
	}))
	defer site.Close()
	w := &World{Seed: 7}
	let, pages := 0, 0
	for n := range 60 {
		got = nil
		if err := w.follow(t.Context(), http.DefaultClient,
			&mailserver.Letter{N: n, To: fmt.Sprintf("p%d@x.example", n)}, site.URL+"/night?ombak_v=7.x"); err != nil {
			t.Fatal(err)
		}
		if len(got) == 0 {
			continue
		}
		let++
		pages += len(got)
		if got[0].K != "7.x" || got[0].U != site.URL+"/night?ombak_v=7.x" || len(got[0].V) < 16 || origin != site.URL ||
			len(got) == 2 && (got[1].K != "" || got[1].U != site.URL+"/buoys" || got[1].V != got[0].V) {
			t.Fatalf("noted as %+v from %s", got, origin)
		}
	}
	if let < 15 || let > 45 || pages <= let {
		t.Errorf("%d of 60 let themselves be noted, with %d pages", let, pages)
	}
	got, script = nil, false
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `<script src="/assets/htmx.js"></script><script src="/assets/app.js"></script>`)
	}))
	defer other.Close()
	for n := range 20 {
		if err := w.follow(t.Context(), http.DefaultClient, &mailserver.Letter{To: fmt.Sprintf("p%d@x.example", n)},
			other.URL); err != nil || got != nil {
			t.Fatalf("a page with scripts of its own: %v, %v", got, err)
		}
	}
	if err := w.follow(t.Context(), http.DefaultClient, &mailserver.Letter{To: "p1@x.example"}, site.URL); err != nil ||
		got != nil {
		t.Errorf("a site without the script: %v, %v", got, err)
	}
	if err := w.follow(t.Context(), http.DefaultClient, &mailserver.Letter{To: "p1@x.example"},
		site.URL+"\x7f"); err == nil {
		t.Error("a broken link was followed")
	}
}

// Whoever has just asked for a letter mostly reads it and presses what is in it, once.
func TestWhoAskedReads(t *testing.T) {
	w := &World{Seed: 7}
	at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	count := func() map[string]int {
		out := map[string]int{}
		for _, a := range w.queue {
			out[a.what]++
		}
		w.queue = nil
		return out
	}
	for n := range 200 {
		to := fmt.Sprintf("p%d@x.example", n)
		w.Asks("P" + to[1:])
		w.Got(&mailserver.Letter{N: n, To: to, At: at})
	}
	asked := count()
	for n := range 200 {
		w.Got(&mailserver.Letter{N: n, To: fmt.Sprintf("p%d@x.example", n), At: at})
	}
	unasked := count()
	if asked["open"] < 170 || asked["press a link"] < 140 || asked["opt out"] != 0 || unasked["open"] > 130 ||
		unasked["press a link"] > 90 {
		t.Errorf("asked for: %v; not asked for: %v", asked, unasked)
	}
}
