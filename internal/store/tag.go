package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// Tag is a word that people are marked with.
type Tag struct {
	Key     string // by which they are in order
	ID      int64
	Name    string
	Note    string
	OwnerID *int64 `db:"owner_id"`
	Owner   string
	Ends    *time.Time `db:"ends_on"` // after that day it is ready to be cleaned up
	Created time.Time  `db:"created_at"`
	Used    int64
	Last    *time.Time // last put on somebody
	Asked   int64      // live audiences that ask for it
}

// Tags lists all, with what they are used for.
func (db Queries) Tags(ctx context.Context) ([]Tag, error) {
	return all[Tag](ctx, db, `
		select t.id, t.name, lower(t.name) collate "C" as key, t.note, t.owner_id, coalesce(u.name, '') as owner,
			t.ends_on, t.created_at, coalesce(x.used, 0) as used, x.last,
			coalesce(a.n, 0) as asked
		from tag t
		left join app_user u on u.id = t.owner_id
		left join (select id, sum(n)::bigint as used from kept where of = 'tag' group by 1) k on k.id = t.id
		left join lateral (
			select coalesce(k.used, 0) as used, (
				select at
				from person_tag
				where tag_id = t.id
				order by at desc
				limit 1) as last) x on true
		left join (
			select (c->>'id')::bigint as id, count(distinct a.id) as n
			from audience a, jsonb_path_query(a.rule, '$.**.if ? (@.about == "tag")') c
			where a.live
			group by 1) a on a.id = t.id
		order by lower(t.name) collate "C"`)
}

// PersonTags lists a person's tags.
func (db Queries) PersonTags(ctx context.Context, person int64) ([]Tag, error) {
	return all[Tag](ctx, db,
		"select t.id, t.name, t.note, t.owner_id, t.ends_on, t.created_at from person_tag x join tag t on t.id = "+
			"x.tag_id where x.person_id = $1 order by lower(t.name)", person)
}

// TagID finds a tag by its name.
func (db Queries) TagID(ctx context.Context, name string) (int64, error) {
	return one[int64](ctx, db, "select id from tag where lower(name) = lower($1)", name)
}

// TagNamed finds a tag by its name without regard to case, or makes it.
func (tx Tx) TagNamed(ctx context.Context, name string, owner int64, at time.Time) (int64, error) {
	id, err := one[int64](ctx, tx, `
		with found as (select id from tag where lower(name) = lower($1)),
		made as (
			insert into tag (name, owner_id, created_at)
			select $1, nullif($2::bigint, 0), $3
			where not exists (select from found)
			on conflict (lower(name)) do update set name = tag.name
			returning id)
		select id from found union all select id from made`, name, owner, at)
	if err != nil {
		return 0, fmt.Errorf("making the tag %q: %w", name, err)
	}
	return id, nil
}

// SaveTag changes a tag's name, note, owner and end.
func (tx Tx) SaveTag(ctx context.Context, t Tag) error {
	n, err := exec(ctx, tx, "update tag set name = $2, note = $3, owner_id = $4, ends_on = $5 where id = $1", t.ID,
		t.Name, t.Note, t.OwnerID, t.Ends)
	if taken(err) {
		return plainly.Errorf("%w: a tag is called %q; merge them instead", ErrTaken, t.Name)
	}
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// MergeTags puts one tag's people under another, has rules ask for that one,
// and removes the first.
func (tx Tx) MergeTags(ctx context.Context, from, into int64, at time.Time) error {
	if _, err := exec(ctx, tx,
		"insert into person_tag (tag_id, person_id, at) select $2, person_id, at from person_tag where tag_id = $1 "+
			"on conflict do nothing", from, into); err != nil {
		return fmt.Errorf("merging tags: %w", err)
	}
	list, err := tx.LiveAudiences(ctx)
	if err != nil {
		return err
	}
	for _, a := range list {
		if !a.Rule.V.Names(rule.Tag, from) {
			continue
		}
		a.Rule.V.Each(func(c *rule.Condition) {
			if c.About == rule.Tag && c.ID == from {
				c.ID = into
			}
		})
		if err := tx.SaveAudience(ctx, a, at); err != nil {
			return err
		}
	}
	return tx.RemoveTag(ctx, from)
}

// RemoveTag removes a tag from everybody.
func (tx Tx) RemoveTag(ctx context.Context, id int64) error {
	n, err := exec(ctx, tx, "delete from tag where id = $1", id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// TagNames lists the tags without what they are used for.
func (db Queries) TagNames(ctx context.Context) ([]Tag, error) {
	return all[Tag](ctx, db, "select id, name from tag order by lower(name)")
}

// TagsOf lists the names of several people's tags.
func (db Queries) TagsOf(ctx context.Context, people []int64) (map[int64][]string, error) {
	rows, err := all[struct {
		Person int64
		Name   string
	}](ctx, db, "select x.person_id as person, t.name from person_tag x join tag t on t.id = x.tag_id where "+
		"x.person_id = any ($1) order by lower(t.name)", people)
	out := map[int64][]string{}
	for _, r := range rows {
		out[r.Person] = append(out[r.Person], r.Name)
	}
	return out, err
}
