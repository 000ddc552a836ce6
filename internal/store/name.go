package store

import (
	"context"
)

// What there is to choose from has a name and no figures: these are read for choosers,
// proofs, editors and the map, where counting would be for nothing.

// MessageName is a message by its name.
type MessageName struct {
	ID      int64
	Name    string
	Version int // the newest; 0: it was not kept yet
}

// MessageNames lists them, the last changed first.
func (db Queries) MessageNames(ctx context.Context) ([]MessageName, error) {
	return all[MessageName](ctx, db, `
		select id, name, version
		from message
		where removed_at is null
		order by updated_at desc, id desc
		limit 500`)
}

// PageName is a page by its title.
type PageName struct {
	ID        int64
	Slug      string
	Title     string
	Offer     string // what its file is called to readers
	FileName  string `db:"file_name"`
	Published bool
}

// PageNames lists them, the last changed first.
func (db Queries) PageNames(ctx context.Context) ([]PageName, error) {
	return all[PageName](ctx, db, `
		select id, slug, title, offer, file_name, published
		from page
		where removed_at is null
		order by updated_at desc, id desc
		limit 500`)
}

// SequenceName is a sequence by its name.
type SequenceName struct {
	ID    int64
	Name  string
	State string
}

// RunningNames lists the sequences that run or are held, the last changed first.
func (db Queries) RunningNames(ctx context.Context) ([]SequenceName, error) {
	return all[SequenceName](ctx, db, `
		select id, name, state
		from sequence
		where removed_at is null and state in ('running', 'held')
		order by updated_at desc, id desc
		limit 500`)
}

// OpenToReps lists the running sequences into which reps may put people.
func (db Queries) OpenToReps(ctx context.Context) ([]SequenceName, error) {
	return all[SequenceName](ctx, db, `
		select id, name, state
		from sequence
		where removed_at is null and state = 'running' and coalesce((entry->>'reps')::boolean, false)
		order by lower(name), id
		limit 500`)
}

// MessageText reads a message without its figures.
func (db Queries) MessageText(ctx context.Context, id int64) (Message, error) {
	return one[Message](ctx, db, messageText+"where m.id = $1 and m.removed_at is null", id)
}

// MessageTexts reads several, by id; those that are not there any more are left out.
func (db Queries) MessageTexts(ctx context.Context, ids []int64) (map[int64]Message, error) {
	list, err := all[Message](ctx, db, messageText+"where m.id = any ($1) and m.removed_at is null", ids)
	out := make(map[int64]Message, len(list))
	for _, m := range list {
		out[m.ID] = m
	}
	return out, err
}

const messageText = `
	select m.id, m.name, m.version, v.subject, v.doc, v.from_owner, v.sender_id, coalesce(a.name, '') as sender,
		m.updated_at
	from message m
	join message_version v on v.message_id = m.id and v.version = m.version
	left join app_user a on a.id = v.sender_id `

// PersonName is what a person is called where they are only pointed at.
type PersonName struct {
	ID                          int64
	First, Last, Email, Company string
}

// NamesOf reads what some people are called; whoever was erased is missing.
func (db Queries) NamesOf(ctx context.Context, people []int64) (map[int64]PersonName, error) {
	list, err := all[PersonName](ctx, db, `
		select p.id, p.first_name as first, p.last_name as last, p.email, coalesce(c.name, '') as company
		from person p
		left join company c on c.id = p.company_id
		where p.id = any ($1) and p.erased_at is null`, people)
	out := make(map[int64]PersonName, len(list))
	for _, p := range list {
		out[p.ID] = p
	}
	return out, err
}
