package store

import (
	"context"
	"time"
)

// Sites lists the origins of sites whose visits are recorded.
func (db Queries) Sites(ctx context.Context) ([]string, error) {
	return all[string](ctx, db, "select origin from site order by origin")
}

// IsSite reports whether an origin is one of them.
func (db Queries) IsSite(ctx context.Context, origin string) (bool, error) {
	return one[bool](ctx, db, "select exists (select from site where origin = $1)", origin)
}

// AddSite adds one; one that is there stays.
func (tx Tx) AddSite(ctx context.Context, origin string, at time.Time) error {
	_, err := exec(ctx, tx, "insert into site values ($1, $2) on conflict do nothing", origin, at)
	return err
}

// RemoveSite removes one: nothing more is recorded there.
func (tx Tx) RemoveSite(ctx context.Context, origin string) error {
	_, err := exec(ctx, tx, "delete from site where origin = $1", origin)
	return err
}

// Visit is a page view of a site.
type Visit struct {
	At  time.Time
	URL string
}

// MeetVisitor finds a browser, new or not, locks it, and answers whose it is; 0
// where that is not known.
func (tx Tx) MeetVisitor(ctx context.Context, id string, at time.Time) (int64, error) {
	return one[int64](ctx, tx, `
		insert into visitor (id, first_at, seen_at)
		values ($1, $2, $2)
		on conflict (id) do update set seen_at = greatest(visitor.seen_at, excluded.seen_at)
		returning coalesce(person_id, 0)`, id, at)
}

// JoinVisitor says whose a browser is, and hands out what it visited before, up
// to n views since an instant.
func (tx Tx) JoinVisitor(ctx context.Context, id string, person int64, since time.Time, n int) ([]Visit, error) {
	if _, err := exec(ctx, tx, "update visitor set person_id = $2 where id = $1", id, person); err != nil {
		return nil, err
	}
	return all[Visit](ctx, tx, `with gone as (delete from visit where visitor_id = $1 returning at, url)
		select at, url from (select at, url from gone where at >= $2 order by at desc limit $3) x order by at`, id,
		since, n)
}

// KeepVisit keeps a view of a browser that nobody is known by.
func (tx Tx) KeepVisit(ctx context.Context, id string, v Visit) error {
	_, err := exec(ctx, tx, "insert into visit (visitor_id, at, url) values ($1, $2, $3)", id, v.At, v.URL)
	return err
}

// ForgetVisitors drops browsers that nobody was known by and that have not come
// since an instant.
func (db Queries) ForgetVisitors(ctx context.Context, since time.Time) (int64, error) {
	return exec(ctx, db, "delete from visitor where person_id is null and seen_at < $1", since)
}
