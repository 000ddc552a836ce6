package setup

import (
	"context"
	"unicode/utf8"

	"ombak/internal/core/folder"
	"ombak/internal/core/news"
	"ombak/internal/core/person"
	"ombak/internal/store"
)

// KeepFolder changes a folder, or makes one (ID 0).
func (e *Setup) KeepFolder(ctx context.Context, f folder.Folder) (id int64, err error) {
	if f.Name, err = folder.Name(f.Name); err != nil {
		return 0, err
	}
	f.Note = person.Name(f.Note)
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		tree, err := tx.LockFolders(ctx)
		if err != nil {
			return err
		}
		if _, ok := tree.Find(f.ID); f.ID != 0 && !ok {
			return folder.ErrGone
		}
		if err := tree.Check(f); err != nil {
			return err
		}
		if id, err = tx.KeepFolder(ctx, f); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Folder.Of(id))
	})
	return id, err
}

// RemoveFolder removes a folder; all that lies in it lies where it lay.
func (e *Setup) RemoveFolder(ctx context.Context, id int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		tree, err := tx.LockFolders(ctx)
		if err != nil {
			return err
		}
		f, ok := tree.Find(id)
		if !ok {
			return folder.ErrGone
		}
		for _, within := range tree.Within(id) {
			// Its own name is free then.
			within.Parent = f.Parent
			if err := tree.Without(id).Check(within); err != nil {
				return err
			}
		}
		if err := tx.RemoveFolder(ctx, f); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Folder.Of(id))
	})
}

// Filing is where a thing is to lie, and what it is for.
type Filing struct {
	Kind folder.Kind
	ID   int64
	Path string  // of the folder, made where it is not there; empty: the top
	Into *int64  // the folder by its number, in place of Path
	Note *string // nil: as it is
}

// File puts a thing into a folder, and keeps what it is for. It answers the folder, and what was
// the thing's name.
func (e *Setup) File(ctx context.Context, f Filing) (into int64, name string, err error) {
	names, err := folder.ReadPath(f.Path)
	if err != nil {
		return 0, "", err
	}
	if f.Note != nil && utf8.RuneCountInString(*f.Note) > folder.MaxNote {
		return 0, "", folder.ErrNote
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		tree, err := tx.LockFolders(ctx)
		if err != nil {
			return err
		}
		thing, err := tx.FiledThing(ctx, f.Kind, f.ID)
		if err != nil {
			return err
		}
		name = thing.Name
		if f.Into != nil {
			if into = *f.Into; into != 0 {
				if _, ok := tree.Find(into); !ok {
					return folder.ErrGone
				}
			}
		} else if into, err = makeWay(ctx, tx, tree, names); err != nil {
			return err
		}
		if err := tx.File(ctx, f.Kind, f.ID, into); err != nil {
			return err
		}
		if f.Note != nil {
			if err := tx.NoteThing(ctx, f.Kind, f.ID, person.Name(*f.Note)); err != nil {
				return err
			}
		}
		return tx.Notify(ctx, news.Folder.Of(into))
	})
	return into, name, err
}

// makeWay answers the folder that names lead to, and makes what is missing on the way.
func makeWay(ctx context.Context, tx store.Tx, tree folder.Tree, names []string) (int64, error) {
	at, left := tree.At(names)
	for _, name := range left {
		f := folder.Folder{Parent: at, Name: name}
		if err := tree.Check(f); err != nil {
			return 0, err
		}
		id, err := tx.KeepFolder(ctx, f)
		if err != nil {
			return 0, err
		}
		f.ID, at = id, id
		tree = append(tree, f)
	}
	return at, nil
}
