package shell

import (
	"context"
	"encoding/json"
	"net/url"
	"slices"
	"strconv"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/engine/people"
	"ombak/internal/store"
)

// ListQuery is what a list of people shows: whom, in what order, and which
// columns. It is all in the page's address.
type ListQuery struct {
	Rule    rule.Rule
	Text    string
	Order   store.Order
	Columns []string
	Batch   int64
	Behind  store.Behind
}

// UsualColumns are shown where none are chosen.
var UsualColumns = []string{"company", "title", "country", "owner", "sequences", "score"}

// Values is the query as addresses have it.
func (q ListQuery) Values() url.Values {
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
	if q.Order != "" && q.Order != store.ByScore {
		v.Set("order", string(q.Order))
	}
	if b := q.Behind.String(); b != "" {
		v.Set("behind", b)
	}
	if q.Batch != 0 {
		v.Set("batch", strconv.FormatInt(q.Batch, 10))
	}
	if q.Columns != nil && !slices.Equal(q.Columns, UsualColumns) {
		v["col"] = q.Columns
	}
	return v
}

// PageOfPeople is how many people a list shows at a time.
const PageOfPeople = 50

// People is what the store is asked for.
func (q ListQuery) People(cat *rule.Catalogue, now time.Time) store.PeopleQuery {
	return store.PeopleQuery{Rule: Complete(q.Rule, cat), Text: q.Text, Order: q.Order, Batch: q.Batch,
		Behind: q.Behind,
		Limit:  PageOfPeople, Now: now}
}

// Roughly is how many people a rule holds for, for a page that waits for nobody: what is known at once, and where the
// count is fetched, until it is there.
type Roughly struct {
	people.Counted
	Later string
}

// HowMany answers how many people a rule holds for, as far as that is known at once.
func (s *Shell) HowMany(ctx context.Context, r rule.Rule) (*Roughly, error) {
	n, err := s.Engine.Roughly(ctx, store.PeopleQuery{Rule: r, Now: s.Engine.Now()})
	if err != nil {
		return nil, err
	}
	return &Roughly{n, "/people/count?" + ListQuery{Rule: r}.Values().Encode()}, nil
}
