package store

import (
	"context"
	"fmt"

	"ombak/internal/core/folder"
)

// filedIn is where the things of each kind that lie in folders are kept, what names them there, and
// which of them are there.
var filedIn = map[folder.Kind]struct{ table, name, there string }{
	folder.Sequence: {"sequence", "name", "removed_at is null"},
	folder.Message:  {"message", "name", "removed_at is null"},
	folder.Page:     {"page", "title", "removed_at is null"},
	folder.Email:    {"mailing", "name", "true"},
	folder.Event:    {"event", "name", "true"},
	folder.Shelf:    {"shelf_item", "title", "removed_at is null"},
	folder.Audience: {"audience", "name", "true"},
	folder.Model:    {"score_model", "name", "removed_at is null"},
}

// Folders reads the whole tree.
func (db Queries) Folders(ctx context.Context) (folder.Tree, error) {
	return all[folder.Folder](ctx, db, `
		select id, coalesce(parent_id, 0) as parent, name, note
		from folder
		order by id`)
}

// LockFolders has nobody else change the tree meanwhile, and reads it.
func (tx Tx) LockFolders(ctx context.Context) (folder.Tree, error) {
	if _, err := exec(ctx, tx, "select pg_advisory_xact_lock($1)", lockFolders); err != nil {
		return nil, err
	}
	return tx.Folders(ctx)
}

// KeepFolder changes a folder, or keeps a new one (ID 0).
func (tx Tx) KeepFolder(ctx context.Context, f folder.Folder) (int64, error) {
	if f.ID == 0 {
		return one[int64](ctx, tx,
			"insert into folder (parent_id, name, note) values (nullif($1::bigint, 0), $2, $3) returning id", f.Parent,
			f.Name, f.Note)
	}
	n, err := exec(ctx, tx, "update folder set parent_id = nullif($2::bigint, 0), name = $3, note = $4 where id = $1",
		f.ID, f.Parent, f.Name, f.Note)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return f.ID, err
}

// RemoveFolder removes a folder; all that lies in it lies where it lay.
func (tx Tx) RemoveFolder(ctx context.Context, f folder.Folder) error {
	things := "update filed set folder_id = $2 where folder_id = $1"
	if f.Parent == 0 {
		things = "delete from filed where folder_id = $1 and $2 = 0"
	}
	for _, step := range []string{things, "update folder set parent_id = nullif($2::bigint, 0) where parent_id = $1"} {
		if _, err := exec(ctx, tx, step, f.ID, f.Parent); err != nil {
			return fmt.Errorf("emptying folder %d: %w", f.ID, err)
		}
	}
	_, err := exec(ctx, tx, "delete from folder where id = $1", f.ID)
	return err
}

// Filed answers in which folder the things of a kind lie, by thing; what lies at the top is not
// in it.
func (db Queries) Filed(ctx context.Context, kind folder.Kind) (map[int64]int64, error) {
	list, err := all[struct {
		Thing  int64 `db:"thing_id"`
		Folder int64 `db:"folder_id"`
	}](ctx, db, "select thing_id, folder_id from filed where kind = $1", kind)
	out := make(map[int64]int64, len(list))
	for _, x := range list {
		out[x.Thing] = x.Folder
	}
	return out, err
}

// File puts a thing into a folder, 0 for the top, and keeps what it is for.
func (tx Tx) File(ctx context.Context, kind folder.Kind, id, into int64) error {
	if into == 0 {
		_, err := exec(ctx, tx, "delete from filed where kind = $1 and thing_id = $2", kind, id)
		return err
	}
	_, err := exec(ctx, tx, `
		insert into filed (kind, thing_id, folder_id) values ($1, $2, $3)
		on conflict (kind, thing_id) do update set folder_id = excluded.folder_id`, kind, id, into)
	return err
}

// FiledThing is a thing that lies in a folder.
type FiledThing struct {
	Kind   folder.Kind
	ID     int64
	Name   string
	Note   string // what it is for
	Folder int64  `db:"folder_id"`
}

func thingsOf(kind folder.Kind) string {
	k := filedIn[kind] // written here: nothing of it comes from outside
	return `
		select '` + string(kind) + `' as kind, x.id, x.` + k.name + ` as name, x.note,
			coalesce(f.folder_id, 0) as folder_id
		from ` + k.table + ` x
		left join filed f on f.kind = '` + string(kind) + `' and f.thing_id = x.id
		where ` + k.there
}

// FiledThing reads a thing with where it lies.
func (db Queries) FiledThing(ctx context.Context, kind folder.Kind, id int64) (FiledThing, error) {
	if _, ok := filedIn[kind]; !ok {
		return FiledThing{}, ErrNotFound
	}
	return one[FiledThing](ctx, db, thingsOf(kind)+" and x.id = $1", id)
}

// mostFiled is how many things of a kind a folder shows.
const mostFiled = 500

// InFolder lists what lies in a folder, by kind and name, of each kind at most 500.
func (db Queries) InFolder(ctx context.Context, id int64) (out []FiledThing, err error) {
	for _, kind := range folder.Kinds() {
		list, err := all[FiledThing](ctx, db, thingsOf(kind)+" and f.folder_id = $1 order by lower(x."+
			filedIn[kind].name+"), x.id limit $2", id, mostFiled)
		if err != nil {
			return nil, fmt.Errorf("listing what lies in folder %d: %w", id, err)
		}
		out = append(out, list...)
	}
	return out, nil
}

// NoteThing keeps what a thing is for.
func (tx Tx) NoteThing(ctx context.Context, kind folder.Kind, id int64, note string) error {
	_, err := exec(ctx, tx, "update "+filedIn[kind].table+" set note = $2 where id = $1 and note <> $2", id, note)
	return err
}
