package store

import "context"

// Thing is something that people have made and given a name.
type Thing struct {
	Kind string
	ID   int64
	Name string
}

// Named lists everything with a name of its own, the last made of each kind first.
func (db Queries) Named(ctx context.Context) ([]Thing, error) {
	return all[Thing](ctx, db, `
		(select 'sequence' as kind, id, name from sequence where removed_at is null order by id desc limit 1000)
		union all (select 'message', id, name from message where removed_at is null order by id desc limit 1000)
		union all (select 'page', id, title from page where removed_at is null order by id desc limit 1000)
		union all (select 'audience', id, name from audience order by id desc limit 1000)
		union all (select 'one-off email', id, name from mailing order by id desc limit 1000)
		union all (select 'on the shelf', id, title from shelf_item order by id desc limit 1000)
		union all (select 'reader group', id, name from reader_group order by id desc limit 1000)`)
}

// Ends lists what the ends of a sequence are called, in all of its versions.
func (db Queries) Ends(ctx context.Context, sequenceID int64) ([]string, error) {
	return all[string](ctx, db, `
		select distinct s->>'title'
		from sequence_version v, jsonb_array_elements(v.plan->'steps') s
		where v.sequence_id = $1 and s->>'kind' = 'end'
		order by 1
		limit 100`, sequenceID)
}
