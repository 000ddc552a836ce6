package store

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Addresses lists every email address of a person.
func (tx Tx) Addresses(ctx context.Context, id int64) ([]string, error) {
	return all[string](ctx, tx, `
			select email
			from person
			where id = $1 and email <> ''
			union select value
			from contact_point
			where person_id = $1 and kind = 'email'`, id)
}

// Erase removes everything that tells who somebody was. What is left is what
// must stay: the hashes of their addresses, so that nobody writes to them
// again, and rows without a name, so that the counts of what was sent and done
// stay true.
func (tx Tx) Erase(ctx context.Context, id int64, addresses []string, hashes [][]byte, at time.Time) error {
	fail := func(err error) error { return fmt.Errorf("erasing person %d: %w", id, err) }
	if _, err := exec(ctx, tx,
		"insert into never_again (hash, at) select h, $2 from unnest($1::bytea[]) as h on conflict do nothing", hashes,
		at); err != nil {
		return fail(err)
	}
	if _, err := exec(ctx, tx, `with gone as (delete from audience_member where person_id = $1 returning audience_id)
		update audience a set members = members - 1 from gone where a.id = gone.audience_id`, id); err != nil {
		return fail(err)
	}
	if err := errors.Join(tx.dropExports(ctx), tx.ForgetDealImports(ctx, at.Add(time.Second))); err != nil {
		return fail(err)
	}
	for _, q := range []string{
		"delete from contact_point where person_id = $1", "delete from note where person_id = $1",
		"delete from consent where person_id = $1",
		"delete from deal_part where person_id = $1",
		"delete from person_tag where person_id = $1", "delete from standing where person_id = $1",
		"delete from change where person_id = $1", "delete from recorded where person_id = $1",
		"delete from batch_person where person_id = $1", "delete from import_row where person_id = $1",
		"delete from audience_stale where person_id = $1",
		"delete from not_double where low = $1 or high = $1", "delete from personal_edit where person_id = $1",
		"delete from visitor where person_id = $1",
		"delete from desk_item d using touch t where t.person_id = $1 and d.kind = 0 and d.item_id = t.id",
		"delete from desk_item d using task t where t.person_id = $1 and d.kind = 1 and d.item_id = t.id",
		"delete from desk_item d using handoff h where h.person_id = $1 and d.kind = 2 and d.item_id = h.id",
		"delete from desk_item d using incoming i where i.person_id = $1 and d.kind = 3 and d.item_id = i.id",
		"delete from task where person_id = $1", "delete from comeback where person_id = $1",
		"delete from outside_letter where person_id = $1",
		"update booking set note = '', state = case when state in ('asked', 'booked') then 'cancelled' " +
			"else state end where person_id = $1",
		"update attendance set how = '' where person_id = $1",
		"update page_answer set answers = '{}', hidden = '{}', consents = '[]', acts = '[]', visitor = '', chain = " +
			"null, proved_at = coalesce(proved_at, at) where person_id = $1",
		"update message m set name = 'erased' from touch t where t.person_id = $1 and t.once is not null and m.id = " +
			"t.message_id",
		"update message_version v set subject = '', doc = '{}', plain = '' from touch t where t.person_id = $1 and " +
			"t.once is not null and v.message_id = t.message_id",
		"update touch set trouble = '' where person_id = $1",
		"update letter l set address = '', subject = '', trouble = '', edit = null from touch t where t.person_id = " +
			"$1 and l.touch_id = t.id",
		"update work w set notes = '' from touch t where t.person_id = $1 and w.touch_id = t.id",
	} {
		if _, err := exec(ctx, tx, q, id); err != nil {
			return fail(err)
		}
	}
	for _, q := range []string{
		"delete from incoming where person_id = $1",
		"update handoff set brief = '{}', reason = '' where person_id = $1",
		"update deal d set name = coalesce((select c.name from company c where c.id = d.company_id), 'erased') where " +
			"person_id = $1",
		"update signal set detail = '' where person_id = $1 and detail <> ''",
		// A merge that can be taken back holds the record that went.
		"update batch set detail = '{}', state = 'done', kind = 'erase' where kind = 'merge' and " +
			"((detail->'merge'->>'kept')::bigint = $1 or (detail->'merge'->>'gone')::bigint = $1)",
	} {
		if _, err := exec(ctx, tx, q, id); err != nil {
			return fail(err)
		}
	}
	// Rows of files that were not taken, and what waits to be, may name them too.
	for _, a := range addresses {
		if _, err := exec(ctx, tx,
			"delete from import_reject where exists (select from unnest(raw) as r where lower(btrim(r)) = $1)",
			a); err != nil {
			return fail(err)
		}
		if _, err := exec(ctx, tx, "delete from import_row where email = $1", a); err != nil {
			return fail(err)
		}
		if _, err := exec(ctx, tx, `
				update import
				set columns = jsonb_set(columns, '{sample}', '[]')
				where position($1 in lower(columns::text)) > 0`, a); err != nil {
			return fail(err)
		}
		// A file that waits to be brought in cannot be edited: it has to be sent again.
		if _, err := exec(ctx, tx, `
			with named as (
				select distinct batch_id from import_piece where position(convert_to($1, 'UTF8') in data) > 0),
			gone as (delete from import_piece p using named n where p.batch_id = n.batch_id)
			update batch b
			set state = 'failed',
				trouble = 'somebody in this file was erased meanwhile, and the file with them: bring it in again'
			from named n
			where b.id = n.batch_id and b.state in ('draft', 'checked')`, a); err != nil {
			return fail(err)
		}
	}
	n, err := exec(ctx, tx, `
		update person
		set first_name = '', last_name = '', email = '', phone = '', title = '', seniority = '', department = '',
			company_id = null, owner_id = null,
		region = '', city = '', street = '', postcode = '', zone = '', language = '', profile = '', own = '{}',
			away_until = null, do_not_contact = true, erased_at = $2
		where id = $1 and erased_at is null`, id, at)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	if err != nil {
		return fail(err)
	}
	return nil
}

// ForgetNeverAgain takes an address off the list: its owner has come back by
// themselves.
func (tx Tx) ForgetNeverAgain(ctx context.Context, hash []byte) error {
	_, err := exec(ctx, tx, "delete from never_again where hash = $1", hash)
	return err
}
