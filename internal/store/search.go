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
	like []string // patterns, all of which hold; none: nothing is looked for
	ask  []string // those that the index is asked for; none: all
	walk int      // how many rows of the page's order are asked; 0: the index of trigrams is
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

// searchFor is a search for what was typed, before it is known how.
func searchFor(text string) search {
	var q search
	for _, w := range wordsOf(text) {
		space := ""
		if utf8.RuneCountInString(w) <= shortWord {
			space = " "
		}
		q.like = append(q.like, "%"+space+likeText(w)+"%")
	}
	return q
}

// seek says how a page of those is found whom a text is about.
func seek(ctx context.Context, db querier, q PeopleQuery) (search, error) {
	look := searchFor(q.Text)
	if len(look.like) == 0 {
		return look, nil
	}
	c := compiler{}
	asked := []string{c.hasByIndex(look)}
	if len(look.like) > 1 {
		for _, l := range look.like {
			asked = append(asked, c.hasByIndex(search{like: []string{l}}))
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
		for i, l := range look.like {
			if n[1+i] <= most {
				look.ask = append(look.ask, l)
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
// trigrams answers: all words, or those that few have. The end of a domain,
// which thousands share, is asked of the rows alone: reading its long lists costs
// more than all the rest.
func (c *compiler) hasByIndex(q search) string {
	ask := q.like
	if len(q.ask) > 0 {
		ask = q.ask
	}
	var begins []string
	for _, l := range ask {
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
	if len(q.like) == 0 {
		return ""
	}
	return " and exists (select from person_search x where x.person_id = " + id + " and " + c.has(q.like, "x.words") +
		")"
}

// soughtInOrder is sought for a page that is read in an order, of those whom
// many are alike. The planner may not turn the question round: it takes who has
// a word to be spread over the order as everybody is, and they are not where the
// order is that of names.
func (c *compiler) soughtInOrder(q search, id string) string {
	words := "(select x.words from person_search x where x.person_id = " + id + ")"
	return c.has(q.like, words)
}

// Everybody is how many people there are, as the database last reckoned it; 0: it has not, so they are few.
func (db Queries) Everybody(ctx context.Context) (int64, error) {
	n, err := one[float64](ctx, db, "select reltuples from pg_class where oid = 'person'::regclass")
	return max(int64(n), 0), err
}
