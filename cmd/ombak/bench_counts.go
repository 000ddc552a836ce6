package main

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/right"
)

// What is counted exactly, or found wherever it stands, by asking about everybody. It is loaded behind a page that
// says about how many there are, so no page waits for it; it may take what somebody's own SQL takes, times the aim.
type counted struct {
	what string
	path func(n int) string // another one for each n, so that none is kept from the last
	hand func(n int) string // the same, as somebody would write it
}

// aimCounted is how many times as long as written by hand a count may take.
const aimCounted = 1.1

// handAt is the instant that statements written by hand are about.
const handAt = "timestamptz '2026-04-14 09:00:00+00'"

// clicked is a rule of who clicked so often in so many days, and clickedByHand the same as SQL.
func clicked(least, days int) string {
	return url.QueryEscape(fmt.Sprintf(`{"if":{"signal":{"kind":5},"op":"at least","n":%d,"days":%d}}`, least, days))
}

func clickedByHand(least, days int) string {
	return fmt.Sprintf(`
		select s.person_id
		from signal s
		where s.kind = 5 and s.machine = '' and s.at <= %s and s.at >= %s - interval '%d hours'
		group by 1
		having count(*) >= %d`, handAt, handAt, 24*days, least)
}

// counts are what is measured, each of a rule that many have and of one that nearly nobody has.
var counts = []counted{
	{"who clicked 3 times", func(n int) string { return "/people/count?rule=" + clicked(3, 180+n) },
		func(n int) string {
			return "select count(*) from (" + clickedByHand(3, 180+n) +
				") x join person p on p.id = x.person_id where p.erased_at is null"
		}},
	{"who clicked 40 times", func(n int) string { return "/people/count?rule=" + clicked(40, 30+n) },
		func(n int) string {
			return "select count(*) from (" + clickedByHand(40, 30+n) +
				") x join person p on p.id = x.person_id where p.erased_at is null"
		}},
	{"the first 50 of them", func(n int) string { return "/people/found?rule=" + clicked(40, 30+n) },
		func(n int) string {
			return "select p.* from (" + clickedByHand(40, 30+n) + `) x join person p on p.id = x.person_id
				left join standing s on s.person_id = p.id
				where p.erased_at is null order by s.score desc nulls last, p.id desc limit 50`
		}},
	{"what came after an exit", func(n int) string { return fmt.Sprintf("/sequences/1/after?step=%d&count=all", 20+n) },
		func(n int) string {
			return fmt.Sprintf(`
				select l.exit, count(distinct e.person_id), count(distinct t.person_id),
					count(distinct t.person_id) filter (where t.opened),
					count(distinct t.person_id) filter (where t.clicked),
					count(distinct t.person_id) filter (where t.replied),
					count(distinct e.person_id) filter (where e.reason = 'handed over')
				from enrolment_log l
				join enrolment e on e.id = l.enrolment_id
				left join touch t on t.enrolment_id = e.id and t.state = 'sent' and t.kind = 'email'
					and t.done_at >= l.at
				where l.version_id in (select id from sequence_version where sequence_id = 1) and l.step = %d
					and l.exit <> ''
				group by 1`, 20+n)
		}},
}

// countsBeside asks for each count, and for the same by hand, in turn, and prints how long they take beside each other.
func (m *measure) countsBeside(ctx context.Context, only string) error {
	fmt.Printf("counted exactly behind a page that is there, beside the same written by hand; aim %.1f times\n",
		aimCounted)
	for i, x := range counts {
		if !strings.Contains(x.path(0), only) {
			continue
		}
		var page, hand []float64
		for n := range 6 {
			if n == 0 { // what both read is read once
				if _, err := m.s.ByHand(ctx, x.hand(n)); err != nil {
					return fmt.Errorf("%s by hand: %w", x.what, err)
				}
			}
			a := &answered{path: x.path(n), behind: true, role: right.Marketer}
			both := []func() error{
				func() error { return m.get(ctx, a, fmt.Sprintf("c%d.%d", i, n), "") },
				func() error {
					start := time.Now()
					_, err := m.s.ByHand(ctx, x.hand(n))
					hand = append(hand, float64(time.Since(start).Microseconds())/1000)
					return err
				},
			}
			if n%2 == 1 { // whoever comes second finds what was read for the first
				slices.Reverse(both)
			}
			for _, do := range both {
				if err := do(); err != nil {
					return fmt.Errorf("%s: %w", x.what, err)
				}
			}
			if page = append(page, a.took[0]); a.code != http.StatusOK {
				return fmt.Errorf("%s answered %d", a.path, a.code)
			}
		}
		slices.Sort(page)
		slices.Sort(hand)
		fmt.Printf("  %-24s %8.1f ms, by hand %8.1f ms: %.2f times\n", x.what, page[len(page)/2], hand[len(hand)/2],
			page[len(page)/2]/hand[len(hand)/2])
	}
	return nil
}
