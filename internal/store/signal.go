package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"ombak/internal/core/signal"
)

// Signal is a signal with the person it belongs to and what is kept beside it.
type Signal struct {
	signal.Signal
	Person int64
	Touch  int64
	Why    string // why it is taken for a machine's
	Detail string // for the timeline: a link's target, a page's title
}

// AddSignals keeps signals, in one statement.
func (tx Tx) AddSignals(ctx context.Context, list []Signal) error {
	n := len(list)
	person, at, kind := make([]int64, n), make([]time.Time, n), make([]int16, n)
	seq, step, msg, link, page, touch := make([]int64, n), make([]int32, n), make([]int64, n), make([]int32, n),
		make([]int64, n), make([]int64, n)
	events, worth := make([]int64, n), make([]int32, n)
	why, detail := make([]string, n), make([]string, n)
	for i := range list {
		s := &list[i]
		person[i], at[i], kind[i] = s.Person, s.At, int16(s.Kind)
		seq[i], step[i], msg[i], link[i], page[i], touch[i] = s.Sequence, s.Step, s.Message, s.Link, s.Page, s.Touch
		why[i], detail[i], events[i] = s.Why, s.Detail, s.Event
		worth[i] = int32(s.Worth)
	}
	_, err := exec(ctx, tx, `
		insert into signal (person_id, at, kind, sequence_id, step, message_id, link, page_id, touch_id, machine,
			detail, event_id, worth)
		select u.person, u.at, u.kind, nullif(u.seq, 0), nullif(u.step, 0), nullif(u.msg, 0), nullif(u.link, 0),
			nullif(u.page, 0), nullif(u.touch, 0), u.why, u.detail, nullif(u.event, 0), nullif(u.worth, 0)
		from unnest($1::bigint[], $2::timestamptz[], $3::smallint[], $4::bigint[], $5::int[], $6::bigint[], $7::int[],
			$8::bigint[], $9::bigint[], $10::text[], $11::text[], $12::bigint[], $13::int[])
			as u(person, at, kind, seq, step, msg, link, page, touch, why, detail, event, worth)`,
		person, at, kind, seq, step, msg, link, page, touch, why, detail, events, worth)
	if err != nil {
		return fmt.Errorf("keeping %d signals: %w", n, err)
	}
	return nil
}

// EnsureMonths makes the signal table's partitions for the months from from to
// to. Signals of a month that had none, and so lie in the catch-all, move into
// theirs. Several processes may call it at once.
func (s *Store) EnsureMonths(ctx context.Context, from, to time.Time) error {
	m := time.Date(from.UTC().Year(), from.UTC().Month(), 1, 0, 0, 0, 0, time.UTC)
	for ; !m.After(to); m = m.AddDate(0, 1, 0) {
		there, err := one[bool](ctx, s.db, "select to_regclass($1) is not null", monthName(m))
		if err != nil {
			return err
		}
		if there {
			continue
		}
		if err := s.InTx(ctx, func(tx Tx) error { return makeMonth(ctx, tx, m) }); err != nil {
			return fmt.Errorf("making room for the signals of %s: %w", m.Format("January 2006"), err)
		}
	}
	return nil
}

func monthName(m time.Time) string { return "signal_" + m.Format("2006_01") }

func makeMonth(ctx context.Context, tx Tx, m time.Time) error {
	next := m.AddDate(0, 1, 0)
	// One at a time, and nobody writes a signal meanwhile: it would land in the catch-all.
	if _, err := exec(ctx, tx, "lock table signal in share row exclusive mode"); err != nil {
		return err
	}
	there, err := one[bool](ctx, tx, "select to_regclass($1) is not null", monthName(m))
	if err != nil || there {
		return err
	}
	// Names and dates made here: nothing of it comes from outside.
	span := fmt.Sprintf("at >= '%s' and at < '%s'", m.Format(time.RFC3339), next.Format(time.RFC3339))
	for _, step := range []string{
		"create temp table moved on commit drop as select * from signal_other where " + span,
		"delete from signal_other where " + span,
		fmt.Sprintf("create table %s partition of signal for values from ('%s') to ('%s')",
			monthName(m), m.Format(time.RFC3339), next.Format(time.RFC3339)),
		// Past the table of all: what they tell has been told when they came.
		"insert into " + monthName(m) + " overriding system value select * from moved",
		"drop table moved",
	} {
		if _, err := exec(ctx, tx, step); err != nil {
			return err
		}
	}
	return nil
}

// Since asks for a person's signals from an instant on.
type Since struct {
	Person int64
	From   time.Time
}

// SignalsSince reads the signals of several people, each from an instant on,
// sorted for the core.
func (db Queries) SignalsSince(ctx context.Context, who []Since) (map[int64][]signal.Signal, error) {
	ids, from := make([]int64, len(who)), make([]time.Time, len(who))
	for i, w := range who {
		ids[i], from[i] = w.Person, w.From
	}
	if len(who) == 1 { // whoever it is, it is planned once: with so many months that takes as long as to read them
		return db.signals(ctx, 1, `
			from signal s
			where s.person_id = $1 and s.at >= $2
			order by s.at, s.id`, ids[0], from[0])
	}
	return db.signals(ctx, int64(len(who)), `
		from unnest($1::bigint[], $2::timestamptz[]) as w(person, since)
		join signal s on s.person_id = w.person and s.at >= w.since
		order by s.person_id, s.at, s.id`, ids, from)
}

// For how many signals of each person room is made ahead, and of all at most.
const (
	signalsOfOne = 12
	mostRoom     = 300_000
)

// signals reads signals of so many people, those of one together and in their order.
func (db Queries) signals(
	ctx context.Context, people int64, of string, args ...any,
) (map[int64][]signal.Signal, error) {
	out := map[int64][]signal.Signal{}
	err := db.native(ctx, func(c *pgx.Conn) error {
		rows, err := c.Query(ctx, `
			select s.id, s.person_id, s.at, s.kind, coalesce(s.sequence_id, 0), coalesce(s.step, 0),
				coalesce(s.message_id, 0), coalesce(s.link, 0), coalesce(s.page_id, 0), coalesce(s.event_id, 0),
				s.machine <> '', coalesce(s.worth, 0)`+of, args...)
		if err != nil {
			return err
		}
		list := make([]signal.Signal, 0, min(signalsOfOne*people, mostRoom)) // of all, one after the other
		who := make([]int64, 0, cap(list))
		var x signal.Signal
		var person int64
		if _, err := pgx.ForEachRow(rows, []any{&x.ID, &person, &x.At, (*int16)(&x.Kind), &x.Sequence, &x.Step,
			&x.Message, &x.Link, &x.Page, &x.Event, &x.Machine, &x.Worth}, func() error {
			list, who = append(list, x), append(who, person)
			return nil
		}); err != nil {
			return err
		}
		for i := 0; i < len(list); {
			j := i
			for j < len(list) && who[j] == who[i] {
				j++
			}
			out[who[i]] = list[i:j:j]
			i = j
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading signals: %w", err)
	}
	return out, nil
}

// PersonSignals reads all signals of one person, sorted.
func (db Queries) PersonSignals(ctx context.Context, person int64) ([]signal.Signal, error) {
	m, err := db.SignalsSince(ctx, []Since{{Person: person}})
	return m[person], err
}

// Stop notes on a person's record that a signal ended every sequence.
func (tx Tx) Stop(ctx context.Context, person int64, k signal.Kind, at time.Time) error {
	_, err := exec(ctx, tx, `update person set stopped_at = $2, stopped_by = $3,
		opted_out_at = case when $4 then $2 else opted_out_at end,
		bounced_at = case when $5 then $2 else bounced_at end where id = $1`,
		person, at, int16(k), k == signal.OptOut || k == signal.Complaint, k == signal.Bounce)
	return err
}

// TrapLink is the number of the link that no reader sees.
const TrapLink = -1

// MarkTrapped marks what was opened and pressed in an email since an instant as
// a program's.
func (tx Tx) MarkTrapped(ctx context.Context, person, touch int64, since time.Time, why string) error {
	_, err := exec(ctx, tx, `
		update signal
		set machine = $4
		where person_id = $1 and at > $3 and touch_id = $2 and kind in ({open}, {click}) and machine = ''`,
		person, touch, since, why)
	return err
}

// MarkIfAllPressed marks the presses of an email since an instant as a
// program's, where they are of all its links. It answers whether they are.
func (tx Tx) MarkIfAllPressed(
	ctx context.Context, touch int64, links []int32, since time.Time, why string,
) (bool, error) {
	n, err := exec(ctx, tx, `
		with g as (
			select id, at, link
			from signal
			where touch_id = $1 and person_id = (select person_id from touch where id = $1) and kind = {click}
				and at > $3)
		update signal s
		set machine = $4
		from g
		where s.id = g.id and s.at = g.at
			and (select count(distinct link) from g where link = any ($2)) = cardinality($2::int[])`, touch, links,
		since, why)
	return n > 0, err
}
