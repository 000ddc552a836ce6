// Package phone plays a telephone exchange and those who are rung. Each has a temperament: they answer,
// have a machine that answers, are engaged, or let it ring. From one seed the same numbers do the same
// at the same try. It is met over HTTP alone, as package ombak/internal/phone says.
package phone

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"net/http"
	"sync"
	"time"
)

// Options say who is there.
type Options struct {
	Seed  uint64
	Now   func() time.Time // the machine's: whoever rings waits
	Token string
}

// call is one that was made.
type call struct {
	to   string
	nth  int // the how-manieth to this number
	at   time.Time
	over time.Time // when it was hung up; zero: it was not
}

// Exchange is all of it.
type Exchange struct {
	Options
	mu    sync.Mutex
	calls map[string]*call
	rung  map[string]int
}

// mostKept bounds how many calls are remembered.
const mostKept = 10_000

// New opens it.
func New(o Options) *Exchange {
	return &Exchange{Options: o, calls: map[string]*call{}, rung: map[string]int{}}
}

// Handler answers.
func (x *Exchange) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("PUT /v1/calls/{id}", x.dial)
	mux.HandleFunc("GET /v1/calls/{id}", x.state)
	mux.HandleFunc("DELETE /v1/calls/{id}", x.hangUp)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+x.Token {
			http.Error(w, "who are you?", http.StatusUnauthorized)
			return
		}
		x.mu.Lock()
		defer x.mu.Unlock()
		mux.ServeHTTP(w, r)
	})
}

func (x *Exchange) dial(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	if x.calls[id] == nil {
		var ask struct{ From, To string }
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&ask); err != nil || ask.To == "" {
			http.Error(w, "no call", http.StatusBadRequest)
			return
		}
		if len(x.calls) >= mostKept {
			x.calls = map[string]*call{}
		}
		x.rung[ask.To]++
		x.calls[id] = &call{to: ask.To, nth: x.rung[ask.To], at: x.Now()}
	}
	x.say(w, x.calls[id])
}

func (x *Exchange) state(w http.ResponseWriter, r *http.Request) {
	c := x.calls[r.PathValue("id")]
	if c == nil {
		http.Error(w, "no such call", http.StatusNotFound)
		return
	}
	x.say(w, c)
}

func (x *Exchange) hangUp(w http.ResponseWriter, r *http.Request) {
	c := x.calls[r.PathValue("id")]
	if c == nil {
		http.Error(w, "no such call", http.StatusNotFound)
		return
	}
	if c.over.IsZero() {
		c.over = x.Now()
	}
	x.say(w, c)
}

// says is how a call goes: for how long it rings, how it ends, and for how long they talk.
func (x *Exchange) says(c *call) (rings time.Duration, end string, talks time.Duration) {
	h := fnv.New64a()
	fmt.Fprintf(h, "%d %s %d", x.Seed, c.to, c.nth)
	rnd := rand.New(rand.NewPCG(h.Sum64(), 29))
	second := func(least, more int) time.Duration { return time.Duration(least+rnd.IntN(more)) * time.Second }
	switch n := rnd.IntN(100); {
	case n < 40:
		return second(2, 5), "answered", second(45, 400)
	case n < 65:
		return second(6, 4), "voicemail", second(15, 10)
	case n < 75:
		return second(1, 2), "engaged", 0
	case n < 97:
		return second(12, 6), "no answer", 0
	}
	return second(1, 1), "no such number", 0
}

func (x *Exchange) say(w http.ResponseWriter, c *call) {
	rings, end, talks := x.says(c)
	now := x.Now()
	if !c.over.IsZero() {
		now = c.over
	}
	out := map[string]any{"state": "ringing"}
	switch since := now.Sub(c.at); {
	case since < rings && c.over.IsZero():
	case since < rings: // hung up while it rang
		out = map[string]any{"state": "ended", "end": "no answer"}
	case talks == 0:
		out = map[string]any{"state": "ended", "end": end}
	case since < rings+talks && c.over.IsZero():
		out = map[string]any{"state": "talking", "end": end, "seconds": int((since - rings).Seconds())}
	default:
		out = map[string]any{"state": "ended", "end": end, "seconds": int(min(since-rings, talks).Seconds())}
	}
	w.Header().Set("Content-Type", "application/json")
	if err := json.NewEncoder(w).Encode(out); err != nil {
		return // whoever asked has gone
	}
}
