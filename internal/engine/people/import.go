package people

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/roster"
	"ombak/internal/store"
)

// Sizes of an import's work.
const (
	pieceSize   = 512 << 10
	sampleRows  = 20
	checkChunk  = 5000
	checkAtOnce = 2 // pieces that are held against what is known, side by side
	applyChunk  = 20_000
	tellEvery   = 250 * time.Millisecond
	maxProblems = 50_000 // rejected rows after which a file is given up as a whole
)

// NewImport takes a file in, as it comes, and has a first look at it: what its
// columns are, as far as can be told. Nothing is imported yet.
func (e *People) NewImport(ctx context.Context, name string, file io.Reader, user int64) (int64, error) {
	now := e.Now()
	var id int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		var err error
		if id, err = tx.AddBatch(ctx, store.Batch{Kind: "import", Title: name, State: "draft", By: &user},
			now); err != nil {
			return err
		}
		if err := tx.AddImport(ctx, store.Import{Batch: id, File: name, Form: "csv"}); err != nil {
			return err
		}
		buf := make([]byte, pieceSize)
		var size int64
		for n := 0; ; n++ {
			got, err := io.ReadFull(file, buf)
			if got > 0 {
				if err := tx.AddPiece(ctx, id, n, buf[:got]); err != nil {
					return err
				}
			}
			if size += int64(got); size > roster.MaxFile {
				return &roster.BadFile{Reason: "the file is larger than 256 MB"}
			}
			if err == io.EOF || err == io.ErrUnexpectedEOF {
				break
			}
			if err != nil {
				return plainly.Errorf("the file did not arrive as a whole: %w", err)
			}
		}
		return tx.SaveImport(ctx, &store.Import{Batch: id, Form: "csv", Size: size})
	})
	if err != nil {
		return 0, err
	}
	i, err := e.Store.Import(ctx, id)
	if err == nil {
		err = e.lookAt(ctx, &i, intake.Mapping{}, true)
	}
	if err != nil {
		// Nothing is left of a file that cannot be read.
		if derr := e.Store.RemoveBatch(ctx, id); derr != nil {
			return 0, errors.Join(err, derr)
		}
		return 0, err
	}
	return id, nil
}

func (e *People) reader(ctx context.Context, i *store.Import, m *intake.Mapping) (roster.Reader, error) {
	var sep rune
	for _, r := range m.Sep {
		sep = r
	}
	return roster.Open(e.Store.ImportFile(ctx, i.Batch),
		roster.Options{NoHead: m.NoHead, Separator: sep, Encoding: m.Encoding})
}

// lookAt reads the head and the first rows, and guesses what the columns are;
// guess: also from what was chosen for such a file before.
func (e *People) lookAt(ctx context.Context, i *store.Import, m intake.Mapping, guess bool) error {
	start := make([]byte, 64<<10)
	n, err := io.ReadFull(e.Store.ImportFile(ctx, i.Batch), start)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return err
	}
	form, err := roster.Sniff(start[:n])
	if err != nil {
		return err
	}
	i.Form = string(form)
	r, err := e.reader(ctx, i, &m)
	if err != nil {
		return err
	}
	defer r.Close()
	i.Columns.V = store.ImportHead{Head: slices.Clone(r.Head())}
	for len(i.Columns.V.Sample) < sampleRows {
		row, err := r.Next()
		if err == io.EOF {
			break
		}
		if _, bad := errors.AsType[*roster.BadRow](err); bad {
			i.Columns.V.Sample = append(i.Columns.V.Sample, slices.Clone(row.Cells))
			continue
		}
		if err != nil {
			return err
		}
		cells := slices.Clone(row.Cells)
		for k := range cells {
			cells[k] = strings.Clone(cells[k])
		}
		i.Columns.V.Sample = append(i.Columns.V.Sample, cells)
	}
	if len(i.Columns.V.Sample) == 0 {
		return &roster.BadFile{Reason: "the file has a head and no rows"}
	}
	own, err := e.ownDefinitions(ctx)
	if err != nil {
		return err
	}
	if guess {
		known, ok, err := e.Store.ImportMemory(ctx, i.Columns.V.Head)
		if err != nil {
			return err
		}
		if ok && len(known.Columns) == len(i.Columns.V.Head) {
			m, i.Columns.V.Known = known, true
		}
	}
	if len(m.Columns) != len(i.Columns.V.Head) {
		m.Columns = intake.Guess(i.Columns.V.Head, i.Columns.V.Sample, own)
	}
	if m.Policy == "" {
		m.Policy = intake.Fill
	}
	i.Options.V, i.Checked, i.Counts.V = m, false, store.ImportCounts{}
	return e.Store.KeepImport(ctx, i)
}

func (e *People) ownDefinitions(ctx context.Context) ([]person.Definition, error) {
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	return append(slices.Clone(cat.Own), cat.Consents()...), nil
}

func (e *People) builder(ctx context.Context, i *store.Import) (*intake.Builder, error) {
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	var dates func(string) string
	if i.Form == string(roster.XLSX) {
		dates = roster.SheetDate
	}
	consents := cat.Consents()
	define := func(f person.Field) (person.Definition, bool) {
		if i := slices.IndexFunc(consents, func(d person.Definition) bool { return d.Field == f }); i >= 0 {
			return consents[i], true
		}
		return cat.Define(f)
	}
	return intake.NewBuilder(&i.Options.V, define, dates)
}

// Preview is one of a file's first rows as it would become a record.
type Preview struct {
	Cells   []string
	Values  person.Values
	Tags    []string
	Problem string
}

// Preview shows the first rows of an import as they would become records; the
// error says what of the mapping cannot be.
func (e *People) Preview(ctx context.Context, i *store.Import) ([]Preview, error) {
	b, err := e.builder(ctx, i)
	if err != nil {
		return nil, err
	}
	var out []Preview
	for _, cells := range i.Columns.V.Sample {
		p := Preview{Cells: cells}
		rec, problem := b.Build(cells)
		if problem != nil {
			p.Problem = problem.Error()
		} else {
			p.Values = person.Values{}
			for f, v := range rec.Values {
				p.Values[f] = v
			}
			p.Tags = rec.Tags
		}
		out = append(out, p)
	}
	return out, nil
}

// ReadAgain has another look at a file that is read differently: with or
// without a head, by another separator or encoding.
func (e *People) ReadAgain(ctx context.Context, batch int64, m intake.Mapping) error {
	i, b, err := e.importOf(ctx, batch)
	if err != nil {
		return err
	}
	if b.State != "draft" && b.State != "checked" && b.State != "failed" {
		return store.ErrOver
	}
	if err := e.lookAt(ctx, &i, m, false); err != nil {
		return err
	}
	b.State, b.Trouble = "draft", ""
	return e.Store.KeepBatch(ctx, &b)
}

func (e *People) importOf(ctx context.Context, batch int64) (store.Import, store.Batch, error) {
	i, err := e.Store.Import(ctx, batch)
	if err != nil {
		return i, store.Batch{}, err
	}
	b, err := e.Store.Batch(ctx, batch)
	return i, b, err
}

// CheckImport has the whole file read by a mapping, and counts what would
// become of its rows. Nothing is imported yet.
func (e *People) CheckImport(ctx context.Context, batch int64, m intake.Mapping) error {
	i, b, err := e.importOf(ctx, batch)
	if err != nil {
		return err
	}
	if b.State != "draft" && b.State != "checked" && b.State != "failed" {
		return store.ErrOver
	}
	if len(m.Columns) != len(i.Columns.V.Head) {
		return plainly.New("the columns are not those of the file; load the page again")
	}
	if !slices.Contains(intake.Policies(), m.Policy) {
		return plainly.New("choose what happens to people who are known")
	}
	i.Options.V, i.Checked = m, false
	if _, err := e.builder(ctx, &i); err != nil {
		return err
	}
	if m.Audience != 0 {
		a, err := e.Store.Audience(ctx, m.Audience)
		if err != nil {
			return err
		}
		if a.Live {
			return plainly.New("people join a live audience by its rule; choose a hand-picked one")
		}
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.RememberImport(ctx, i.Columns.V.Head, m, e.Now()); err != nil {
			return err
		}
		if err := tx.SaveImport(ctx, &i); err != nil {
			return err
		}
		b.State, b.Trouble, b.Done, b.Total, b.Stop, b.Ended = "waiting", "", 0, 0, false, nil
		return tx.SetBatch(ctx, &b)
	})
	if err != nil {
		return err
	}
	return e.Ask(ctx, batch)
}

// StartImport imports a checked file.
func (e *People) StartImport(ctx context.Context, batch int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		b, err := tx.LockBatch(ctx, batch)
		if err != nil {
			return err
		}
		if b.State != "checked" {
			return store.ErrOver
		}
		b.State, b.Done, b.Ended = "waiting", 0, nil
		return tx.SetBatch(ctx, &b)
	})
	if err != nil {
		return err
	}
	return e.Ask(ctx, batch)
}

func (e *People) runImport(ctx context.Context, b *store.Batch) error {
	i, err := e.Store.Import(ctx, b.ID)
	if err != nil {
		return err
	}
	if !i.Checked {
		err = e.check(ctx, b, &i)
		if errors.Is(err, errStopped) {
			b.State = "draft" // nothing was written: the file can be looked at again
			return nil
		}
		return err
	}
	return e.apply(ctx, b, &i)
}

// RejectsFile writes the rejected rows of an import as they were, with the
// reason of each in a column of its own, to be mended and imported again.
func (e *People) RejectsFile(ctx context.Context, batch int64, w io.Writer) error {
	i, err := e.Store.Import(ctx, batch)
	if err != nil {
		return err
	}
	head := slices.Clone(i.Columns.V.Head)
	if i.Options.V.NoHead {
		for k := range head {
			head[k] = i.Options.V.Columns[k]
		}
	}
	out := roster.NewCSV(w)
	if err := out.Head(append(head, "why it was not taken")); err != nil {
		return err
	}
	after := 0
	for {
		list, err := e.Store.Rejects(ctx, batch, false, after, 1000)
		if err != nil || len(list) == 0 {
			return errors.Join(err, out.Close())
		}
		for _, r := range list {
			after = r.N
			cells := slices.Clone(r.Raw.V)
			for len(cells) < len(head) {
				cells = append(cells, "")
			}
			why := r.Reason
			if r.Field != "" {
				why = r.Field + ": " + why
			}
			if err := out.Row(append(cells, why)); err != nil {
				return err
			}
		}
	}
}
