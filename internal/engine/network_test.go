package engine

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/core/social"
	"ombak/internal/network"
	"ombak/internal/standin/mailserver"
	peoplenet "ombak/internal/standin/network"
	"ombak/internal/store"
)

// The network does what steps ask of a rep who leaves it to the network: each thing once, though
// answers are lost; no more on a day than the limits say; in the hours of the sequence. Who
// accepts or answers there is heard of, once; requests that nobody accepts are withdrawn.
func TestTheNetwork(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	there, err := peoplenet.New(peoplenet.Options{Seed: 3, Now: w.clock.Now, Token: "secret"})
	w.must(err)
	var mu sync.Mutex
	asked, withdrawn := map[string]int{}, map[string]bool{}
	first := map[string]time.Time{}
	puts := 0
	srv := httptest.NewServer(http.HandlerFunc(func(res http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		lost := false
		switch r.Method {
		case http.MethodPut:
			puts++
			if asked[r.URL.Path]++; asked[r.URL.Path] == 1 {
				first[r.URL.Path] = w.clock.Now()
			}
			lost = puts%3 == 0
		case http.MethodDelete:
			withdrawn[r.URL.Path] = true
		}
		if lost { // it is done, and nobody hears of it
			there.Handler().ServeHTTP(httptest.NewRecorder(), r)
			http.Error(res, "the answer is lost", http.StatusBadGateway)
			return
		}
		there.Handler().ServeHTTP(res, r)
	}))
	t.Cleanup(srv.Close)
	w.e.Config.Network = &network.Client{URL: srv.URL, Token: "secret"}
	w.restart()

	days := func(n int) calendar.Span { return calendar.Span{N: n, Unit: calendar.Days} }
	plan := w.plan(
		&sequence.Social{Common: sequence.Common{Title: "Connect"}, ToDo: sequence.ToDo{Limit: days(30)},
			What: sequence.Connect, Text: "Dear {{ person.first_name }}, from one who counts fish.", After: 6},
		&sequence.Watch{Common: sequence.Common{Title: "Accepts?"}, Signal: signal.Accepted, For: days(9)},
		&sequence.Social{Common: sequence.Common{Title: "Write"}, ToDo: sequence.ToDo{Limit: days(30)},
			What: sequence.SocialNote, Text: "Shall I send you our guide?"})
	plan.LongestStay = calendar.Span{}
	q := w.running("By the network", plan)
	w.must(w.s.SetEntry(w.ctx, q, store.Entry{Hand: true}, w.clock.Now()))
	w.must(w.e.Launch(w.ctx, q, w.marketer))
	var people []int64
	for i := range 24 {
		id := w.fill(fmt.Sprint("P", i), fmt.Sprintf("p%d@network.example", i))
		_, err := w.s.DB().ExecContext(w.ctx, "update person set profile = $2, owner_id = $3 where id = $1", id,
			fmt.Sprintf("https://network.example/in/p%d", i), w.rep1)
		w.must(err)
		people = append(people, id)
	}
	w.tx(func(tx store.Tx) error {
		entry, err := tx.RunningSequence(w.ctx, q)
		if err != nil {
			return err
		}
		_, err = tx.Enrol(w.ctx, &entry, people, w.clock.Now())
		return err
	})
	live := func(until time.Duration) {
		t.Helper()
		for w.clock.Now().Before(day0.Add(until)) {
			w.clock.set(w.clock.Now().Add(4 * time.Hour))
			for range 2 {
				_, err := w.e.Decide(w.ctx)
				w.must(err)
				if _, err := w.e.MeetNetwork(context.Background()); err != nil && puts%3 != 0 {
					t.Fatal(err)
				}
			}
		}
	}
	live(2 * time.Hour)
	if len(asked) != 0 {
		t.Fatalf("she does it herself, and the network was asked %d times", len(asked))
	}
	w.must(w.e.SetNetworkAccount(w.ctx, w.rep1, &social.Limits{sequence.Connect: 5}))
	if w.e.SetNetworkAccount(w.ctx, w.rep1, &social.Limits{sequence.Connect: 5000}) == nil {
		t.Error("no limit is too large")
	}
	live(20 * dayLong)

	onDay := map[string]int{}
	for path, at := range first {
		if h := at.Hour()*60 + at.Minute(); at.Weekday() == time.Saturday || at.Weekday() == time.Sunday ||
			h < 8*60+30 || h >= 17*60 {
			t.Errorf("%s at %s, outside its hours", path, at)
		}
		if onDay[at.Format(time.DateOnly)]++; onDay[at.Format(time.DateOnly)] > 5+40 {
			t.Errorf("%d on %s", onDay[at.Format(time.DateOnly)], at.Format(time.DateOnly))
		}
	}
	most := w.count(`select max(n) from (select count(*) as n from errand where what = 'connect'
		group by (begun_at at time zone 'UTC')::date) x`)
	connects := w.count("select count(*) from errand where what = 'connect'")
	if most != 5 || connects != 24 {
		t.Errorf("%d requests, at most %d on a day", connects, most)
	}
	repeated := 0
	for _, n := range asked {
		repeated += n - 1
	}
	if repeated == 0 {
		t.Error("no answer was lost: nothing is shown")
	}
	if n := w.count("select count(*) from touch t join errand x on x.touch_id = t.id where t.state <> 'done'"); n != 0 {
		t.Errorf("%d were asked for, and are not done", n)
	}
	accepted := w.count("select count(*) from signal where kind = $1", int(signal.Accepted))
	distinct := w.count("select count(distinct touch_id) from signal where kind = $1", int(signal.Accepted))
	notes := w.count("select count(*) from errand where what = 'message'")
	gone := w.count("select count(*) from touch t join work k on k.touch_id = t.id where k.outcome = 'not possible'")
	if accepted < 5 || accepted != distinct || notes != accepted {
		t.Errorf("%d accepted, of %d requests, and %d were written to; %d are not there", accepted, distinct, notes, gone)
	}
	if n := w.count("select count(*) from signal where kind = $1", int(signal.SocialReply)); n == 0 || n > notes {
		t.Errorf("%d answered of %d", n, notes)
	} else if d := w.count("select count(*) from incoming where kind = $1 and due_at is not null and answer = '' and "+
		"said <> ''", int(signal.SocialReply)); d != n {
		t.Errorf("%d answers on the network lie on desks, of %d", d, n)
	}
	if want := w.count(`select count(*) from errand x join touch t on t.id = x.touch_id join work k using (touch_id)
		where x.what = 'connect' and not exists (select from signal s where s.touch_id = t.id and s.kind = $1)`,
		int(signal.Accepted)); len(withdrawn) != want {
		t.Errorf("%d were withdrawn, and %d stood for too long", len(withdrawn), want)
	}
	w.figuresHold()

	// Whoever does not leave it to the network any more does it on the desk.
	w.must(w.e.SetNetworkAccount(w.ctx, w.rep1, nil))
	if list, err := w.s.NetworkAccounts(w.ctx); err != nil || len(list) != 0 {
		t.Errorf("accounts: %v, %v", list, err)
	}
}
