package store

import (
	"context"
	"math"
	"sync"
	"time"
)

// Words are found by an index of the trigrams they hold, which has a list of its own for each. Some trigrams are in
// nearly all rows (the end of a domain, what every name of a language ends with), say nothing of anybody, and have the
// longest lists. So the index is asked for the rare ones of a word alone, and whom it finds for all of the word.

// What is rare: no more than this share of all rows has it, or than so many times those that have the rarest of the
// word. Where even that one is in more rows than rarestAtMost, the word is left as it is.
const rareShare, rareTimes, rarestAtMost = 0.02, 3.0, 0.2

// gramLen is how many letters a trigram has.
const gramLen = 3

// gramsLast is for how long it is not looked again how often trigrams are.
const gramsLast = 10 * time.Minute

// grams says how often trigrams are in the words of rows, by what the database keeps of a sample of them. It is safe
// for use by several goroutines.
type grams struct {
	mu sync.Mutex
	of map[string]*gramShares // by the table
}

// gramShares are the shares of rows that have a trigram, as they were at an instant; nil: nobody has looked yet.
type gramShares struct {
	share map[string]float64
	at    time.Time
}

// sharesOf answers how often trigrams are in the column of words of a table. Nil: nothing is known of it.
func (db Queries) sharesOf(ctx context.Context, table string) (map[string]float64, error) {
	g := db.grams
	g.mu.Lock()
	has := g.of[table]
	g.mu.Unlock()
	if has != nil && time.Since(has.at) < gramsLast {
		return has.share, nil
	}
	// As many values as stand as far apart: a sample. What it costs to read is paid once in ten minutes.
	sample, err := all[string](ctx, db, `
		select unnest(histogram_bounds::text::text[])
		from pg_stats
		where schemaname = current_schema() and tablename = $1 and attname = 'words'`, table)
	if err != nil {
		return nil, err
	}
	has = &gramShares{at: time.Now()}
	if len(sample) > 0 {
		has.share = map[string]float64{}
	}
	for _, words := range sample {
		met := map[string]bool{}
		eachGram(words, func(i int) {
			if gram := words[i : i+gramLen]; !met[gram] {
				met[gram] = true
				has.share[gram] += 1 / float64(len(sample))
			}
		})
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.of[table] = has
	return has.share, nil
}

// eachGram calls f for where each trigram begins: three letters or numbers together.
func eachGram(s string, f func(i int)) {
	run := 0
	for i := range len(s) {
		if !plainLetter(s[i]) {
			run = 0
			continue
		}
		if run++; run >= gramLen {
			f(i + 1 - gramLen)
		}
	}
}

// plainLetter reports whether a byte of a plain text is a letter or a number that stands for itself.
func plainLetter(b byte) bool { return 'a' <= b && b <= 'z' || '0' <= b && b <= '9' }

// rareParts are the parts of a word for which an index of trigrams is asked, of which all it finds has to have: those
// that few rows have. None: the whole word is asked for.
func rareParts(word string, share map[string]float64) []string {
	plain := make([]byte, len(word))
	for i := range len(word) {
		switch b := word[i]; {
		case b >= 0x80:
			return nil // what it becomes when it is made plain, its neighbours may say
		case 'A' <= b && b <= 'Z':
			plain[i] = b - 'A' + 'a'
		default:
			plain[i] = b
		}
	}
	word = string(plain)
	rarest := math.Inf(1)
	eachGram(word, func(i int) { rarest = min(rarest, share[word[i:i+gramLen]]) })
	if rarest > rarestAtMost || len(share) == 0 {
		return nil
	}
	most := max(rareShare, rareTimes*rarest)
	var parts []string
	from, to := 0, -1 // the part that is being made; to < from: none
	end := func() {
		if to > from {
			parts = append(parts, word[from:to])
		}
	}
	eachGram(word, func(i int) {
		if share[word[i:i+gramLen]] > most {
			return
		}
		if to-i != gramLen-1 { // it does not go on where the one before ended
			end()
			from = i
		}
		to = i + gramLen
	})
	end()
	return parts
}
