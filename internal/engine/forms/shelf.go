package forms

import (
	"context"
	"net/http"
	"path"
	"slices"
	"strings"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/shelf"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// SaveShelfItem keeps an item of the shelf. data is a new file, nil where it
// stays; a file that is not what its name says is refused.
func (e *Forms) SaveShelfItem(ctx context.Context, i store.ShelfItem, data []byte, user int64) (id int64, err error) {
	if i.Title = person.Name(i.Title); i.Title == "" {
		return 0, plainly.New("give it a title")
	}
	switch i.Kind {
	case "file":
		i.URL = ""
		if data != nil {
			if i.Type, err = shelf.Accept(i.File, http.DetectContentType(data), data); err != nil {
				return 0, err
			}
			i.File = shelf.SafeName(i.File)
		} else if i.ID == 0 {
			return 0, plainly.New("choose a file")
		}
	case "link":
		data = nil
		if i.URL = message.Address(i.URL); !strings.HasPrefix(i.URL, "http") {
			return 0, plainly.New("a link is an address such as https://karang.example/talk")
		}
		if i.ID != 0 {
			was, err := e.Store.ShelfItem(ctx, i.ID)
			if err != nil {
				return 0, err
			}
			if was.URL == i.URL {
				i.URL = "" // the same: no new version
			}
		}
	default:
		return 0, plainly.New("it is a file or a link")
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = tx.SaveShelfItem(ctx, i, data, user, e.Now())
		return err
	})
	return id, err
}

// Upload puts a file on the shelf under its own name.
func (e *Forms) Upload(ctx context.Context, name string, data []byte, user int64) (store.ShelfItem, error) {
	title := strings.TrimSuffix(shelf.SafeName(name), path.Ext(name))
	if title == "" {
		title = "File"
	}
	if data == nil {
		data = []byte{}
	}
	id, err := e.SaveShelfItem(ctx, store.ShelfItem{Title: title, Kind: "file", File: name}, data, user)
	if err != nil {
		return store.ShelfItem{}, err
	}
	return e.Store.ShelfItem(ctx, id)
}

// Attach has the draft of a message take a file of the shelf along, in its
// newest version.
func (e *Forms) Attach(ctx context.Context, id, user, item int64) error {
	i, err := e.Store.ShelfItem(ctx, item)
	if store.IsNotFound(err) || err == nil && i.Kind != "file" {
		return plainly.New("this is no file of the shelf")
	}
	if err != nil {
		return err
	}
	return e.EditMessage(ctx, id, user, "attached a file", func(d *store.MessageDraft) error {
		doc := &d.Doc.V
		doc.Files = slices.DeleteFunc(doc.Files, func(f message.File) bool { return f.Item == item })
		if len(doc.Files) >= message.MaxFiles {
			return plainly.Errorf("a message has at most %d attachments", message.MaxFiles)
		}
		doc.Files = append(doc.Files, message.File{Item: i.ID, Version: i.Version, Name: i.File, Size: i.Size})
		return nil
	})
}

// TakeShelf keeps that somebody took an item.
func (e *Forms) TakeShelf(ctx context.Context, i store.ShelfItem, reader int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.TakeShelf(ctx, i.ID, reader, e.Now()); err != nil {
			return err
		}
		return e.RecordSignals(ctx, tx,
			[]store.Signal{{Person: reader, Detail: i.Title,
				Signal: signal.Signal{At: e.Now(), Kind: signal.Download}}})
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// RemoveShelfItem takes an item off the shelf, or puts it back.
func (e *Forms) RemoveShelfItem(ctx context.Context, id int64, back bool) error {
	now := e.Now()
	at := &now
	if back {
		at = nil
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveShelfItem(ctx, id, at) })
}
