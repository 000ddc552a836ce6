package post

import (
	"context"
	"sync"

	"ombak/internal/core/message"
	"ombak/internal/core/plainly"
	"ombak/internal/mail"
	"ombak/internal/store"
)

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
func (e *Post) attachment(ctx context.Context, f message.File) (mail.File, error) {
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
func (e *Post) attachments(ctx context.Context, doc *message.Document) ([]mail.File, error) {
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
