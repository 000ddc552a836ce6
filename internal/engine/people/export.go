package people

import (
	"context"
	"errors"
	"io"
	"strings"
	"time"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/roster"
	"ombak/internal/store"
)

// ExportColumns are the columns of an export, by name: every field that can be
// imported again, then tags and what else belongs to a record.
func ExportColumns(cat *rule.Catalogue) (names []string, fields []person.Field) {
	for _, d := range cat.Fields() {
		if d.Fixed {
			continue
		}
		names, fields = append(names, d.Name), append(fields, d.Field)
		switch d.Field {
		case person.EmailField:
			names, fields = append(names, intake.FurtherEmail), append(fields, intake.FurtherEmail)
		case person.PhoneField:
			names, fields = append(names, intake.FurtherPhone), append(fields, intake.FurtherPhone)
		}
	}
	names, fields = append(names, intake.Tags, string(person.DoNotContact)),
		append(fields, intake.Tags, person.DoNotContact)
	for _, d := range cat.Consents() {
		names, fields = append(names, d.Name), append(fields, d.Field)
	}
	return append(names, intake.Note), append(fields, intake.Note)
}

// Export writes everybody whom a query is about, as they come.
func (e *People) Export(ctx context.Context, q store.PeopleQuery, form roster.Form, w io.Writer) (n int64, err error) {
	return e.export(ctx, q, form, w, func(all, done int) error { return nil })
}

func (e *People) export(
	ctx context.Context, q store.PeopleQuery, form roster.Form, w io.Writer, told func(all, done int) error,
) (n int64, err error) {
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return 0, err
	}
	out, err := roster.NewWriter(form, w)
	if err != nil {
		return 0, err
	}
	names, fields := ExportColumns(cat)
	if err := out.Head(names); err != nil {
		return 0, err
	}
	cells := make([]string, len(fields))
	err = e.Store.EachPerson(ctx, q, told, func(p *store.ExportedPerson) error {
		n++
		v := p.Values()
		for i, f := range fields {
			switch f {
			case intake.FurtherEmail:
				cells[i] = strings.Join(p.Emails, "; ")
			case intake.FurtherPhone:
				cells[i] = strings.Join(p.Phones, "; ")
			case intake.Tags:
				cells[i] = strings.Join(p.Tags, "; ")
			case intake.Note:
				cells[i] = intake.NotesText(p.Notes)
			case person.DoNotContact:
				cells[i] = ""
				if p.DoNotContact {
					cells[i] = "yes"
				}
			default:
				if kind, _, id := person.MarkOf(f); kind == person.ConsentMark {
					cells[i] = ""
					for _, c := range p.Consents {
						if c.Purpose == id {
							cells[i] = intake.ConsentText(c)
						}
					}
					continue
				}
				cells[i] = person.Shown(v[f])
			}
		}
		return out.Row(cells)
	})
	if err != nil {
		return n, err
	}
	return n, out.Close()
}

// KeepExports is how long a file that was written as work of its own is kept.
const KeepExports = 24 * time.Hour

// maxExport bounds such a file, in bytes.
const maxExport = 2 << 30

// BeginExport has a worker write a file of everybody whom a query is about, named so,
// and answers the batch.
func (e *People) BeginExport(
	ctx context.Context, q store.PeopleQuery, form roster.Form, name string, user int64,
) (int64, error) {
	if roster.Types[form] == "" {
		return 0, plainly.Errorf("there is no form %q of a file", string(form))
	}
	b := store.Batch{Kind: "export", Title: name + roster.Ends[form], State: "waiting", By: &user}
	b.Detail.V.Export = &store.Export{Form: string(form), Name: name, Query: q}
	var id int64
	if err := e.Store.InTx(ctx, func(tx store.Tx) (err error) {
		id, err = tx.AddBatch(ctx, b, e.Now())
		return err
	}); err != nil {
		return 0, err
	}
	return id, e.Ask(ctx, id)
}

// runExport writes the file from its beginning: half a file of a worker that died is of
// no use, for what follows would be of another instant.
func (e *People) runExport(ctx context.Context, b *store.Batch) error {
	x := b.Detail.V.Export
	if err := e.Store.ForgetExport(ctx, b.ID); err != nil {
		return err
	}
	b.Detail.V.Changed = 0
	w := &pieceWriter{ctx: ctx, s: e.Store, batch: b.ID}
	n, err := e.export(ctx, x.Query, roster.Form(x.Form), w, func(all, done int) error {
		b.Total, b.Done = int64(all), int64(done)
		return e.progress(ctx, b)
	})
	if err == nil {
		err = w.flush()
	}
	if err != nil {
		if ctx.Err() == nil { // stopped, or failed: nobody comes back to it
			err = errors.Join(err, e.Store.ForgetExport(ctx, b.ID))
		}
		return err
	}
	return e.finishExport(ctx, b, w, n)
}

// finishExport says that the file is whole, unless it was to stop: whoever is erased
// stops all that are being written.
func (e *People) finishExport(ctx context.Context, b *store.Batch, w *pieceWriter, n int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		kept, err := tx.LockBatch(ctx, b.ID)
		if err != nil {
			return err
		}
		if kept.Stop {
			return errStopped
		}
		b.Detail.V.Export.Pieces, b.Detail.V.Export.Size = w.n, w.size
		b.State, b.Done, b.Detail.V.Changed = "done", n, n
		return tx.SetBatch(ctx, b)
	})
	if errors.Is(err, errStopped) {
		err = errors.Join(err, e.Store.ForgetExport(ctx, b.ID))
	}
	return err
}

// ExportFile is the file that an export has written; nil where it is not kept any more,
// or not there yet.
func (e *People) ExportFile(ctx context.Context, b *store.Batch) (io.Reader, error) {
	x := b.Detail.V.Export
	if x == nil || b.State != "done" {
		return nil, nil
	}
	n, err := e.Store.ExportedPieces(ctx, b.ID)
	if err != nil || n == 0 || n != x.Pieces {
		return nil, err
	}
	return e.Store.ExportFile(ctx, b.ID), nil
}

// pieceWriter keeps what is written to it in pieces.
type pieceWriter struct {
	ctx   context.Context
	s     *store.Store
	batch int64
	n     int
	size  int64
	left  []byte
}

// exportPiece is how many bytes a piece has, or more where more come at once.
const exportPiece = 1 << 20

func (w *pieceWriter) Write(b []byte) (int, error) {
	w.left = append(w.left, b...)
	if w.size += int64(len(b)); w.size > maxExport {
		return 0, plainly.Errorf("the file would have more than %d GB: describe fewer people", maxExport>>30)
	}
	if len(w.left) < exportPiece {
		return len(b), nil
	}
	return len(b), w.flush()
}

func (w *pieceWriter) flush() error {
	if len(w.left) == 0 {
		return nil
	}
	if err := w.s.AddExported(w.ctx, w.batch, w.n, w.left); err != nil {
		return err
	}
	w.n, w.left = w.n+1, w.left[:0]
	return nil
}
