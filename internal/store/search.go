package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// What is looked for in a list of people is words: each stands somewhere in a
// name, an address, or the name or domain of the company, in any order, without
// regard to case and accents. A word of a letter or two begins one of those.
//
// Where few people have all the words, they are looked up by an index of
// trigrams, and the page is those few in its order. Where many do, each row is
// asked as the page's own order comes to it: the page is full soon. Where it is
// not, because those who have it stand together elsewhere in that order (all of
// one family in the order of names), they are looked up after all. How many do,
// the planner estimates first, since only to count them costs more than a page.

var (
	fewHave    = 5000  // so many people are looked up at once
	fewNames   = 15000 // and so many in the order of names, which stand beside the words
	walkAtMost = 10000 // so many rows are asked before that
)

const (
	maxWords = 6
	// shortWord is how many letters a word has that no trigram stands for: it is
	// found at the beginning of a name alone.
	shortWord = 2
)

// search is what is looked for, and for whom it was found.
type search struct {
	like []string // patterns, all of which hold; none: nothing is looked for
	many bool     // those who have them were not looked up
	ids  []int64
	n    float64 // how many have them, as the planner expects
}

// wordsOf splits what was typed.
func wordsOf(text string) []string {
	words := strings.FieldsFunc(text, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsNumber(r) && !unicode.IsMark(r) && !strings.ContainsRune("@._+-'’&", r)
	})
	var out []string
	for _, w := range words {
		if w = strings.Trim(w, ".-_'’&"); w != "" && len(out) < maxWords {
			out = append(out, w)
		}
	}
	if text = strings.TrimSpace(text); len(out) == 0 && text != "" {
		out = append(out, text) // signs alone, which begin nobody's name
	}
	return out
}

// searchFor is a search for what was typed, before anybody is looked up.
func searchFor(text string) search {
	var q search
	for _, w := range wordsOf(text) {
		space := ""
		if utf8.RuneCountInString(w) <= shortWord {
			space = " "
		}
		q.like = append(q.like, "%"+space+likeText(w)+"%")
	}
	q.many = len(q.like) > 0
	return q
}

// seek looks up whom a text is about, if they are few. In the order of names
// nobody has to be looked up first.
func seek(ctx context.Context, db querier, text string, order Order) (search, error) {
	q := searchFor(text)
	if len(q.like) == 0 {
		return q, nil
	}
	c := compiler{}
	who := c.whoHas(q)
	var err error
	if q.n, err = estimate(ctx, db, who, c.args...); err != nil || q.n > float64(2*fewHave) || order == ByName {
		q.many = order != ByName || q.n > float64(fewNames)
		return q, err
	}
	q.ids, err = all[int64](ctx, db, who+" limit "+c.arg(fewHave+1), c.args...)
	q.many = len(q.ids) > fewHave
	return q, err
}

// up looks up everybody whom a search is about.
func (q search) up(ctx context.Context, db querier, order Order) (search, error) {
	if q.many = false; order == ByName {
		return q, nil
	}
	c := compiler{}
	who := c.whoHas(q)
	var err error
	q.ids, err = all[int64](ctx, db, who, c.args...)
	return q, err
}

// whoHas selects those who have all words.
func (c *compiler) whoHas(q search) string {
	return "select x.person_id from person_search x where " + c.hasByIndex(q)
}

// hasByIndex is the condition over x, a person_search, that the index of
// trigrams answers. The end of a domain, which thousands share, is asked of the
// rows alone: reading its long lists costs more than all the rest.
func (c *compiler) hasByIndex(q search) string {
	var begins []string
	for _, l := range q.like {
		if begin := l[:max(0, strings.LastIndexByte(l, '.'))]; len(begin) > len("%")+shortWord {
			begins = append(begins, begin+"%")
		} else {
			begins = append(begins, l)
		}
	}
	where := c.has(begins, "x.words")
	if !slices.Equal(begins, q.like) {
		where += " and " + c.has(q.like, "(x.words || '')")
	}
	return where
}

// estimate is how many rows the planner expects of a query.
func estimate(ctx context.Context, q querier, query string, args ...any) (float64, error) {
	raw, err := one[string](ctx, q, "explain (format json) "+query, args...)
	if err != nil {
		return 0, err
	}
	var plan []struct {
		Plan struct {
			Rows float64 `json:"Plan Rows"`
		}
	}
	if err := json.Unmarshal([]byte(raw), &plan); err != nil || len(plan) == 0 {
		return 0, fmt.Errorf("reading a plan: %w", err)
	}
	return plan[0].Plan.Rows, nil
}

// has is the condition that words hold all patterns.
func (c *compiler) has(like []string, words string) string {
	all := ""
	for i, l := range like {
		if i > 0 {
			all += " and "
		}
		all += words + " like plain_text(" + c.arg(l) + "::text)"
	}
	return all
}

// sought is the condition of a search over the person of an id.
func (c *compiler) sought(q search, id string) string {
	switch {
	case len(q.like) == 0:
		return ""
	case q.many:
		return " and exists (select from person_search x where x.person_id = " + id + " and " + c.has(q.like, "x.words") + ")"
	}
	return " and " + id + " = any (" + c.arg(append([]int64{}, q.ids...)) + ")"
}

// soughtInOrder is sought for a page that is read in an order, of those whom
// many are alike. The planner may not turn the question round: it takes who has
// a word to be spread over the order as everybody is, and they are not where the
// order is that of names.
func (c *compiler) soughtInOrder(q search, id string) string {
	words := "(select x.words from person_search x where x.person_id = " + id + ")"
	return c.has(q.like, words)
}

// found are the rows of a table that are about those who were looked up, read
// before anything is put in order; the table itself where they are many.
func (c *compiler) found(q search, table, id string) string {
	if len(q.like) == 0 || q.many {
		return table
	}
	also := ""
	if table == "standing" {
		also = "f.model_id = " + theModel + " and "
	}
	ids := c.arg(append([]int64{}, q.ids...))
	return "(select f.* from " + table + " f where " + also + "f." + id + " = any (" + ids + ") offset 0)"
}
