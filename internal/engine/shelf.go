package engine

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/shelf"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// SaveShelfItem keeps an item of the shelf. data is a new file, nil where it
// stays; a file that is not what its name says is refused.
func (e *Engine) SaveShelfItem(ctx context.Context, i store.ShelfItem, data []byte, user int64) (id int64, err error) {
	if i.Title = person.Name(i.Title); i.Title == "" {
		return 0, errors.New("give it a title")
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
			return 0, errors.New("choose a file")
		}
	case "link":
		data = nil
		if i.URL = message.Address(i.URL); !strings.HasPrefix(i.URL, "http") {
			return 0, errors.New("a link is an address such as https://karang.example/talk")
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
		return 0, errors.New("it is a file or a link")
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		id, err = store.SaveShelfItem(ctx, tx, i, data, user, e.Now())
		return err
	})
	return id, err
}

// TakeShelf keeps that somebody took an item.
func (e *Engine) TakeShelf(ctx context.Context, i store.ShelfItem, reader int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := store.TakeShelf(ctx, tx, i.ID, reader, e.Now()); err != nil {
			return err
		}
		return record(ctx, tx, []store.Signal{{Person: reader, Detail: i.Title, Signal: signal.Signal{At: e.Now(), Kind: signal.Download}}})
	})
	if err == nil {
		e.Nudge()
	}
	return err
}
