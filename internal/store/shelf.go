package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ombak/internal/core/rule"
)

// ShelfItem is something on the shelf, in its newest version.
type ShelfItem struct {
	ID       int64
	Title    string
	Kind     string // file or link
	Language string
	Stage    string
	Note     string
	About    string
	Ends     *time.Time `db:"ends_on"`
	Version  int
	Created  time.Time `db:"created_at"`
	File     string
	Type     string
	Size     int64
	URL      string
	Taken    int64 // people
}

const shelfFields = `
	select i.id, i.title, i.kind, i.language, i.stage, i.note, i.about, i.ends_on, i.version, i.created_at,
		v.name as file, v.type, v.size, v.url,
	(select count(distinct x.person_id) from shelf_taken x where x.item_id = i.id) as taken
	from shelf_item i join shelf_version v on v.item_id = i.id and v.version = i.version `

// Shelf lists what is on the shelf whose words have all words of a text, by
// title. over lists what has ended too.
func (db Queries) Shelf(ctx context.Context, text string, today time.Time, over bool) ([]ShelfItem, error) {
	c := compiler{}
	where := "i.removed_at is null"
	if !over {
		where += " and (i.ends_on is null or i.ends_on >= " + c.arg(today.Format(time.DateOnly)) + "::date)"
	}
	for i, w := range strings.Fields(rule.Fold(text)) {
		if i < 6 {
			where += " and lower(i.title || ' ' || i.language || ' ' || i.stage || ' ' || i.note || ' ' || i.about " +
				"|| ' ' || v.name) like " + c.arg("%"+likeText(w)+"%")
		}
	}
	return all[ShelfItem](ctx, db, shelfFields+"where "+where+" order by lower(i.title), i.id limit 300", c.args...)
}

// ShelfTitle is what an item is called.
type ShelfTitle struct {
	ID    int64
	Title string
}

// ShelfTitles lists what is called how, by number.
func (db Queries) ShelfTitles(ctx context.Context) ([]ShelfTitle, error) {
	return all[ShelfTitle](ctx, db,
		"select id, title from shelf_item where removed_at is null order by id desc limit 500")
}

// ShelfItem reads one.
func (db Queries) ShelfItem(ctx context.Context, id int64) (ShelfItem, error) {
	return one[ShelfItem](ctx, db, shelfFields+"where i.id = $1 and i.removed_at is null", id)
}

// ShelfFile reads the bytes of an item's newest file.
func (db Queries) ShelfFile(ctx context.Context, id int64) ([]byte, error) {
	return one[[]byte](ctx, db,
		"select v.data from shelf_item i join shelf_version v on v.item_id = i.id and v.version = i.version where "+
			"i.id = $1 and i.removed_at is null and v.data is not null", id)
}

// ShelfFile is a file as it is sent.
type ShelfFile struct {
	Name, Type string
	Data       []byte
}

// ShelfVersionFile reads a version of an item's file, also of one that was
// taken off the shelf.
func (db Queries) ShelfVersionFile(ctx context.Context, id int64, version int) (ShelfFile, error) {
	return one[ShelfFile](ctx, db,
		"select name, type, data from shelf_version where item_id = $1 and version = $2 and data is not null", id,
		version)
}

// SaveShelfItem keeps an item's words; where data or a URL is given also as a
// new version of what it holds.
func (tx Tx) SaveShelfItem(ctx context.Context, i ShelfItem, data []byte, user int64, at time.Time) (int64, error) {
	var err error
	if i.ID == 0 {
		i.ID, err = one[int64](ctx, tx,
			"insert into shelf_item (title, kind, language, stage, note, about, ends_on, created_at, created_by) "+
				"values ($1, $2, $3, $4, $5, $6, $7, $8, nullif($9::bigint, 0)) returning id",
			i.Title, i.Kind, i.Language, i.Stage, i.Note, i.About, i.Ends, at, user)
	} else {
		var n int64
		if n, err = exec(ctx, tx,
			"update shelf_item set title = $2, language = $3, stage = $4, note = $5, about = $6, ends_on = $7 where "+
				"id = $1 and removed_at is null", i.ID, i.Title, i.Language, i.Stage, i.Note, i.About,
			i.Ends); err == nil && n == 0 {
			err = ErrNotFound
		}
	}
	if err != nil {
		return 0, err
	}
	if data == nil && i.URL == "" {
		return i.ID, nil
	}
	if _, err := exec(ctx, tx, `
		with n as (update shelf_item set version = version + 1 where id = $1 returning version)
		insert into shelf_version (item_id, version, name, type, size, data, url, at, user_id)
		select $1, n.version, $2, $3, $4, $5, $6, $7, nullif($8::bigint, 0)
		from n`,
		i.ID, i.File, i.Type, len(data), data, i.URL, at, user); err != nil {
		return 0, fmt.Errorf("keeping a version on the shelf: %w", err)
	}
	return i.ID, nil
}

// RemoveShelfItem takes an item off the shelf, or puts it back.
func (tx Tx) RemoveShelfItem(ctx context.Context, id int64, at *time.Time) error {
	n, err := exec(ctx, tx, "update shelf_item set removed_at = $2 where id = $1", id, at)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// TakeShelf notes that somebody took an item.
func (tx Tx) TakeShelf(ctx context.Context, item, person int64, at time.Time) error {
	_, err := exec(ctx, tx, "insert into shelf_taken (item_id, person_id, at) values ($1, $2, $3)", item, person, at)
	return err
}

// ShelfTaker is somebody who took an item, and when last.
type ShelfTaker struct {
	Person int64
	At     time.Time
}

// ShelfTakers lists who took an item, the last first.
func (db Queries) ShelfTakers(ctx context.Context, id int64, n int) ([]ShelfTaker, error) {
	return all[ShelfTaker](ctx, db,
		"select person_id as person, max(at) as at from shelf_taken where item_id = $1 group by 1 order by 2 desc, 1 "+
			"limit $2", id, n)
}

// ShelfVersion is a state of what an item holds.
type ShelfVersion struct {
	Version int
	File    string
	Size    int64
	URL     string
	At      time.Time
	User    string
}

// ShelfVersions lists them, the newest first.
func (db Queries) ShelfVersions(ctx context.Context, id int64) ([]ShelfVersion, error) {
	return all[ShelfVersion](ctx, db, `
			select v.version, v.name as file, v.size, v.url, v.at, coalesce(u.name, '') as "user"
			from shelf_version v
			left join app_user u on u.id = v.user_id
			where v.item_id = $1
			order by v.version desc
			limit 50`, id)
}
