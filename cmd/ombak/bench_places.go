package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ombak/internal/core/right"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/web"
	"ombak/internal/web/shell"
)

// benchPlaces asks for every page there is, with what hurts most, as everybody who may, in a workspace of so many
// people, and prints how long each took, how large it was and how much it asked of the database. The workspace is made
// once and kept by its size and its seed.
func benchPlaces(ctx context.Context, address string, args []string) error {
	var (
		f      = flag.NewFlagSet("places", flag.ContinueOnError)
		n      = f.Int("people", 1_000_000, "how many people")
		seed   = f.Int("seed", 1, "what the workspace is made from")
		rounds = f.Int("rounds", 30, "how often each page is asked for")
		anew   = f.Bool("anew", false, "make the workspace anew")
		only   = f.String("only", "", "only pages whose address has this in it; $ stands at its end")
		plans  = f.Int("plans", 5, "of how many of the slowest the slowest statement is explained")
		work   = f.Int("workers", 0, "how many workers run beside it")
		save   = f.String("save", "", "a folder into which what each page last answered is written")
	)
	if err := f.Parse(args); err != nil {
		return err
	}
	atEase() // as whoever serves them is
	at := time.Date(2026, 4, 14, 9, 0, 0, 0, time.UTC)
	clock := &fixed{}
	clock.set(at)
	name := fmt.Sprintf("ombak_places_%d_%d", *n, *seed)
	if *anew {
		if err := store.DropScratch(ctx, address, name); err != nil {
			return err
		}
	}
	kept, s, made, err := openPlaces(ctx, address, name)
	if err != nil {
		return err
	}
	defer s.Close()
	e, err := engine.New(ctx,
		base.Config{Store: s, Clock: clock, Mail: nobody{}, URL: "http://bench.example", Domain: "bench.example"})
	if err != nil {
		return err
	}
	if made {
		if err := fillPlaces(ctx, s, e, store.Places{People: *n, At: at, Seed: *seed}); err != nil {
			return errors.Join(fmt.Errorf("making the workspace: %w", err), store.DropScratch(ctx, address, name))
		}
	}
	if err := byHand(ctx, s, e, store.Places{People: *n, At: at, Seed: *seed}); err != nil {
		return fmt.Errorf("making what is done by hand: %w", err)
	}
	stop := besides(ctx, kept, clock, *work)
	defer stop()
	m, err := newMeasure(ctx, s, e)
	if err != nil {
		return err
	}
	defer m.server.Close()
	return m.run(ctx, asked{rounds: *rounds, workers: *work > 0, only: *only, plans: *plans, save: *save})
}

// byHand makes what is done by hand where a workspace has none: one that was kept from before.
func byHand(ctx context.Context, s *store.Store, e *engine.Engine, p store.Places) error {
	var made bool
	err := s.InTx(ctx, func(tx store.Tx) error {
		_, err := tx.Setting(ctx, madeByHand, &made)
		return err
	})
	if err != nil || made {
		return err
	}
	start := time.Now()
	n, err := outreach(ctx, s, e, p)
	if err != nil {
		return err
	}
	fmt.Printf("  %-28s %10d rows in %6.1f s\n", "work by hand", n, time.Since(start).Seconds())
	if err := s.Settle(ctx); err != nil {
		return err
	}
	return s.InTx(ctx, func(tx store.Tx) error { return tx.KeepSetting(ctx, madeByHand, true) })
}

// madeByHand is the setting that says of a workspace that it has what is done by hand.
const madeByHand = "bench places, by hand"

// madePlaces is the setting that says of a workspace that it is whole.
const madePlaces = "bench places"

// openPlaces opens the workspace that is kept under a name; made says that there was none, or a part of one.
func openPlaces(ctx context.Context, address, name string) (kept string, s *store.Store, made bool, err error) {
	for {
		if kept, made, err = store.KeptScratch(ctx, address, name); err != nil {
			return "", nil, false, err
		}
		if s, err = store.Open(ctx, kept, 16); err != nil {
			return "", nil, false, err
		}
		if err = s.Migrate(ctx); err != nil || made {
			return kept, s, made, err
		}
		var whole bool
		err = s.InTx(ctx, func(tx store.Tx) error {
			_, err := tx.Setting(ctx, madePlaces, &whole)
			return err
		})
		if err != nil || whole {
			return kept, s, false, err
		}
		s.Close()
		if err := store.DropScratch(ctx, address, name); err != nil {
			return "", nil, false, err
		}
	}
}

// fillPlaces makes a workspace, telling what it made.
func fillPlaces(ctx context.Context, s *store.Store, e *engine.Engine, p store.Places) error {
	began := time.Now()
	if err := s.EnsureMonths(ctx, p.At.AddDate(-2, 0, 0), p.At.AddDate(0, 2, 0)); err != nil {
		return err
	}
	if err := furnish(ctx, s, e); err != nil {
		return err
	}
	err := s.FillPlaces(ctx, p, func(what string, rows int64, took time.Duration) {
		fmt.Printf("  %-28s %10d rows in %6.1f s\n", what, rows, took.Seconds())
	})
	if err != nil {
		return err
	}
	start := time.Now()
	if err := liveAudiences(ctx, e); err != nil {
		return err
	}
	fmt.Printf("  %-28s %10d in %6.1f s\n", "live audiences", placesAudiences, time.Since(start).Seconds())
	fmt.Printf("  %d people, made in %.0f s\n", p.People, time.Since(began).Seconds())
	if err := s.Settle(ctx); err != nil {
		return err
	}
	return s.InTx(ctx, func(tx store.Tx) error { return tx.KeepSetting(ctx, madePlaces, true) })
}

// besides has workers run beside what is measured; it answers what ends them.
func besides(ctx context.Context, address string, clock *fixed, n int) (stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	var wg sync.WaitGroup
	for range n {
		wg.Go(func() {
			s, err := store.Open(ctx, address, 6)
			if err != nil {
				fmt.Println("a worker:", err)
				return
			}
			defer s.Close()
			e, err := engine.New(ctx, base.Config{Store: s, Clock: clock, Mail: nobody{}, URL: "http://bench.example",
				Domain: "bench.example"})
			if err == nil {
				err = e.Work(ctx)
			}
			if err != nil && ctx.Err() == nil {
				fmt.Println("a worker:", err)
			}
		})
	}
	return func() {
		cancel()
		wg.Wait()
	}
}

// measure is a server that says of each answer what it asked of the database.
type measure struct {
	s       *store.Store
	web     *web.Server
	server  *httptest.Server
	watched sync.Map // by the number of a request
	clients map[right.Role]*http.Client
}

// numbered is the head by which a request and what was watched of it are told together.
const numbered = "Bench-Number"

func newMeasure(ctx context.Context, s *store.Store, e *engine.Engine) (*measure, error) {
	m := &measure{s: s, web: web.New(ctx, shell.Config{Store: s, Engine: e}), clients: map[right.Role]*http.Client{}}
	h := m.web.Handler()
	start := time.Now()
	for _, ready := range []func(context.Context) error{m.web.Warm, m.web.Rehearse} { // as whoever serves it does
		if err := ready(ctx); err != nil {
			return nil, err
		}
	}
	fmt.Printf("counted over everybody at the start in %.1f s\n", time.Since(start).Seconds())
	m.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx, watched := store.Watch(r.Context())
		h.ServeHTTP(w, r.WithContext(ctx))
		if n := r.Header.Get(numbered); n != "" {
			m.watched.Store(n, watched)
		}
	}))
	for i, role := range []right.Role{right.Marketer, right.Lead, right.Admin, right.Rep, "a stranger"} {
		jar, err := cookiejar.New(nil)
		if err != nil {
			return nil, err
		}
		m.clients[role] = &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}
		if role == "a stranger" {
			continue
		}
		b := &browser{Server: m.server, client: m.clients[role]}
		code, err := b.ask(ctx, "/sign-in", url.Values{"email": {placesAddress(role, i)}, "password": {placesPassword}})
		if err != nil || code != http.StatusSeeOther {
			return nil, errors.Join(fmt.Errorf("signing in as %s answered %d", role, code), err)
		}
	}
	return m, nil
}

// answered is how a page was answered, by all its rounds.
type answered struct {
	path    string
	behind  bool // a page that is there asks for it
	role    right.Role
	code    int
	took    []float64 // ms
	bytes   int
	asked   int // statements
	slowest store.Statement
}

// at is the time that a share of the rounds, at least, did not exceed.
func (a *answered) at(share float64) float64 {
	return a.took[int(math.Ceil(float64(len(a.took))*share))-1]
}

// get asks for a page once, and writes what it answered into a folder, where there is one.
func (m *measure) get(ctx context.Context, a *answered, number, save string) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, m.server.URL+a.path, nil)
	if err != nil {
		return err
	}
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	req.Header.Set(numbered, number)
	if a.behind {
		req.Header.Set("HX-Request", "true")
	}
	start := time.Now()
	res, err := m.clients[a.role].Do(req)
	if err != nil {
		return fmt.Errorf("asking for %s: %w", a.path, err)
	}
	defer res.Body.Close()
	var body bytes.Buffer
	n, err := io.Copy(&body, res.Body)
	if err != nil {
		return err
	}
	size := int(n)
	if save != "" {
		name := url.PathEscape(a.path[1:]) + " " + string(a.role) + ".html"
		if err := os.WriteFile(filepath.Join(save, name[max(0, len(name)-200):]), body.Bytes(), 0o644); err != nil {
			return err
		}
	}
	a.took = append(a.took, float64(time.Since(start).Microseconds())/1000)
	a.code, a.bytes = res.StatusCode, size
	if w, ok := m.watched.LoadAndDelete(number); ok {
		w := w.(*store.Watched)
		if n, _ := w.Asked(); n > a.asked {
			a.asked = n
		}
		if s := w.Slowest(); s.Took > a.slowest.Took {
			a.slowest = s
		}
	}
	return nil
}

// asked is what is measured.
type asked struct {
	rounds, plans int
	workers       bool // some are at it meanwhile
	only, save    string
}

// The aims: how long a page takes at the 95th percentile, a key press in the finder too, and how large a page is before
// it is compressed. While workers are at it, a page may take twice as long.
const (
	aimTook  = 40.0 // ms
	aimFind  = 50.0 // ms
	aimBytes = 200_000
)

// slow reports whether a page is slower than it may be, or larger.
func (a *answered) slow(times float64) bool {
	aim := aimTook
	if strings.HasPrefix(a.path, "/find?") {
		aim = aimFind
	}
	return a.at(0.95) > times*aim || a.bytes > aimBytes || a.code >= 500
}

// run asks for every page, and fails where there is one of which it does not know what to ask.
func (m *measure) run(ctx context.Context, x asked) error {
	hurts, err := m.s.Hurts(ctx)
	if err != nil {
		return err
	}
	known := pathsOf(hurts)
	var missing []string
	var list []*answered
	for _, p := range m.web.Pages() {
		paths, ok := known[p]
		if !ok {
			missing = append(missing, p)
		}
		for _, path := range paths {
			if !strings.Contains(path+"$", x.only) {
				continue
			}
			for _, role := range rolesOf(p) {
				list = append(list, &answered{path: path, role: role})
			}
		}
	}
	if x.only != "" {
		missing = nil
	}
	if len(missing) > 0 {
		return fmt.Errorf("what is asked of these pages is not known: %s", strings.Join(missing, " "))
	}
	slow, times := 0, 1.0
	if x.workers {
		times = 2
	}
	for i, a := range list {
		for n := range x.rounds {
			if err := m.get(ctx, a, fmt.Sprintf("%d.%d", i, n), x.save); err != nil {
				return err
			}
			if n == 0 && a.took[0] > 5000 { // once is enough
				break
			}
		}
		slices.Sort(a.took)
		if a.slow(times) {
			slow++
		}
	}
	slices.SortFunc(list, func(a, b *answered) int { return int(1000 * (b.at(0.95) - a.at(0.95))) })
	fmt.Printf("%d pages as who may; %d are slower than %.0f ms (a key press in the finder: %.0f) at the 95th "+
		"percentile, or larger than %d bytes\n", len(list), slow, times*aimTook, times*aimFind, aimBytes)
	fmt.Printf("  %8s %8s %8s %5s %4s  %-10s %s\n", "median", "95 %", "bytes", "asked", "", "as", "page")
	for _, a := range list {
		fmt.Printf("  %8.1f %8.1f %8d %5d %4d  %-10s %s\n", a.at(0.5), a.at(0.95), a.bytes, a.asked, a.code, a.role,
			a.path)
	}
	if err := m.countsBeside(ctx, x.only); err != nil {
		return err
	}
	fmt.Printf("the server, and who asked it, had %d MB at most\n", mostMemory()>>20)
	return m.explain(ctx, list, x.plans)
}

// explain prints the slowest statement of the slowest pages, each once, with its plan.
func (m *measure) explain(ctx context.Context, list []*answered, most int) error {
	seen := map[string]bool{}
	for _, a := range list {
		if len(seen) == most {
			break
		}
		if q := a.slowest; q.SQL != "" && !seen[q.SQL] && !strings.HasPrefix(strings.TrimSpace(q.SQL), "begin") {
			seen[q.SQL] = true
			plan, err := m.s.Explain(ctx, q)
			if err != nil {
				fmt.Printf("\n%s: %v\n%s\n", a.path, err, q.SQL)
				continue
			}
			fmt.Printf("\n%s: %.1f ms\n%s\n%s\n", a.path, float64(q.Took.Microseconds())/1000, strings.TrimSpace(q.SQL),
				strings.Join(plan, "\n"))
		}
	}
	return nil
}
