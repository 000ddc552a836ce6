package engine

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
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
func (e *Engine) NewImport(ctx context.Context, name string, file io.Reader, user int64) (int64, error) {
	now := e.Now()
	var id int64
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		var err error
		if id, err = store.AddBatch(ctx, tx, store.Batch{Kind: "import", Title: name, State: "draft", By: &user}, now); err != nil {
			return err
		}
		if err := store.AddImport(ctx, tx, store.Import{Batch: id, File: name, Form: "csv"}); err != nil {
			return err
		}
		buf := make([]byte, pieceSize)
		var size int64
		for n := 0; ; n++ {
			got, err := io.ReadFull(file, buf)
			if got > 0 {
				if err := store.AddPiece(ctx, tx, id, n, buf[:got]); err != nil {
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
				return fmt.Errorf("the file did not arrive as a whole: %w", err)
			}
		}
		return store.SaveImport(ctx, tx, &store.Import{Batch: id, Form: "csv", Size: size})
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

func (e *Engine) reader(ctx context.Context, i *store.Import, m *intake.Mapping) (roster.Reader, error) {
	var sep rune
	for _, r := range m.Sep {
		sep = r
	}
	return roster.Open(e.Store.ImportFile(ctx, i.Batch), roster.Options{NoHead: m.NoHead, Separator: sep, Encoding: m.Encoding})
}

// lookAt reads the head and the first rows, and guesses what the columns are;
// guess: also from what was chosen for such a file before.
func (e *Engine) lookAt(ctx context.Context, i *store.Import, m intake.Mapping, guess bool) error {
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

func (e *Engine) ownDefinitions(ctx context.Context) ([]person.Definition, error) {
	list, err := e.Store.OwnFields(ctx)
	var out []person.Definition
	for i := range list {
		out = append(out, list[i].Definition())
	}
	return out, err
}

func (e *Engine) builder(ctx context.Context, i *store.Import) (*intake.Builder, error) {
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	var dates func(string) string
	if i.Form == string(roster.XLSX) {
		dates = roster.SheetDate
	}
	return intake.NewBuilder(&i.Options.V, cat.Define, dates)
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
func (e *Engine) Preview(ctx context.Context, i *store.Import) ([]Preview, error) {
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
func (e *Engine) ReadAgain(ctx context.Context, batch int64, m intake.Mapping) error {
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

func (e *Engine) importOf(ctx context.Context, batch int64) (store.Import, store.Batch, error) {
	i, err := e.Store.Import(ctx, batch)
	if err != nil {
		return i, store.Batch{}, err
	}
	b, err := e.Store.Batch(ctx, batch)
	return i, b, err
}

// CheckImport has the whole file read by a mapping, and counts what would
// become of its rows. Nothing is imported yet.
func (e *Engine) CheckImport(ctx context.Context, batch int64, m intake.Mapping) error {
	i, b, err := e.importOf(ctx, batch)
	if err != nil {
		return err
	}
	if b.State != "draft" && b.State != "checked" && b.State != "failed" {
		return store.ErrOver
	}
	if len(m.Columns) != len(i.Columns.V.Head) {
		return errors.New("the columns are not those of the file; load the page again")
	}
	if !slices.Contains(intake.Policies(), m.Policy) {
		return errors.New("choose what happens to people who are known")
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
			return errors.New("people join a live audience by its rule; choose a hand-picked one")
		}
	}
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := store.RememberImport(ctx, tx, i.Columns.V.Head, m, e.Now()); err != nil {
			return err
		}
		if err := store.SaveImport(ctx, tx, &i); err != nil {
			return err
		}
		b.State, b.Trouble, b.Done, b.Total, b.Stop, b.Ended = "waiting", "", 0, 0, false, nil
		return store.SetBatch(ctx, tx, &b)
	})
	if err != nil {
		return err
	}
	return e.ask(ctx, batch)
}

// StartImport imports a checked file.
func (e *Engine) StartImport(ctx context.Context, batch int64) error {
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		b, err := store.BatchIn(ctx, tx, batch)
		if err != nil {
			return err
		}
		if b.State != "checked" {
			return store.ErrOver
		}
		b.State, b.Done, b.Ended = "waiting", 0, nil
		return store.SetBatch(ctx, tx, &b)
	})
	if err != nil {
		return err
	}
	return e.ask(ctx, batch)
}

func (e *Engine) runImport(ctx context.Context, b *store.Batch) error {
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

// checkedRows is a piece of a file that was read and understood.
type checkedRows struct {
	rows    []store.StagedRow
	rejects []store.Reject
	read    int
	err     error
}

// check reads the whole file and stages what can be taken.
func (e *Engine) check(ctx context.Context, b *store.Batch, i *store.Import) error {
	if err := e.Store.InTx(ctx, func(tx store.Tx) error { return store.ClearStaged(ctx, tx, b.ID) }); err != nil {
		return err
	}
	builder, err := e.builder(ctx, i)
	if err != nil {
		return err
	}
	owners, err := e.ownerNames(ctx)
	if err != nil {
		return err
	}
	ownJSON, err := e.Store.OwnJSON(ctx)
	if err != nil {
		return err
	}
	r, err := e.reader(ctx, i, &i.Options.V)
	if err != nil {
		return err
	}
	defer r.Close()
	staging := store.NewStaging(b.ID, &i.Options.V)
	// One goroutine reads and understands while others ask the database and
	// write to it.
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	read := make(chan checkedRows, 1)
	x := reading{e: e, m: &i.Options.V, builder: builder, staging: staging, owners: owners, own: ownJSON, seen: map[uint64]int32{}, seed: maphash.MakeSeed(), companies: map[string]*store.StagedCompany{}}
	go func() {
		defer close(read)
		for {
			c := x.chunk(r)
			select {
			case read <- c:
			case <-inner.Done():
				return
			}
			if c.err != nil || c.read == 0 {
				return
			}
		}
	}()
	never, err := e.Store.AnyNeverAgain(ctx)
	if err != nil {
		return err
	}
	known := &knownRows{rows: map[int64]int{}}
	told := time.Now()
	var mu sync.Mutex
	var wg sync.WaitGroup
	var failed error
	rejected := 0
	take := func(c checkedRows) error {
		if c.err != nil {
			return c.err
		}
		if err := e.match(ctx, staging, &c, known, never); err != nil {
			return err
		}
		if err := staging.Write(ctx, e.Store, c.rows); err != nil {
			return err
		}
		if err := e.Store.AddRejects(ctx, b.ID, c.rejects); err != nil {
			return err
		}
		mu.Lock()
		defer mu.Unlock()
		if rejected += len(c.rejects); rejected > maxProblems {
			return &roster.BadFile{Reason: fmt.Sprintf("more than %d rows cannot be taken: look at how the columns are read first", maxProblems)}
		}
		b.Done += int64(c.read)
		if time.Since(told) > tellEvery {
			told = time.Now()
			return e.progress(ctx, b)
		}
		return nil
	}
	for range checkAtOnce {
		wg.Go(func() {
			for c := range read {
				if err := take(c); err != nil {
					mu.Lock()
					if failed == nil {
						failed = err
					}
					mu.Unlock()
					cancel()
					return
				}
			}
		})
	}
	wg.Wait()
	if failed != nil {
		return failed
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	companies := make([]*store.StagedCompany, 0, len(x.companies))
	for _, key := range slices.Sorted(maps.Keys(x.companies)) {
		c := x.companies[key]
		if c.Name == "" {
			c.Name = c.Domain
		}
		companies = append(companies, c)
	}
	if err := e.Store.StageCompanies(ctx, b.ID, companies); err != nil {
		return err
	}
	if i.Counts.V, err = e.Store.CountImport(ctx, b.ID, &i.Options.V); err != nil {
		return err
	}
	i.Checked = true
	if err := e.Store.KeepImport(ctx, i); err != nil {
		return err
	}
	b.State, b.Total = "checked", i.Counts.V.Rows
	return nil
}

// ownerNames are the users by name and by address.
func (e *Engine) ownerNames(ctx context.Context) (map[string]int64, error) {
	users, err := e.Store.Users(ctx)
	out := map[string]int64{}
	for _, u := range users {
		out[strings.ToLower(u.Name)], out[strings.ToLower(u.Email)] = u.ID, u.ID
	}
	return out, err
}

// reading turns a file's rows into staged ones.
type reading struct {
	e       *Engine
	m       *intake.Mapping
	builder *intake.Builder
	staging *store.Staging
	owners  map[string]int64
	own     func(person.Values) (string, error)
	seen    map[uint64]int32 // hash of what tells somebody → row
	seed    maphash.Seed

	companies map[string]*store.StagedCompany
}

// company notes what a row says of its company. Of what rows say differently
// the first stands.
func (x *reading) company(v person.Values, size int32) {
	name, domain := v[person.Company], v[person.Domain]
	key := domain
	if key == "" {
		if key = strings.ToLower(name); key == "" {
			return
		}
	}
	c := x.companies[key]
	if c == nil {
		c = &store.StagedCompany{Name: strings.Clone(name), Domain: strings.Clone(domain), Size: size}
		x.companies[strings.Clone(key)] = c
	}
	fill := func(p *string, v string) {
		if *p == "" && v != "" {
			*p = strings.Clone(v)
		}
	}
	fill(&c.Name, name)
	fill(&c.Industry, v[person.Industry])
	fill(&c.Revenue, v[person.Revenue])
	fill(&c.Country, v[person.CompanyCountry])
	if _, asked := v[person.CompanyCountry]; !asked {
		fill(&c.Country, v[person.Country])
	}
	if c.Size == 0 {
		c.Size = size
	}
}

func (x *reading) chunk(r roster.Reader) (c checkedRows) {
	c.rows = make([]store.StagedRow, 0, checkChunk)
	for c.read < checkChunk {
		row, err := r.Next()
		if err == io.EOF {
			return c
		}
		c.read++
		reject := func(field, value, reason string) {
			raw := make([]string, len(row.Cells))
			for i, s := range row.Cells {
				raw[i] = strings.ReplaceAll(strings.ToValidUTF8(s, "\ufffd"), "\x00", "") // a database keeps no nought
			}
			j := store.Reject{N: row.N, Line: row.Line, Field: field, Value: strings.Clone(value), Reason: reason}
			j.Raw.V = raw
			c.rejects = append(c.rejects, j)
		}
		if bad, ok := errors.AsType[*roster.BadRow](err); ok {
			field := ""
			if bad.Column >= 0 && bad.Column < len(r.Head()) {
				field = r.Head()[bad.Column]
			}
			reject(field, "", bad.Reason)
			continue
		}
		if err != nil {
			c.err = err
			return c
		}
		rec, problem := x.builder.Build(row.Cells)
		if problem != nil {
			name := problem.Name
			if problem.Column >= 0 && problem.Column < len(r.Head()) && r.Head()[problem.Column] != "" {
				name = r.Head()[problem.Column]
			}
			reject(name, problem.Value, problem.Reason)
			continue
		}
		out := store.StagedRow{N: row.N, Line: row.Line, NoContact: rec.Values[person.DoNotContact] != "", Tags: rec.Tags, Emails: rec.Emails, Phones: rec.Phones, Note: rec.Note}
		if name := rec.Values[person.Owner]; name != "" {
			if out.Owner = x.owners[strings.ToLower(name)]; out.Owner == 0 {
				reject(string(person.Owner), name, "nobody here has this name")
				continue
			}
		}
		var size int32
		if text := rec.Values[person.Size]; text != "" {
			if _, err := fmt.Sscanf(text, "%d", &size); err != nil || size < 0 {
				reject(string(person.Size), text, person.ErrNumber.Error())
				continue
			}
		}
		if x.m.Source != "" && rec.Values[person.Source] == "" {
			rec.Values[person.Source] = x.m.Source
		}
		if out.Own, c.err = x.own(rec.Values); c.err != nil {
			return c
		}
		key := rec.Values[person.EmailField]
		if key == "" {
			key = rec.Values[person.PhoneField] + " " + rec.Values[person.LastName] + rec.Values[person.Profile]
		}
		h := maphash.String(x.seed, key)
		if first, double := x.seen[h]; double {
			reject("", key, fmt.Sprintf("the same person as in row %d, which is taken", first))
			continue
		}
		x.seen[h] = int32(row.N)
		x.company(rec.Values, size)
		out.Values = x.staging.Take(rec.Values)
		c.rows = append(c.rows, out)
	}
	return c
}

// knownRows are the rows that are about people who are known.
type knownRows struct {
	mu   sync.Mutex
	rows map[int64]int
}

// take notes that a row is about a person, or answers the row that is already.
func (k *knownRows) take(person int64, row int) (first int, double bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if first, double = k.rows[person]; !double {
		k.rows[person] = row
	}
	return first, double
}

// match finds out who of a piece is known, and gives the others the ids that
// they will have.
func (e *Engine) match(ctx context.Context, s *store.Staging, c *checkedRows, known *knownRows, never bool) error {
	var emails, phones, profiles []string
	for i := range c.rows {
		v := c.rows[i].Values
		switch {
		case s.EmailOf(v) != "":
			emails = append(emails, s.EmailOf(v))
		case s.ProfileOf(v) != "":
			profiles = append(profiles, s.ProfileOf(v))
		default:
			phones = append(phones, s.PhoneOf(v))
		}
	}
	byEmail, err := e.Store.KnownBy(ctx, emails)
	if err != nil {
		return err
	}
	byPhone, byProfile := map[string]int64{}, map[string]int64{}
	if len(phones) > 0 {
		if byPhone, err = e.Store.KnownByPhone(ctx, phones); err != nil {
			return err
		}
	}
	if len(profiles) > 0 {
		if byProfile, err = e.Store.KnownByProfile(ctx, profiles); err != nil {
			return err
		}
	}
	erased := map[string]bool{}
	if never {
		var hashes [][]byte
		for _, a := range emails {
			hashes = append(hashes, e.hashed(a))
		}
		if erased, err = e.Store.HashesNeverAgain(ctx, hashes); err != nil {
			return err
		}
	}
	rows := c.rows[:0]
	fresh := 0
	for _, r := range c.rows {
		v := r.Values
		reject := func(reason string) {
			c.rejects = append(c.rejects, store.Reject{N: r.N, Line: r.Line, Value: s.EmailOf(v), Reason: reason})
		}
		switch {
		case s.EmailOf(v) != "":
			if never && erased[string(e.hashed(s.EmailOf(v)))] {
				reject("this person has asked to be erased; they are not taken again")
				continue
			}
			r.Person = byEmail[s.EmailOf(v)]
		case s.ProfileOf(v) != "":
			r.Person = byProfile[s.ProfileOf(v)]
		default:
			last := ""
			if i := s.LastNameAt(); i >= 0 {
				last = strings.ToLower(v[i])
			}
			r.Person = byPhone[s.PhoneOf(v)+" "+last]
		}
		if r.Person != 0 {
			if first, double := known.take(r.Person, r.N); double {
				reject(fmt.Sprintf("the same person as in row %d, which is taken", first))
				continue
			}
			r.Fate = store.FateKnown
		} else {
			r.Fate = store.FateNew
			fresh++
		}
		rows = append(rows, r)
	}
	c.rows = rows
	ids, err := e.Store.PersonIDs(ctx, fresh)
	if err != nil {
		return err
	}
	for i := range c.rows {
		if c.rows[i].Fate == store.FateNew {
			c.rows[i].Person, ids = ids[0], ids[1:]
		}
	}
	return nil
}

// apply makes people of the staged rows, piece by piece: each is kept as a
// whole, and is then no longer staged, so that a process that ends half way is
// followed by one that goes on with the rest.
func (e *Engine) apply(ctx context.Context, b *store.Batch, i *store.Import) error {
	pieces, err := e.Store.StagedPieces(ctx, b.ID, applyChunk)
	if err != nil {
		return err
	}
	b.Total = i.Counts.V.Rows - i.Counts.V.Rejected
	if len(pieces[0])+len(pieces[1]) == 0 && b.Done < b.Total {
		i.Checked = false
		return errors.Join(errors.New("the database was restarted since the file was checked: check it once more; rows that were brought in are known then"), e.Store.KeepImport(ctx, i))
	}
	author := store.Author{How: "import: " + b.Title, Batch: b.ID, At: e.Now()}
	if b.By != nil {
		author.User = *b.By
	}
	if b.Done == 0 {
		i.Counts.V = store.ImportCounts{Rows: i.Counts.V.Rows, Rejected: i.Counts.V.Rejected}
		if err := e.Store.KeepImport(ctx, i); err != nil {
			return err
		}
	}
	if err := e.Store.InTx(ctx, func(tx store.Tx) error { return store.PrepareImport(ctx, tx, &i.Options.V, author) }); err != nil {
		return err
	}
	if err := e.progress(ctx, b); err != nil {
		return err
	}
	var (
		mu      sync.Mutex
		wg      sync.WaitGroup
		stopped error
	)
	over := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return stopped != nil || ctx.Err() != nil
	}
	for _, share := range pieces {
		wg.Go(func() {
			for _, p := range share {
				if over() {
					return
				}
				var c store.ImportCounts
				piece := func(again bool) error {
					return e.Store.InTx(ctx, func(tx store.Tx) error {
						var err error
						if c, err = store.ApplyRows(ctx, tx, &i.Options.V, p, again, author); err != nil {
							return err
						}
						return store.AddCounts(ctx, tx, b.ID, c)
					})
				}
				err := piece(false)
				for try := 0; errors.Is(err, store.ErrTaken) && try < 5; try++ {
					err = piece(true)
				}
				mu.Lock()
				if err == nil {
					b.Done += c.New + c.Updated + c.Unchanged
					err = e.tellProgress(ctx, b)
				}
				if err != nil && stopped == nil {
					stopped = err
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	if stopped != nil || ctx.Err() != nil {
		return errors.Join(stopped, ctx.Err())
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return store.ForgetFile(ctx, tx, b.ID) })
}

// undoNew removes the people that an import made and nothing else has touched.
func (e *Engine) undoNew(ctx context.Context, b *store.Batch) error {
	var last int64
	for ctx.Err() == nil {
		more := false
		err := e.Store.InTx(ctx, func(tx store.Tx) error {
			to, gone, kept, err := store.UndoNew(ctx, tx, b.ID, last, bulkChunk)
			if err != nil || to == 0 {
				return err
			}
			last, more = to, true
			b.Done += gone + kept
			b.Detail.V.Undone += gone
			b.Detail.V.Kept += kept
			return nil
		})
		if err != nil {
			return err
		}
		if !more {
			return e.Store.InTx(ctx, func(tx store.Tx) error { return store.UndoRest(ctx, tx, b.ID) })
		}
		if err := e.progress(ctx, b); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// RejectsFile writes the rejected rows of an import as they were, with the
// reason of each in a column of its own, to be mended and imported again.
func (e *Engine) RejectsFile(ctx context.Context, batch int64, w io.Writer) error {
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
		list, err := e.Store.Rejects(ctx, batch, after, 1000)
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
