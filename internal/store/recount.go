package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// What a recount of everybody reads: the same as for some people, by ways that a million of them can be read in.

// Span is the people after one and up to another.
type Span struct{ After, Upto int64 }

// Spans parts the people with scores by a model after one into spans of so many each, at most so many spans.
func (db Queries) Spans(ctx context.Context, model, after int64, each, most int) ([]Span, error) {
	ids, err := all[int64](ctx, db, `
		select person_id
		from standing
		where model_id = $1 and person_id > $2
		order by person_id
		limit $3`, model, after, each*most)
	var out []Span
	for part := range slices.Chunk(ids, each) {
		out = append(out, Span{After: after, Upto: part[len(part)-1]})
		after = part[len(part)-1]
	}
	return out, err
}

// StandingsIn takes the scores of the people of a span.
func (tx Tx) StandingsIn(ctx context.Context, model int64, s Span) ([]Standing, error) {
	rows, err := all[standingRow](ctx, tx, `
		select person_id, score, armed, `+rebased+`, ready, counted_at, until, due
		from standing
		where model_id = $1 and person_id > $2 and person_id <= $3
		order by person_id
		for update`, model, s.After, s.Upto)
	return standings(rows, err)
}

// SignalsIn reads all signals of the people of a span, sorted for the core.
func (tx Tx) SignalsIn(ctx context.Context, s Span) (map[int64][]signal.Signal, error) {
	if err := wide(ctx, tx); err != nil {
		return nil, err
	}
	return tx.signals(ctx, s.Upto-s.After, `
		from signal s
		where s.person_id > $1 and s.person_id <= $2
		order by s.person_id, s.at, s.id`, s.After, s.Upto)
}

// plainFields are the fields of a record that are a text of one column.
var plainFields = map[person.Field]string{
	person.Title: "p.title", person.Seniority: "p.seniority", person.Department: "p.department",
	person.Country: "p.country", person.Region: "p.region", person.City: "p.city", person.Language: "p.language",
	person.Source: "p.source", person.Medium: "p.medium", person.Campaign: "p.campaign",
	person.Company: "c.name", person.Domain: "c.domain", person.Industry: "c.industry", person.Revenue: "c.revenue",
	person.CompanyCountry: "c.country",
}

// RecordsFor reads of several people's records what rules ask of them; what else there is may be missing.
func (tx Tx) RecordsFor(ctx context.Context, people []int64, rules []*rule.Rule) (map[int64]*rule.Record, error) {
	asked, more := map[person.Field]string{}, false
	for _, r := range rules {
		r.Each(func(c *rule.Condition) {
			column := plainFields[c.Field]
			if c.Signal != nil {
				return
			}
			if c.Score || c.About != "" || column == "" {
				more = true
				return
			}
			asked[c.Field] = column
		})
	}
	if more {
		return tx.Records(ctx, people)
	}
	fields := slices.Sorted(maps.Keys(asked))
	columns, into := "p.id", make([]any, 1, 1+len(fields))
	values := make([]string, len(fields))
	company := ""
	for i, f := range fields {
		columns += ", coalesce(" + asked[f] + ", '')"
		into = append(into, &values[i])
		if strings.HasPrefix(asked[f], "c.") {
			company = " left join company c on c.id = p.company_id"
		}
	}
	out := make(map[int64]*rule.Record, len(people))
	err := tx.native(ctx, func(c *pgx.Conn) error {
		rows, err := c.Query(ctx, "select "+columns+" from person p"+company+" where p.id = any ($1)", people)
		if err != nil {
			return err
		}
		var id int64
		into[0] = &id
		_, err = pgx.ForEachRow(rows, into, func() error {
			r := &rule.Record{Values: make(person.Values, len(fields))}
			for i, f := range fields {
				if values[i] != "" {
					r.Values[f] = values[i]
				}
			}
			out[id] = r
			return nil
		})
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("reading records: %w", err)
	}
	return out, nil
}
