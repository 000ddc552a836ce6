package store

import (
	"context"
	"fmt"
	"io"
	"time"

	"ombak/internal/core/intake"
)

// ExportedPerson is a person with what an export has beside the record.
type ExportedPerson struct {
	Person
	Tags   JSON[[]string]
	Emails JSON[[]string]
	Phones JSON[[]string]

	Consents JSON[[]intake.Consent]
	Notes    JSON[[]intake.Noted]
}

// exportPage is how many people are read at a time.
const exportPage = 2000

// EachPerson calls f with everybody whom a query is about, in the order of
// their ids, a page at a time: however many there are, few are in memory. Before
// each page it tells how many of them there are and how many are done.
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
	for whole := len(ids); len(ids) > 0; {
		if err := told(whole, whole-len(ids)); err != nil {
			return err
		}
		n := min(exportPage, len(ids))
		page, err := all[ExportedPerson](ctx, s.db, personColumns+`
			, 0 as score, 0 as sequences,
			(
				select coalesce(json_agg(t.name order by lower(t.name)), '[]')
				from person_tag x
				join tag t on t.id = x.tag_id
				where x.person_id = p.id) as tags,
			(
				select coalesce(json_agg(x.value order by x.value), '[]')
				from contact_point x
				where x.person_id = p.id and x.kind = 'email') as emails,
			(
				select coalesce(json_agg(x.value order by x.value), '[]')
				from contact_point x
				where x.person_id = p.id and x.kind = 'phone') as phones,
			(
				select coalesce(json_agg(json_build_object('purpose', x.purpose_id, 'given', x.given, 'at', x.at, 'how',
					x.how, 'ground', x.ground) order by x.id), '[]')
				from consent x
				where x.person_id = p.id and x.current) as consents,
			(
				select coalesce(json_agg(json_build_object('at', x.at, 'by', coalesce(u.name, ''), 'text',
					x.text) order by x.at, x.id), '[]')
				from note x
				left join app_user u on u.id = x.user_id
				where x.person_id = p.id) as notes`+
			peopleTables+`where p.id = any ($1) and p.erased_at is null order by p.id`, ids[:n])
		if err != nil {
			return fmt.Errorf("reading whom to export: %w", err)
		}
		for i := range page {
			if err := f(&page[i]); err != nil {
				return err
			}
		}
		ids = ids[n:]
	}
	return nil
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
