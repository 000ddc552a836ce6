package store_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ombak/internal/store"
)

// Whoever has all words is found, and nobody else, whatever parts of the words the index is asked for: beside a plain
// look at each one's own text. Nothing is known of how often trigrams are at first, then it is.
func TestWordsAreFound(t *testing.T) {
	k := open(t)
	rnd := rand.New(rand.NewPCG(8, 3))
	firsts := []string{"Renée", "René", "Ørjan", "Maren", "Kjersti", "Al", "O’Neil", "Anna-Lena", "Zoë", "İpek"}
	lasts := []string{"Strandholm", "Bergholm", "Holm", "Sørholm", "Nakamori", "d’Arcy", "Wu", "Östberg", "Quell"}
	pick := func(list []string) string { return list[rnd.IntN(len(list))] }
	plain := strings.NewReplacer("é", "e", "ø", "o", "ö", "o", "ë", "e", "i̇", "i", "İ", "i", "’", "'")
	fold := func(s string) string { return plain.Replace(strings.ToLower(s)) }
	var people, companies []string // their plain texts, by their place
	var ids, firms []int64
	for i := range 40 {
		name, domain := fmt.Sprintf("%s Vannverk %d", pick(lasts), i), fmt.Sprintf("vannverk%d.example", i)
		var id int64
		k.must(k.DB().QueryRowContext(k.ctx, "insert into company (name, domain, created_at) values ($1, $2, $3) "+
			"returning id", name, domain, at).Scan(&id))
		companies, firms = append(companies, fold(name+" "+domain)), append(firms, id)
	}
	for i := range 1500 {
		first, last, c := pick(firsts), pick(lasts), rnd.IntN(len(firms))
		email := fmt.Sprintf("%s.%d@vannverk%d.example", fold(last)[:2], i, c)
		var id int64
		k.must(k.DB().QueryRowContext(k.ctx, "insert into person (first_name, last_name, email, company_id, created_at) "+
			"values ($1, $2, $3, $4, $5) returning id", first, last, email, firms[c], at).Scan(&id))
		people, ids = append(people, " "+fold(first+" "+last+" "+email)+" "+companies[c]), append(ids, id)
	}
	words := func() string {
		var out []string
		for range 1 + rnd.IntN(3) {
			from := strings.Fields(people[rnd.IntN(len(people))])
			word := []rune(pick(from))
			if begin := rnd.IntN(len(word)); rnd.IntN(2) == 0 && len(word)-begin > 2 {
				word = word[begin : begin+3+rnd.IntN(len(word)-begin-2)]
			}
			if rnd.IntN(5) == 0 {
				word = []rune(strings.ToUpper(string(word)))
			}
			out = append(out, string(word))
		}
		return strings.Join(out, " ")
	}
	has := func(text, looked string) bool {
		for _, w := range store.WordsOf(looked) {
			if w = fold(w); len([]rune(w)) <= 2 {
				w = " " + w
			}
			if !strings.Contains(text, w) {
				return false
			}
		}
		return true
	}
	look := func(n int) {
		for i := range n {
			text := words()
			var want []int64
			for j, id := range ids {
				if has(people[j], text) {
					want = append(want, id)
				}
			}
			q := store.PeopleQuery{Text: text, Now: at, Limit: 2000, Order: store.Orders()[i%len(store.Orders())]}
			list, _, err := k.People(k.ctx, q)
			k.must(err)
			var got []int64
			for _, p := range list {
				got = append(got, p.ID)
			}
			slices.Sort(got)
			count, err := k.CountPeople(k.ctx, q)
			k.must(err)
			if !slices.Equal(got, want) || count != int64(len(want)) {
				t.Fatalf("%q, by %s: %d people found, %d counted, want %d", text, q.Order, len(got), count, len(want))
			}
		}
	}
	look(60)
	for _, table := range []string{"person_search", "company"} {
		if _, err := k.DB().ExecContext(k.ctx, "analyze "+table); err != nil {
			t.Fatal(err)
		}
	}
	k.ForgetShares()
	look(240)
	for _, text := range []string{"vann", "VERK1 holm", "vannverk3.example", "berg", "Östberg example", "7"} {
		want := 0
		for _, c := range companies {
			if all := strings.Fields(fold(text)); !slices.ContainsFunc(all, func(w string) bool {
				return !strings.Contains(c, w)
			}) {
				want++
			}
		}
		found, err := k.FindCompanies(k.ctx, text, 100)
		k.must(err)
		n, err := k.CountCompanies(k.ctx, store.CompanyQuery{Text: text})
		k.must(err)
		if len(found) != want || n != int64(want) || want == 0 {
			t.Errorf("%q: %d companies found, %d counted, want %d", text, len(found), n, want)
		}
	}
}

// The parts of a word for which an index is asked are those few have, as they stand in it; where its rarest is in most
// rows, or nothing is known, none are.
func TestRareParts(t *testing.T) {
	share := map[string]float64{"fir": 1, "irs": 1, "rst": 1, "st1": 0.1, "exa": 1, "xam": 1, "amp": 1, "mpl": 1,
		"ple": 1, "hol": 0.05, "olm": 0.15}
	for _, c := range []struct {
		word string
		want []string
	}{
		{"first12", []string{"t12"}},
		{"FIRST12", []string{"t12"}},
		{"first123", []string{"t123"}},
		{"12first34", []string{"12fi", "st34"}},
		{"strandholm", []string{"strandho"}},
		{"holm", []string{"holm"}}, // its most frequent is three times as often as its rarest
		{"example", nil},
		{"a.example", nil},
		{"ab", nil},
		{"x1@ab12.example", []string{"ab12"}},
		{"né123", nil},
	} {
		if got := store.RareParts(c.word, share); !slices.Equal(got, c.want) {
			t.Errorf("%s: the index is asked for %q, want %q", c.word, got, c.want)
		}
	}
	if got := store.RareParts("strand", nil); got != nil {
		t.Errorf("nothing is known: %q", got)
	}
}
