package store

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"ombak/internal/core/intake"
)

// ExportedPerson is a person with what an export has beside the record.
type ExportedPerson struct {
	Person
	Tags   []string
	Emails []string
	Phones []string

	Consents []intake.Consent
	Notes    []intake.Noted
}

// exportPage is how many people are read at a time.
const exportPage = 2000

// EachPerson calls f with everybody whom a query is about, in the order of
// their ids, a page at a time: however many there are, few are in memory. Before
// each page it tells how many of them there are and how many are done. The next page is read while f has one.
func (s *Store) EachPerson(
	ctx context.Context, q PeopleQuery, told func(all, done int) error, f func(*ExportedPerson) error,
) error {
	var ids []int64
	err := s.InTx(ctx, func(tx Tx) error {
		var err error
		ids, err = tx.AllIDs(ctx, q)
		return err
	})
	if err != nil {
		return fmt.Errorf("finding whom to export: %w", err)
	}
	ctx, cancel := context.WithCancel(ctx)
	type read struct {
		page []ExportedPerson
		err  error
	}
	pages := make(chan read)
	var reading sync.WaitGroup
	reading.Go(func() {
		defer close(pages)
		for part := range slices.Chunk(ids, exportPage) {
			page, err := s.exportPage(ctx, part)
			select {
			case pages <- read{page, err}:
			case <-ctx.Done():
				return
			}
		}
	})
	defer reading.Wait()
	defer cancel()
	for done := 0; done < len(ids); done += exportPage {
		if err := told(len(ids), done); err != nil {
			return err
		}
		p, ok := <-pages
		if !ok {
			return ctx.Err()
		}
		if p.err != nil {
			return fmt.Errorf("reading whom to export: %w", p.err)
		}
		for i := range p.page {
			if err := f(&p.page[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

// exportPage reads some people with all that an export has of them, as of one instant.
func (s *Store) exportPage(ctx context.Context, ids []int64) ([]ExportedPerson, error) {
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return nil, err
	}
	defer tx.Rollback() // it only reads
	people, err := all[Person](ctx, tx, personColumns+", 0 as score, 0 as sequences"+peopleTables+
		"where p.id = any ($1) and p.erased_at is null order by p.id", ids)
	if err != nil {
		return nil, err
	}
	out := make([]ExportedPerson, len(people))
	of := make(map[int64]*ExportedPerson, len(people))
	for i := range people {
		out[i].Person = people[i]
		of[people[i].ID] = &out[i]
	}
	for _, read := range []func(context.Context, querier, []int64, map[int64]*ExportedPerson) error{
		exportTags, exportPoints, exportConsents, exportNotes} {
		if err := read(ctx, tx, ids, of); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func exportTags(ctx context.Context, q querier, ids []int64, of map[int64]*ExportedPerson) error {
	rows, err := all[struct {
		Person int64
		Name   string
	}](ctx, q, `
		select x.person_id as person, t.name
		from person_tag x
		join tag t on t.id = x.tag_id
		where x.person_id = any ($1)
		order by lower(t.name)`, ids)
	for _, r := range rows {
		if p := of[r.Person]; p != nil {
			p.Tags = append(p.Tags, r.Name)
		}
	}
	return err
}

func exportPoints(ctx context.Context, q querier, ids []int64, of map[int64]*ExportedPerson) error {
	rows, err := all[struct {
		Person int64
		Kind   string
		Value  string
	}](ctx, q, `
		select person_id as person, kind, value
		from contact_point
		where person_id = any ($1) and kind in ('email', 'phone')
		order by value`, ids)
	for _, r := range rows {
		switch p := of[r.Person]; {
		case p == nil:
		case r.Kind == "email":
			p.Emails = append(p.Emails, r.Value)
		default:
			p.Phones = append(p.Phones, r.Value)
		}
	}
	return err
}

func exportConsents(ctx context.Context, q querier, ids []int64, of map[int64]*ExportedPerson) error {
	rows, err := all[struct {
		Person int64
		intake.Consent
	}](ctx, q, `
		select person_id as person, purpose_id as purpose, given, at, how, ground
		from consent
		where person_id = any ($1) and current
		order by id`, ids)
	for _, r := range rows {
		if p := of[r.Person]; p != nil {
			r.Consent.At = r.Consent.At.UTC()
			p.Consents = append(p.Consents, r.Consent)
		}
	}
	return err
}

func exportNotes(ctx context.Context, q querier, ids []int64, of map[int64]*ExportedPerson) error {
	rows, err := all[struct {
		Person int64
		intake.Noted
	}](ctx, q, `
		select x.person_id as person, x.at, coalesce(u.name, '') as by, x.text
		from note x
		left join app_user u on u.id = x.user_id
		where x.person_id = any ($1)
		order by x.at, x.id`, ids)
	for _, r := range rows {
		if p := of[r.Person]; p != nil {
			r.Noted.At = r.Noted.At.UTC()
			p.Notes = append(p.Notes, r.Noted)
		}
	}
	return err
}

// Export is a file that an export has written.
type Export struct {
	Form   string      `json:"form"` // as package roster names it
	Name   string      `json:"name"` // without its end
	Query  PeopleQuery `json:"query"`
	Pieces int         `json:"pieces,omitempty"` // that it has when it is whole
	Size   int64       `json:"size,omitempty"`   // bytes
}

// AddExported keeps a piece of an export's file.
func (db Queries) AddExported(ctx context.Context, batch int64, n int, data []byte) error {
	_, err := exec(ctx, db, "insert into export_piece (batch_id, n, data) values ($1, $2, $3)", batch, n, data)
	return err
}

// ExportedPieces counts what is there of an export's file.
func (db Queries) ExportedPieces(ctx context.Context, batch int64) (int, error) {
	return one[int](ctx, db, "select count(*) from export_piece where batch_id = $1", batch)
}

// ExportFile reads an export's file.
func (s *Store) ExportFile(ctx context.Context, batch int64) io.Reader {
	return &pieces{ctx: ctx, s: s, batch: batch, query: "select data from export_piece where batch_id = $1 and n = $2"}
}

// ForgetExport removes an export's file: it names people.
func (db Queries) ForgetExport(ctx context.Context, batch int64) error {
	_, err := exec(ctx, db, "delete from export_piece where batch_id = $1", batch)
	return err
}

// dropExports removes the files of all exports, and stops those that are being written:
// whoever is erased may be in any of them, and a file is made anew in a minute.
func (tx Tx) dropExports(ctx context.Context) error {
	if _, err := exec(ctx, tx,
		"update batch set stop = true where kind = 'export' and state in ('waiting', 'running')"); err != nil {
		return err
	}
	_, err := exec(ctx, tx, "delete from export_piece")
	return err
}

// ForgetExports removes the files of exports that ended before an instant.
func (db Queries) ForgetExports(ctx context.Context, before time.Time) error {
	_, err := exec(ctx, db,
		"delete from export_piece p using batch b where b.id = p.batch_id and b.ended_at < $1", before)
	return err
}
