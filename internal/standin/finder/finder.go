// Package finder plays a finder of email addresses: of most people it finds something, the same each time.
// It is met over HTTP alone, as package ombak/internal/finder says.
package finder

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"net/http"
	"strings"
	"unicode"
)

// Options say how it answers.
type Options struct {
	Seed  uint64
	Token string
}

// Handler answers.
func Handler(o Options) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/find", o.find)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+o.Token {
			http.Error(w, "who are you?", http.StatusUnauthorized)
			return
		}
		mux.ServeHTTP(w, r)
	})
}

type person struct {
	ID                           int64
	First, Last, Company, Domain string
}

func (o Options) find(w http.ResponseWriter, r *http.Request) {
	var ask struct{ People []person }
	err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 256<<10)).Decode(&ask)
	if err != nil || len(ask.People) > 100 {
		http.Error(w, "at most a hundred people", http.StatusBadRequest)
		return
	}
	found := []map[string]any{}
	for _, p := range ask.People {
		found = append(found, o.of(p)...)
	}
	w.Header().Set("Content-Type", "application/json")
	if err := json.NewEncoder(w).Encode(map[string]any{"found": found}); err != nil {
		return // whoever asked has gone
	}
}

// of is what it finds of one: of a hundred, 45 have a valid address, 20 a risky one, 15 a direct one
// beside a risky one, and 20 none.
func (o Options) of(p person) (out []map[string]any) {
	first, last, domain := letters(p.First), letters(p.Last), strings.ToLower(p.Domain)
	if domain == "" && letters(p.Company) != "" {
		domain = letters(p.Company) + ".example"
	}
	if first == "" || last == "" || domain == "" {
		return nil
	}
	h := fnv.New64a()
	fmt.Fprintf(h, "%d %s %s %s", o.Seed, first, last, domain)
	say := func(address, is string) {
		out = append(out, map[string]any{"id": p.ID, "address": address, "is": is})
	}
	guess := first + "." + last + "@" + domain
	switch n := rand.New(rand.NewPCG(h.Sum64(), 31)).IntN(100); {
	case n < 45:
		say(guess, "valid")
	case n < 65:
		say(guess, "risky")
	case n < 80:
		say(guess, "risky")
		say(first+"@"+domain, "direct")
	}
	return out
}

// letters are those of a name that an address has.
func letters(s string) string {
	return strings.Map(func(r rune) rune {
		if r = unicode.ToLower(r); r >= 'a' && r <= 'z' {
			return r
		}
		return -1
	}, s)
}
