package store

import (
	"context"
	"fmt"

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
// their ids, a page at a time: however many there are, few are in memory.
func (s *Store) EachPerson(ctx context.Context, q PeopleQuery, f func(*ExportedPerson) error) error {
	var ids []int64
	err := s.InTx(ctx, func(tx Tx) error {
		var err error
		ids, err = tx.AllIDs(ctx, q)
		return err
	})
	if err != nil {
		return fmt.Errorf("finding whom to export: %w", err)
	}
	for len(ids) > 0 {
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
