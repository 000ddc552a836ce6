package store

import (
	"context"
	"errors"
	"time"
)

// Page is a hosted page that offers something against a form.
type Page struct {
	ID        int64
	Slug      string
	Title     string
	Intro     string // cleaned HTML
	Button    string
	Thanks    string // cleaned HTML
	Offer     string // what the file is called to readers
	FileName  string `db:"file_name"`
	FileType  string `db:"file_type"`
	FileSize  int64  `db:"file_size"`
	Published bool
	Updated   time.Time `db:"updated_at"`
	Views     int64
	Forms     int64
}

const pageFields = `select g.id, g.slug, g.title, g.intro, g.button, g.thanks, g.offer, g.file_name, g.file_type, coalesce(length(g.file), 0) as file_size, g.published, g.updated_at,
	(select count(*) from signal s where s.page_id = g.id and s.kind = 1 and s.machine = '') as views,
	(select count(*) from signal s where s.page_id = g.id and s.kind = 2) as forms from page g `

// Page reads one.
func (s *Store) Page(ctx context.Context, id int64) (Page, error) {
	return one[Page](ctx, s.db, pageFields+"where g.id = $1", id)
}

// PageBySlug reads the page at an address.
func (s *Store) PageBySlug(ctx context.Context, slug string) (Page, error) {
	return one[Page](ctx, s.db, `select id, slug, title, intro, button, thanks, offer, file_name, file_type, coalesce(length(file), 0) as file_size, published, updated_at from page where slug = $1`, slug)
}

// Pages lists all.
func (s *Store) Pages(ctx context.Context) ([]Page, error) {
	return all[Page](ctx, s.db, pageFields+"order by g.updated_at desc, g.id desc limit 500")
}

// PageFile reads the file that a page offers.
func (s *Store) PageFile(ctx context.Context, id int64) ([]byte, error) {
	return one[[]byte](ctx, s.db, "select file from page where id = $1 and file is not null", id)
}

// ErrTaken is answered where an address or a name is taken already.
var ErrTaken = errors.New("it is taken already")

// SavePage keeps a page; file nil leaves the one there is.
func (s *Store) SavePage(ctx context.Context, p Page, file []byte, at time.Time) (int64, error) {
	taken, err := one[bool](ctx, s.db, "select exists (select from page where slug = $1 and id <> $2)", p.Slug, p.ID)
	if err != nil {
		return 0, err
	}
	if taken {
		return 0, ErrTaken
	}
	if p.ID == 0 {
		return one[int64](ctx, s.db, `insert into page (slug, title, intro, button, thanks, offer, file_name, file_type, file, published, updated_at)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) returning id`,
			p.Slug, p.Title, p.Intro, p.Button, p.Thanks, p.Offer, p.FileName, p.FileType, file, p.Published, at)
	}
	return one[int64](ctx, s.db, `update page set slug = $2, title = $3, intro = $4, button = $5, thanks = $6, offer = $7,
			file_name = case when $10::bytea is null then file_name else $8 end, file_type = case when $10::bytea is null then file_type else $9 end,
			file = coalesce($10, file), published = $11, updated_at = $12 where id = $1 returning id`,
		p.ID, p.Slug, p.Title, p.Intro, p.Button, p.Thanks, p.Offer, p.FileName, p.FileType, file, p.Published, at)
}
