package main

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"time"

	"ombak/internal/core/right"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/store"
)

const (
	listPeople  = 1_000_000
	listSignals = 10_000_000
	listRounds  = 60 // how often each page is asked for
	handRounds  = 5  // how often each audience is counted, in turn with its query by hand
)

// benchPeopleLists measures the people list, as its pages are answered over
// HTTP, and three audiences beside the same queries written by hand.
func benchPeopleLists(ctx context.Context, s *store.Store, e *engine.Engine, clock *fixed) error {
	at := clock.Now()
	if err := e.SaveModel(ctx,
		store.Model{Model: score.Model{Name: "Engagement", Line: 15,
			Rules: []score.Rule{{On: signal.Pattern{Kind: signal.Click}, Points: 3, Lasts: 30}}}}); err != nil {
		return err
	}
	fmt.Printf("%d people, %d signals\n", listPeople, listSignals)
	began := time.Now()
	if err := s.FillLists(ctx, listPeople, listSignals, at); err != nil {
		return err
	}
	if err := s.Settle(ctx); err != nil {
		return err
	}
	fmt.Printf("made in %.0f s\n\npages over HTTP, %d times each\n", time.Since(began).Seconds(), listRounds)
	if err := benchPages(ctx, s, e); err != nil {
		return err
	}
	fmt.Printf("\naudiences, counted %d times in turn with the same query by hand; medians\n", handRounds)
	return benchAudiences(ctx, s, at)
}

func benchPages(ctx context.Context, s *store.Store, e *engine.Engine) error {
	b, err := signIn(ctx, s, e, right.Marketer)
	if err != nil {
		return err
	}
	defer b.Close()
	var pages []page
	for _, o := range store.Orders() {
		pages = append(pages, page{name: "first page, by " + string(o), path: "/people?order=" + string(o)})
		key, err := s.KeyAt(ctx, o, listPeople/2)
		if err != nil {
			return err
		}
		pages = append(pages, page{name: "after 500,000 rows",
			path: "/people?order=" + string(o) + "&after=" + key.String()})
	}
	pages = append(pages,
		page{name: "in Norway, clicked in 30 days, by score",
			path: "/people?rule=" +
				url.QueryEscape(
					`{"all":[{"if":{"field":"country","op":"is","value":"NO"}},{"if":{"signal":{"kind":5},"op":"at `+
						`least","n":1,"days":30}}]}`)},
		page{name: "called “last7777”, by score", path: "/people?text=last7777"},
		page{name: "with “ast777” in their name, by score", path: "/people?text=ast777"},
		page{name: "with “ast” in their name, as all have", path: "/people?text=ast"},
		page{name: "two words, one of which all have", path: "/people?text=ast+t7777"})
	return b.time(ctx, listRounds, pages)
}

func benchAudiences(ctx context.Context, s *store.Store, at time.Time) error {
	did := func(k signal.Kind, n, days int) rule.Rule {
		return rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: k}, Op: rule.AtLeast, N: n, Days: days}}
	}
	from := func(days int) time.Time { return signal.Within(at, days) }
	for _, a := range []struct {
		name string
		r    rule.Rule
		hand string
		args []any
	}{
		{"fields only: fish farms in Norway",
			rule.Rule{All: []rule.Rule{rule.FieldIs("country", "NO"), rule.FieldIs("industry", "Fish farming")}},
			"select count(*) from person p join company c on c.id = p.company_id where p.country = 'NO' and " +
				"lower(c.industry) = 'fish farming'", nil},
		{"field and signal: in Canada, 3 clicks in 180 days",
			rule.Rule{All: []rule.Rule{rule.FieldIs("country", "CA"), did(signal.Click, 3, 180)}},
			"select count(*) from person p where country = 'CA' and id in (select person_id from signal where kind = " +
				"5 and machine = '' and at between $1 and $2 group by 1 having count(*) >= 3)", []any{from(180), at}},
		{"nested, with windows",
			rule.Rule{All: []rule.Rule{{Any: []rule.Rule{{If: &rule.Condition{Score: true, Op: rule.AtLeast, N: 30}},
				did(signal.PageView, 2, 90)}},
				{None: []rule.Rule{did(signal.Open, 1, 10), rule.ThingIs(rule.Tag, 1)}}}}, `
				select count(*)
				from person p
				where (id in (select person_id from standing where model_id = 1 and score >= 30)
					or id in (select person_id from signal where kind = 1 and machine = ''
					and at between $1 and $3 group by 1 having count(*) >= 2))
				and id not in (
					select person_id from signal where kind = 4 and machine = '' and at between $2 and $3)
				and not exists (select from person_tag t where t.person_id = p.id and t.tag_id = 1)`,
			[]any{from(90), from(10), at}},
	} {
		var ours, theirs []float64
		var n, m int64
		for range handRounds {
			start := time.Now()
			var err error
			if n, err = s.CountPeople(ctx, store.PeopleQuery{Rule: a.r, Now: at}); err != nil {
				return err
			}
			ours = append(ours, time.Since(start).Seconds())
			start = time.Now()
			if m, err = s.Hand(ctx, a.hand, a.args...); err != nil {
				return err
			}
			theirs = append(theirs, time.Since(start).Seconds())
		}
		if n != m {
			return fmt.Errorf("%s: the rule finds %d people, the query by hand %d", a.name, n, m)
		}
		slices.Sort(ours)
		slices.Sort(theirs)
		x, y := ours[handRounds/2], theirs[handRounds/2]
		fmt.Printf("  %-50s %8d people, %6.0f ms; by hand %6.0f ms: %.2f times\n", a.name, n, x*1000, y*1000, x/y)
	}
	return nil
}
