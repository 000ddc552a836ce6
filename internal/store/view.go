package store

import "context"

// SavedView is a list as somebody has kept it.
type SavedView struct {
	ID     int64
	List   string
	Name   string
	Query  string
	UserID *int64 `db:"user_id"` // nil: everybody's
	Here   bool   `db:"-"`
}

// SavedViews lists a user's own views of a list, and everybody's.
func (db Queries) SavedViews(ctx context.Context, list string, user int64) ([]SavedView, error) {
	return all[SavedView](ctx, db,
		"select id, list, name, query, user_id from saved_view where list = $1 and (user_id is null or user_id = $2) "+
			"order by lower(name), id", list, user)
}

// SaveView keeps a view, in the place of one of the same name; user 0 is
// everybody.
func (db Queries) SaveView(ctx context.Context, v SavedView, user int64) error {
	_, err := exec(ctx, db,
		"insert into saved_view (list, name, query, user_id) values ($1, $2, $3, nullif($4::bigint, 0)) on conflict "+
			"(list, name, user_id) do update set query = excluded.query", v.List, v.Name, v.Query, user)
	return err
}

// RemoveView removes a view of the user's own or of everybody's.
func (db Queries) RemoveView(ctx context.Context, id, user int64) error {
	n, err := exec(ctx, db, "delete from saved_view where id = $1 and (user_id is null or user_id = $2)", id, user)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}
