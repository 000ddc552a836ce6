package web

import (
	"encoding/json"
	"net/url"
	"slices"
	"strconv"

	"ombak/internal/core/rule"
	"ombak/internal/store"
)

// listQuery is what a list of people shows: whom, in what order, and which
// columns. It is all in the page's address.
type listQuery struct {
	Rule    rule.Rule
	Text    string
	Order   store.Order
	Columns []string
	Batch   int64
	Behind  store.Behind
}

// usualColumns are shown where none are chosen.
var usualColumns = []string{"company", "title", "country", "owner", "sequences", "score"}

// values is the query as addresses have it.
func (q listQuery) values() url.Values {
	v := url.Values{}
	if q.Rule.Asks() {
		b, err := json.Marshal(q.Rule)
		if err == nil {
			v.Set("rule", string(b))
		}
	}
	if q.Text != "" {
		v.Set("text", q.Text)
	}
	if q.Order != store.ByScore {
		v.Set("order", string(q.Order))
	}
	if b := q.Behind.String(); b != "" {
		v.Set("behind", b)
	}
	if q.Batch != 0 {
		v.Set("batch", strconv.FormatInt(q.Batch, 10))
	}
	if !slices.Equal(q.Columns, usualColumns) {
		v["col"] = q.Columns
	}
	return v
}
