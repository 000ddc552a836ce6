package engine

import (
	"context"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/shelf"
	"ombak/internal/core/signal"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// SaveShelfItem keeps an item of the shelf. data is a new file, nil where it
// stays; a file that is not what its name says is refused.
func (e *Engine) SaveShelfItem(ctx context.Context, i store.ShelfItem, data []byte, user int64) (id int64, err error) {
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
func (e *Engine) Upload(ctx context.Context, name string, data []byte, user int64) (store.ShelfItem, error) {
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

// attached are files that were read for emails, as long as they are not too
// many.
type attached struct {
	mu    sync.Mutex
	files map[[2]int64]mail.File
	size  int
}

// maxAttached is how many bytes of files are kept at hand.
const maxAttached = 64 << 20

// attachment reads a file of an email. Versions never change.
func (e *Engine) attachment(ctx context.Context, f message.File) (mail.File, error) {
	key := [2]int64{f.Item, int64(f.Version)}
	e.attached.mu.Lock()
	have, ok := e.attached.files[key]
	e.attached.mu.Unlock()
	if ok {
		return have, nil
	}
	x, err := e.Store.ShelfVersionFile(ctx, f.Item, f.Version)
	if store.IsNotFound(err) {
		return have, plainly.Errorf("the attachment “%s” is not there any more", f.Name)
	}
	if err != nil {
		return have, err
	}
	have = mail.File{Name: x.Name, Type: x.Type, Data: x.Data}
	e.attached.mu.Lock()
	defer e.attached.mu.Unlock()
	if e.attached.files == nil || e.attached.size+len(x.Data) > maxAttached {
		e.attached.files, e.attached.size = map[[2]int64]mail.File{}, 0
	}
	e.attached.files[key] = have
	e.attached.size += len(x.Data)
	return have, nil
}

// attachments reads the files of an email.
func (e *Engine) attachments(ctx context.Context, doc *message.Document) ([]mail.File, error) {
	var out []mail.File
	for _, f := range doc.Files {
		x, err := e.attachment(ctx, f)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// Attach has the draft of a message take a file of the shelf along, in its
// newest version.
func (e *Engine) Attach(ctx context.Context, id, user, item int64) error {
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
func (e *Engine) TakeShelf(ctx context.Context, i store.ShelfItem, reader int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.TakeShelf(ctx, i.ID, reader, e.Now()); err != nil {
			return err
		}
		return e.record(ctx, tx, []store.Signal{{Person: reader, Detail: i.Title, Signal: signal.Signal{At: e.Now(), Kind: signal.Download}}})
	})
	if err == nil {
		e.Nudge()
	}
	return err
}
