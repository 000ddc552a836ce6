// Package network plays the network on which reps reach people. Each of its people has a
// temperament: they accept and answer some hours or days later, or never. From one seed the same
// errands lead to the same acts. It is met over HTTP alone, as package ombak/internal/network says.
package network

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Options say who is there.
type Options struct {
	Seed  uint64
	Now   func() time.Time
	Token string
	File  string // where errands are kept; empty: in memory only
}

// errand is one that was done.
type errand struct {
	ID        string    `json:"id"`
	Profile   string    `json:"profile"`
	What      string    `json:"what"`
	At        time.Time `json:"at"`
	Done      bool      `json:"done"`
	Withdrawn time.Time `json:"withdrawn,omitzero"`
}

// Network is all of it.
type Network struct {
	Options
	mu      sync.Mutex
	errands map[string]*errand
}

// New opens it.
func New(o Options) (*Network, error) {
	n := &Network{Options: o, errands: map[string]*errand{}}
	if o.File == "" {
		return n, nil
	}
	f, err := os.Open(o.File)
	if errors.Is(err, os.ErrNotExist) {
		return n, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var x errand
		if err := json.Unmarshal(lines.Bytes(), &x); err != nil {
			return nil, fmt.Errorf("reading the network's errands: %w", err)
		}
		n.errands[x.ID] = &x
	}
	return n, nil
}

func (n *Network) keep(x *errand) error {
	n.errands[x.ID] = x
	if n.File == "" {
		return nil
	}
	line, err := json.Marshal(x)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(n.File, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(line, '\n'))
	return errors.Join(err, f.Close())
}

// Handler answers.
func (n *Network) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("PUT /v1/errands/{id}", n.do)
	mux.HandleFunc("DELETE /v1/errands/{id}", n.withdraw)
	mux.HandleFunc("GET /v1/news", n.news)
	mux.HandleFunc("GET /v1/people", n.people)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+n.Token {
			http.Error(w, "who are you?", http.StatusUnauthorized)
			return
		}
		n.mu.Lock()
		defer n.mu.Unlock()
		mux.ServeHTTP(w, r)
	})
}

func (n *Network) do(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	x := n.errands[id]
	if x == nil {
		x = &errand{}
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(x); err != nil {
			http.Error(w, "no errand", http.StatusBadRequest)
			return
		}
		x.ID, x.At, x.Done = id, n.Now(), n.there(x.Profile)
		if x.What == "message" {
			x.Done = x.Done && n.connected(x.Profile)
		}
		if err := n.keep(x); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
	}
	say(w, map[string]any{"done": x.Done})
}

func (n *Network) withdraw(w http.ResponseWriter, r *http.Request) {
	if x := n.errands[r.PathValue("id")]; x != nil && x.Withdrawn.IsZero() {
		y := *x
		y.Withdrawn = n.Now()
		if err := n.keep(&y); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
	}
	w.WriteHeader(http.StatusNoContent)
}

// happening is what somebody did.
type happening struct {
	Cursor string    `json:"cursor"`
	Errand string    `json:"errand"`
	What   string    `json:"what"`
	Text   string    `json:"text,omitempty"`
	At     time.Time `json:"at"`
}

func (n *Network) news(w http.ResponseWriter, r *http.Request) {
	list := []happening{}
	for _, h := range n.happened() {
		if h.Cursor > r.URL.Query().Get("after") && len(list) < 200 {
			list = append(list, h)
		}
	}
	say(w, map[string]any{"news": list})
}

// happened lists what people have done by now, in the order of its instants.
func (n *Network) happened() (out []happening) {
	now := n.Now()
	for _, x := range n.errands {
		if h, ok := n.follows(x); ok && !h.At.After(now) {
			h.Cursor = h.At.UTC().Format("20060102T150405.000000000") + " " + x.ID
			out = append(out, h)
		}
	}
	slices.SortFunc(out, func(a, b happening) int { return cmp.Compare(a.Cursor, b.Cursor) })
	return out
}

// follows is what an errand leads to.
func (n *Network) follows(x *errand) (h happening, ok bool) {
	if !x.Done {
		return h, false
	}
	rnd := n.random(x.Profile, x.What)
	h = happening{Errand: x.ID, At: x.At.Add(time.Duration(2+rnd.IntN(70)) * time.Hour)}
	switch x.What {
	case "connect":
		h.What, ok = "accepted", n.accepts(x.Profile)
		ok = ok && (x.Withdrawn.IsZero() || h.At.Before(x.Withdrawn))
	case "message":
		h.What, h.Text, ok = "answered", "Thank you for writing. Ring me next week?", rnd.IntN(100) < 35
	}
	return h, ok
}

// there reports whether there is such a profile: of a hundred, three are gone.
func (n *Network) there(profile string) bool {
	return strings.HasPrefix(profile, "http") && n.random(profile, "there").IntN(100) >= 3
}

// accepts reports whether somebody accepts requests at all: nearly half of them do.
func (n *Network) accepts(profile string) bool { return n.random(profile, "accepts").IntN(100) < 45 }

// connected reports whether somebody has accepted by now.
func (n *Network) connected(profile string) bool {
	now := n.Now()
	for _, x := range n.errands {
		if h, ok := n.follows(x); ok && x.Profile == profile && x.What == "connect" && !h.At.After(now) {
			return true
		}
	}
	return false
}

func (n *Network) random(profile, what string) *rand.Rand {
	h := fnv.New64a()
	fmt.Fprintf(h, "%d %s %s", n.Seed, profile, what)
	return rand.New(rand.NewPCG(h.Sum64(), 17))
}

func say(w http.ResponseWriter, x any) {
	w.Header().Set("Content-Type", "application/json")
	if err := json.NewEncoder(w).Encode(x); err != nil {
		return // whoever asked has gone
	}
}

// Names, titles and companies of those who are on the network; all invented.
var (
	firsts = []string{"Amara", "Bram", "Chidi", "Dagny", "Eero", "Farah", "Gita", "Hugo", "Ilse", "Jonas", "Kaia",
		"Lior", "Mira", "Nadia", "Oskar", "Petra", "Quim", "Runa", "Samir", "Tove"}
	lasts = []string{"Aabye", "Bekele", "Castellan", "Dorn", "Estrada", "Fjeld", "Gunawan", "Holt", "Iversund", "Jansz",
		"Kolbe", "Lindmark", "Moreira", "Nakata", "Osei", "Pahl", "Quist", "Ravn", "Sorel", "Tanaka-Lie"}
	titles = []string{"Site manager", "Biologist", "Head of operations", "Harbour engineer", "Buyer",
		"Plant manager"}
	kinds     = []string{"Fish Farm", "Port Authority", "Waterworks", "Desalination", "Salmon", "Marina"}
	places    = []string{"Grebeholm", "Salthaven", "Tidewick", "Kelpness", "Murrestrand", "Ondabay", "Reefmouth"}
	countries = []string{"NO", "ID", "CA", "PT", "KE", "NZ"}
)

// people lists whom an event, a group, a post or a search has: the same for the same words.
func (n *Network) people(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	most, err := strconv.Atoi(q.Get("n"))
	if err != nil || most < 0 || q.Get("what") == "" {
		http.Error(w, "whom?", http.StatusBadRequest)
		return
	}
	rnd := n.random(q.Get("what"), q.Get("from"))
	there := 20 + rnd.IntN(60)
	list := []map[string]string{}
	for i := range min(most, there) {
		first, last := firsts[rnd.IntN(len(firsts))], lasts[rnd.IntN(len(lasts))]
		list = append(list, map[string]string{"first": first, "last": last, "title": titles[rnd.IntN(len(titles))],
			"company": places[rnd.IntN(len(places))] + " " + kinds[rnd.IntN(len(kinds))],
			"country": countries[rnd.IntN(len(countries))],
			"profile": fmt.Sprintf("https://net.example/in/%s-%s-%d", strings.ToLower(first), strings.ToLower(last),
				rnd.IntN(900)+i)})
	}
	say(w, map[string]any{"people": list})
}
