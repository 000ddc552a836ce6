package engine

import (
	"context"
	"errors"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/people"
	"ombak/internal/engine/sales"
	"ombak/internal/finder"
	"ombak/internal/network"
	"ombak/internal/phone"
	addresses "ombak/internal/standin/finder"
	"ombak/internal/standin/mailserver"
	peoplenet "ombak/internal/standin/network"
	exchange "ombak/internal/standin/phone"
	"ombak/internal/store"
)

// The phone rings who is to be called, for who has the call; how it ends suggests an outcome and is never
// recorded by itself; for how long they talked is kept with the call.
func TestThePhone(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	at := day0
	s := httptest.NewServer(exchange.New(exchange.Options{Seed: 7, Token: "secret", Now: func() time.Time { return at }}).Handler())
	defer s.Close()
	var people []int64
	for _, name := range []string{"Ana", "Ben", "Cyn", "Dan", "Eve", "Fay", "Gil", "Hal", "Ida", "Jon", "Kim", "Lou"} {
		people = append(people, w.caller(name, "NO", w.rep1))
	}
	calls := w.works(&sequence.Call{}, people...)
	if _, err := w.e.Dial(w.ctx, calls[people[0]], w.rep1); !errors.Is(err, sales.ErrNoPhone) {
		t.Errorf("without a phone: %v", err)
	}
	w.e.Config.Phone = &phone.Client{URL: s.URL, Token: "secret"}
	if _, err := w.e.Dial(w.ctx, calls[people[0]], w.rep2); !errors.Is(err, base.ErrNotYours) {
		t.Errorf("another dials: %v", err)
	}
	if _, there, err := w.e.OnThePhone(w.ctx, calls[people[0]], w.rep1); err != nil || there {
		t.Errorf("before it was dialled something is on the phone: %v", err)
	}
	ended := map[sequence.Outcome]int{}
	for _, p := range people {
		at = at.Add(time.Hour)
		touch := calls[p]
		x, err := w.e.Dial(w.ctx, touch, w.rep1)
		if err != nil || x.State != phone.Ringing || sales.CameOf(x) != "" {
			t.Fatalf("dialled it is %+v, %v", x, err)
		}
		at = at.Add(25 * time.Second)
		x, there, err := w.e.OnThePhone(w.ctx, touch, w.rep1)
		if err != nil || !there {
			t.Fatalf("it is not on the phone: %v", err)
		}
		if w.count("select count(*) from work where touch_id = $1 and open", touch) != 1 {
			t.Error("an outcome is recorded by itself")
		}
		outcome := sales.CameOf(x)
		ended[outcome]++
		w.must(w.e.FinishWork(w.ctx, touch, w.rep1, outcome, ""))
		if outcome == sequence.TheyTalked {
			if n := w.count("select seconds from work where touch_id = $1", touch); n < 15 || n > 25 {
				t.Errorf("they talked for %d s", n)
			}
			if c, err := w.s.PhoneCall(w.ctx, touch); err != nil || !c.Ended {
				t.Errorf("recorded, the call goes on: %+v, %v", c, err)
			}
		}
	}
	if ended[sequence.TheyTalked] == 0 || ended[sequence.NoAnswer]+ended[sequence.LeftMessage] == 0 {
		t.Errorf("the calls came to %v", ended)
	}
	// An exchange that is not there rings nobody; once it is back, it knows nothing of that, and it can be dialled again.
	yan := w.caller("Yan", "NO", w.rep1)
	again := w.works(&sequence.Call{}, yan)[yan]
	w.e.Config.Phone = &phone.Client{URL: "http://127.0.0.1:1", Token: "secret"}
	if _, err := w.e.Dial(w.ctx, again, w.rep1); err == nil {
		t.Error("dialled by nobody")
	}
	if x, there, err := w.e.LastCall(w.ctx, again, w.rep1); err != nil || !there || x.State != phone.Ringing {
		t.Errorf("dialled in vain it is kept as %+v, %v", x, err)
	}
	w.e.Config.Phone = &phone.Client{URL: s.URL, Token: "secret"}
	for range 2 {
		if _, there, err := w.e.OnThePhone(w.ctx, again, w.rep1); err != nil || there {
			t.Errorf("a call of which nobody knows is on the phone: %v", err)
		}
	}
	if x, err := w.e.Dial(w.ctx, again, w.rep1); err != nil || x.State != phone.Ringing {
		t.Errorf("dialled again: %+v, %v", x, err)
	}

	// Who is not to be called is not rung, whatever stands on the desk.
	zed := w.caller("Zed", "NO", w.rep1)
	touch := w.works(&sequence.Call{}, zed)[zed]
	_, err := w.s.DB().ExecContext(w.ctx, "update person set no_calls_at = now() where id = $1", zed)
	w.must(err)
	if _, err := w.e.Dial(w.ctx, touch, w.rep1); !errors.Is(err, sales.ErrNoNumber) {
		t.Errorf("who is not to be called is rung: %v", err)
	}
}

// deafFinder fails, then answers with what it is told.
type deafFinder struct {
	fails int
	found []finder.Found
	asked int
}

func (f *deafFinder) Find(context.Context, []finder.Person) ([]finder.Found, error) {
	if f.asked++; f.fails > 0 {
		f.fails--
		return nil, errors.New("busy")
	}
	return f.found, nil
}

// A step has the addresses of people looked for who have none; what may be used is kept as the step says,
// and nobody gets what is another's, or belongs to somebody who was erased.
func TestAddressesAreFound(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	meet := func(first, email string) int64 {
		id := w.meet(store.NewPerson{First: first, Email: first + "@x.example", Company: "Fjord Farms"})
		_, err := w.s.DB().ExecContext(w.ctx, "update person set email = $2, last_name = 'Moe', profile = 'https://net.example/' || id where id = $1", id, email)
		w.must(err)
		_, err = w.s.DB().ExecContext(w.ctx, "delete from contact_point where person_id = $1 and $2 = ''", id, email)
		w.must(err)
		return id
	}
	ana, ben, cyn, dan, eve := meet("Ana", ""), meet("Ben", ""), meet("Cyn", ""), meet("Dan", "dan@fjord.example"), meet("Eve", "")
	gone := meet("Gus", "gus@fjord.example")
	w.must(w.e.Erase(w.ctx, gone))
	f := &deafFinder{fails: 1, found: []finder.Found{{ID: ana, Address: "Ana@Fjord.example", Is: finder.Valid},
		{ID: ben, Address: "ben.r@fjord.example", Is: finder.Risky}, {ID: ben, Address: "ben@fjord.example", Is: finder.Direct},
		{ID: cyn, Address: "dan@fjord.example", Is: finder.Valid}, {ID: eve, Address: "gus@fjord.example", Is: finder.Valid}}}
	w.e.Config.Finder = f
	ask := func(use act.Use, people ...int64) {
		t.Helper()
		w.tx(func(tx store.Tx) error {
			var deeds []flow.Deed
			for _, p := range people {
				deeds = append(deeds, flow.Deed{Act: act.Find{Use: use}, Occasion: flow.Occasion{Person: p, At: day0, How: "a test"}})
			}
			return w.e.Do(w.ctx, tx, deeds)
		})
	}
	ask(act.AlsoPages, ana, ben, cyn, dan, eve)
	ask(act.ValidOnly, ana) // it is looked for already
	if n := w.count("select count(*) from address_ask"); n != 4 {
		t.Errorf("%d are looked for: who has one is too, or one twice", n)
	}
	if _, err := w.e.FindAddresses(w.ctx); err == nil {
		t.Error("a finder that fails does not")
	}
	if n, err := w.e.FindAddresses(w.ctx); err != nil || n != 0 {
		t.Errorf("asked again at once, %d are done, %v", n, err)
	}
	w.clock.set(day0.Add(6 * time.Minute))
	if n, err := w.e.FindAddresses(w.ctx); err != nil || n != 4 {
		t.Errorf("%d are done, %v", n, err)
	}
	for id, want := range map[int64]string{ana: "ana@fjord.example", ben: "ben@fjord.example", cyn: "", dan: "dan@fjord.example", eve: ""} {
		if p, err := w.s.Person(w.ctx, id); err != nil || p.Email != want {
			t.Errorf("%s has %q, want %q, %v", p.First, p.Email, want, err)
		}
	}
	// The stand-in, over HTTP, as a bulk action: it finds most.
	s := httptest.NewServer(addresses.Handler(addresses.Options{Seed: 3, Token: "secret"}))
	defer s.Close()
	w.e.Config.Finder = &finder.Client{URL: s.URL, Token: "secret"}
	var many []int64
	for i := range 40 {
		many = append(many, meet("P"+strings.Repeat("q", i+1), ""))
	}
	batch, err := w.e.Bulk(w.ctx, "find", "find email addresses", people.Chosen{IDs: many}, store.BatchDetail{Find: string(act.Whatever)}, w.marketer)
	w.must(err)
	w.must(w.e.RunBatch(w.ctx, batch))
	w.settle()
	if n := w.count("select count(*) from person where id = any ($1) and email <> ''", many); n < 24 || n == 40 {
		t.Errorf("of forty %d were found", n)
	}
}

// People of a source on the network come into an import, where nothing is kept before it was looked at.
func TestPeopleFromTheNetwork(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	if _, err := w.e.ImportFromNetwork(w.ctx, network.InGroup, "https://net.example/g/buoys", 5, w.marketer); err == nil {
		t.Error("without a network somebody comes")
	}
	n, err := peoplenet.New(peoplenet.Options{Seed: 3, Now: w.clock.Now, Token: "secret"})
	w.must(err)
	s := httptest.NewServer(n.Handler())
	defer s.Close()
	w.e.Config.Network = &network.Client{URL: s.URL, Token: "secret"}
	for _, x := range []struct {
		what string
		n    int
	}{{"", 5}, {"x", 0}, {"x", 501}, {strings.Repeat("x", 501), 5}} {
		if _, err := w.e.ImportFromNetwork(w.ctx, network.InGroup, x.what, x.n, w.marketer); err == nil {
			t.Errorf("%.10s, %d: somebody comes", x.what, x.n)
		}
	}
	batch, err := w.e.ImportFromNetwork(w.ctx, network.InGroup, "https://net.example/g/buoys", 12, w.marketer)
	w.must(err)
	if n := w.count("select count(*) from person"); n != 0 {
		t.Errorf("%d people are kept before anybody looked", n)
	}
	i, err := w.s.Import(w.ctx, batch)
	w.must(err)
	w.must(w.e.CheckImport(w.ctx, batch, i.Options.V))
	w.must(w.e.RunBatch(w.ctx, batch))
	w.must(w.e.StartImport(w.ctx, batch))
	w.must(w.e.RunBatch(w.ctx, batch))
	if n := w.count("select count(*) from person where profile like 'https://net.example/in/%' and first_name <> '' and company_id is not null"); n < 10 || n > 12 {
		t.Errorf("%d people came, of twelve", n)
	}
}
