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
// Where few people have all the words, an index of trigrams finds them, and what
// a list is in order by stands beside the words: they are put in order as they
// are found. Where many do, each row is asked as the page's own order comes to
// it: the page is full soon. Where it is not, because those who have it stand
// together elsewhere in that order (all of one family in the order of names),
// they are found by the index after all. How many do, the planner estimates
// first, since only to count them costs more than a page.

// fewHave is how many are put in order as they are found: more of them where
// they may stand together in the order, as those of one name do in that of names.
var fewHave = map[Order]float64{ByScore: 6000, Newest: 6000, ByName: 20000, ByEmail: 20000, ByCompany: 20000}

// Of several words the index is asked for the rarest alone, where at most
// rareHave have it, else also for those that at most oftenTimes as many have: to
// read the long lists of the others costs more than to ask each who is found.
const rareHave, oftenTimes = 8000.0, 20.0

// walkAtMost is how many rows are asked otherwise; and no more than so many times
// those that would do if who has the words were spread evenly.
var walkAtMost, walkTimes = 10000.0, 2.0

const (
	maxWords = 6
	// shortWord is how many letters a word has that no trigram stands for: it is
	// found at the beginning of a name alone.
	shortWord = 2
)

// search is what is looked for, and how.
type search struct {
	words []word // all of which hold; none: nothing is looked for
	ask   []word // those that the index is asked for; none: all
	walk  int    // how many rows of the page's order are asked; 0: the index of trigrams is
}

// word is one that is looked for.
type word struct {
	text string   // as it was typed; a space before it where it is the beginning of a name
	rare []string // parts of it that few have; none are known: the index is asked for all of it
}

// like is its pattern.
func (w word) like() string { return "%" + likeText(w.text) + "%" }

// byIndex are the patterns that an index of trigrams is asked for. Where nothing is known of a word's parts, the end of
// a domain, which thousands share, is left out: reading its long lists costs more than all the rest.
func (w word) byIndex() []string {
	var out []string
	for _, part := range w.rare {
		out = append(out, "%"+part+"%")
	}
	if begin := w.text[:max(0, strings.LastIndexByte(w.text, '.'))]; len(out) == 0 && len(begin) > shortWord {
		return []string{"%" + likeText(begin) + "%"}
	}
	if len(out) == 0 {
		return []string{w.like()}
	}
	return out
}

// wordsOf splits what was typed.
func wordsOf(text string) []string {
	words := strings.FieldsFunc(text, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsNumber(r) && !unicode.IsMark(r) &&
			!strings.ContainsRune("@._+-'’&", r)
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

// searchFor is a search for what was typed among people, before it is known how.
func (db Queries) searchFor(ctx context.Context, text string) (search, error) {
	var q search
	words := wordsOf(text)
	if len(words) == 0 {
		return q, nil
	}
	shares, err := db.sharesOf(ctx, "person_search")
	for _, w := range words {
		if utf8.RuneCountInString(w) <= shortWord {
			w = " " + w
		}
		q.words = append(q.words, word{w, rareParts(w, shares)})
	}
	return q, err
}

// seek says how a page of those is found whom a text is about.
func seek(ctx context.Context, db Queries, q PeopleQuery) (search, error) {
	look, err := db.searchFor(ctx, q.Text)
	if err != nil || len(look.words) == 0 {
		return look, err
	}
	c := compiler{}
	asked := []string{c.has(look.words, "x.words")}
	if len(look.words) > 1 {
		for _, w := range look.words {
			asked = append(asked, c.has([]word{w}, "x.words"))
		}
	}
	n, err := estimate(ctx, db,
		"select from person_search x where "+strings.Join(asked, " union all select from person_search x where "),
		c.args...)
	if err != nil {
		return look, err
	}
	if len(n) > 1 {
		most := slices.Min(n[1:])
		if most > rareHave {
			most *= oftenTimes
		}
		for i, w := range look.words {
			if n[1+i] <= most {
				look.ask = append(look.ask, w)
			}
		}
	}
	if n[0] <= fewHave[q.Order] {
		return look, nil
	}
	everybody, err := one[float64](ctx, db, "select reltuples from pg_class where oid = 'person_search'::regclass")
	if look.walk = int(walkAtMost); everybody > 0 { // else nobody has counted yet
		look.walk = int(min(walkAtMost, max(1, walkTimes*float64(q.Limit)*everybody/max(n[0], 1))))
	}
	return look, err
}

// hasByIndex is the condition over x, a person_search, that the index of
// trigrams answers: all words, or those that few have.
func (c *compiler) hasByIndex(q search) string {
	ask := q.words
	if len(q.ask) > 0 {
		ask = q.ask
	}
	return c.hasQuickly(ask, q.words, "x.words")
}

// hasQuickly is the condition that words hold all of some, of which an index is asked for the rare parts of a few.
func (c *compiler) hasQuickly(ask, words []word, column string) string {
	var patterns []string
	whole := map[string]bool{}
	for _, w := range ask {
		for _, like := range w.byIndex() {
			if !slices.Contains(patterns, like) {
				patterns = append(patterns, like)
			}
			whole[like] = true
		}
	}
	all := ""
	for _, like := range patterns {
		all += " and " + column + " like plain_text(" + c.arg(like) + "::text)"
	}
	for _, w := range words {
		// The planner takes one in three to hold it: the index has told of most already.
		if !whole[w.like()] {
			all += " and strpos(" + column + ", plain_text(" + c.arg(w.text) + "::text)) > 0"
		}
	}
	return strings.TrimPrefix(all, " and ")
}

// estimate is how many rows the planner expects of a query; of a union, of each
// of what it unites.
func estimate(ctx context.Context, q querier, query string, args ...any) ([]float64, error) {
	raw, err := one[string](ctx, q, "explain (format json) "+query, args...)
	if err != nil {
		return nil, err
	}
	type node struct {
		Type  string  `json:"Node Type"`
		Rows  float64 `json:"Plan Rows"`
		Plans []node
	}
	var plan []struct{ Plan node }
	if err := json.Unmarshal([]byte(raw), &plan); err != nil || len(plan) == 0 {
		return nil, fmt.Errorf("reading a plan: %w", err)
	}
	if top := plan[0].Plan; top.Type == "Append" {
		var rows []float64
		for _, p := range top.Plans {
			rows = append(rows, p.Rows)
		}
		return rows, nil
	}
	return []float64{plan[0].Plan.Rows}, nil
}

// costOf is what the planner reckons a query costs, in its own units.
func costOf(ctx context.Context, q querier, query string, args []any) (float64, error) {
	raw, err := one[string](ctx, q, "explain (format json) "+query, args...)
	if err != nil {
		return 0, err
	}
	var plan []struct {
		Plan struct {
			Cost float64 `json:"Total Cost"`
		}
	}
	if err := json.Unmarshal([]byte(raw), &plan); err != nil || len(plan) == 0 {
		return 0, fmt.Errorf("reading a plan: %w", err)
	}
	return plan[0].Plan.Cost, nil
}

// has is the condition that a column of words holds all of some.
func (c *compiler) has(words []word, column string) string {
	all := ""
	for i, w := range words {
		if i > 0 {
			all += " and "
		}
		all += column + " like plain_text(" + c.arg(w.like()) + "::text)"
	}
	return all
}

// sought is the condition of a search over the person of an id.
func (c *compiler) sought(q search, id string) string {
	if len(q.words) == 0 {
		return ""
	}
	return " and exists (select from person_search x where x.person_id = " + id + " and " +
		c.hasQuickly(q.words, q.words, "x.words") + ")"
}

// soughtInOrder is sought for a page that is read in an order, of those whom
// many are alike. The planner may not turn the question round: it takes who has
// a word to be spread over the order as everybody is, and they are not where the
// order is that of names.
func (c *compiler) soughtInOrder(q search, id string) string {
	words := "(select x.words from person_search x where x.person_id = " + id + ")"
	return c.has(q.words, words)
}

// Everybody is how many people there are, as the database last reckoned it; 0: it has not, so they are few.
func (db Queries) Everybody(ctx context.Context) (int64, error) {
	n, err := one[float64](ctx, db, "select reltuples from pg_class where oid = 'person'::regclass")
	return max(int64(n), 0), err
}
