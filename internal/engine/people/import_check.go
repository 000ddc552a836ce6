package people

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
	"ombak/internal/roster"
	"ombak/internal/store"
)

// checkedRows is a piece of a file that was read and understood.
type checkedRows struct {
	rows    []store.StagedRow
	rejects []store.Reject
	out     []store.Reject // values that were left out of rows that are taken
	read    int
	err     error
}

// check reads the whole file and stages what can be taken.
func (e *People) check(ctx context.Context, b *store.Batch, i *store.Import) error {
	if err := e.Store.InTx(ctx, func(tx store.Tx) error { return tx.ClearStaged(ctx, b.ID) }); err != nil {
		return err
	}
	x, err := e.newReading(ctx, b, i)
	if err != nil {
		return err
	}
	never, err := e.Store.AnyNeverAgain(ctx)
	if err != nil {
		return err
	}
	r, err := e.reader(ctx, i, &i.Options.V)
	if err != nil {
		return err
	}
	defer r.Close()
	k := keeping{e: e, b: b, staging: x.staging, known: knownRows{rows: map[int64]int{}}, never: never,
		told: time.Now()}
	// One goroutine reads and understands while others ask the database and write to it.
	group, inner := errgroup.WithContext(ctx)
	read := make(chan checkedRows, 1)
	group.Go(func() error {
		defer close(read)
		for {
			c := x.chunk(r)
			if c.err != nil || c.read == 0 {
				return c.err
			}
			select {
			case read <- c:
			case <-inner.Done():
				return inner.Err()
			}
		}
	})
	for range checkAtOnce {
		group.Go(func() error {
			for c := range read {
				if err := k.keep(inner, &c); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	if err := e.Store.StageCompanies(ctx, b.ID, x.named()); err != nil {
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

// keeping holds the pieces of a file against what is known, and stages them; by several
// at once.
type keeping struct {
	e       *People
	staging *store.Staging
	known   knownRows
	never   bool // somebody has been erased who is not to be taken again

	mu       sync.Mutex // of all below
	b        *store.Batch
	rejected int
	told     time.Time
}

// keep stages a piece, and tells how far the file is read.
func (k *keeping) keep(ctx context.Context, c *checkedRows) error {
	if err := k.e.match(ctx, k.staging, c, &k.known, k.never); err != nil {
		return err
	}
	if err := k.staging.Write(ctx, k.e.Store, c.rows); err != nil {
		return err
	}
	// A row that is not taken after all is named once.
	gone := map[int]bool{}
	for _, r := range c.rejects {
		gone[r.N] = true
	}
	out := slices.DeleteFunc(c.out, func(r store.Reject) bool { return gone[r.N] })
	if err := k.e.Store.AddRejects(ctx, k.b.ID, append(out, c.rejects...)); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.rejected += len(c.rejects); k.rejected > maxProblems {
		return &roster.BadFile{Reason: fmt.Sprintf("more than %d rows cannot be taken: look at how the columns are "+
			"read first", maxProblems)}
	}
	k.b.Done += int64(c.read)
	if time.Since(k.told) <= tellEvery {
		return nil
	}
	k.told = time.Now()
	return k.e.progress(ctx, k.b)
}

// ownerNames are the users by name and by address.
func (e *People) ownerNames(ctx context.Context) (map[string]int64, error) {
	users, err := e.Store.Users(ctx)
	out := map[string]int64{}
	for _, u := range users {
		out[strings.ToLower(u.Name)], out[strings.ToLower(u.Email)] = u.ID, u.ID
	}
	return out, err
}

// reading turns a file's rows into staged ones.
type reading struct {
	m       *intake.Mapping
	builder *intake.Builder
	staging *store.Staging
	owners  map[string]int64
	own     func(person.Values) (string, error) // the person's own fields, as they are staged
	theirs  func(person.Values) (string, error) // the company's
	seen    map[uint64]int32                    // hash of what tells somebody → row
	seed    maphash.Seed

	companies map[string]*store.StagedCompany
}

func (e *People) newReading(ctx context.Context, b *store.Batch, i *store.Import) (*reading, error) {
	x := reading{m: &i.Options.V, staging: store.NewStaging(b.ID, &i.Options.V), seen: map[uint64]int32{},
		seed: maphash.MakeSeed(), companies: map[string]*store.StagedCompany{}}
	var err error
	if x.builder, err = e.builder(ctx, i); err != nil {
		return nil, err
	}
	if x.owners, err = e.ownerNames(ctx); err != nil {
		return nil, err
	}
	if x.own, err = e.Store.OwnJSON(ctx, false); err != nil {
		return nil, err
	}
	x.theirs, err = e.Store.OwnJSON(ctx, true)
	return &x, err
}

// named lists the companies that rows have named, in the order of what tells them apart.
func (x *reading) named() []*store.StagedCompany {
	out := make([]*store.StagedCompany, 0, len(x.companies))
	for _, key := range slices.Sorted(maps.Keys(x.companies)) {
		c := x.companies[key]
		if c.Name == "" {
			c.Name = c.Domain
		}
		out = append(out, c)
	}
	return out
}

// company notes what a row says of its company. Of what rows say differently
// the first stands.
func (x *reading) company(v person.Values, size int32) error {
	name, domain := v[person.Company], v[person.Domain]
	key := domain
	if key == "" {
		if key = strings.ToLower(name); key == "" {
			return nil
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
	if c.Own == "" {
		var err error
		c.Own, err = x.theirs(v)
		return err
	}
	return nil
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
		leftOut := func(column int, name, value, reason string) {
			if column >= 0 && column < len(r.Head()) && r.Head()[column] != "" {
				name = r.Head()[column]
			}
			if n := len(c.out); n > 0 && c.out[n-1].N == row.N { // one line for each row
				c.out[n-1].Reason += "; " + name + ": " + reason
				return
			}
			c.out = append(c.out,
				store.Reject{N: row.N, Line: row.Line, Field: name, Value: strings.Clone(value), Reason: reason,
					Taken: true})
		}
		first := len(c.out)
		for _, p := range rec.Out {
			leftOut(p.Column, p.Name, p.Value, p.Reason)
		}
		out := store.StagedRow{N: row.N, Line: row.Line, NoContact: rec.Values[person.DoNotContact] != "",
			Tags: rec.Tags, Emails: rec.Emails, Phones: rec.Phones}
		if len(rec.Said.Consents)+len(rec.Said.Notes) > 0 {
			said, err := json.Marshal(rec.Said)
			if c.err = err; err != nil {
				return c
			}
			out.Said = string(said)
		}
		if name := rec.Values[person.Owner]; name != "" {
			if out.Owner = x.owners[strings.ToLower(name)]; out.Owner == 0 && x.m.Loose {
				leftOut(-1, string(person.Owner), name, "nobody here has this name")
			} else if out.Owner == 0 {
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
		if before, double := x.seen[h]; double {
			c.out = c.out[:first]
			reject("", key, fmt.Sprintf("the same person as in row %d, which is taken", before))
			continue
		}
		x.seen[h] = int32(row.N)
		if c.err = x.company(rec.Values, size); c.err != nil {
			return c
		}
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
func (e *People) match(ctx context.Context, s *store.Staging, c *checkedRows, known *knownRows, never bool) error {
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
			hashes = append(hashes, e.Hashed(a))
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
			if never && erased[string(e.Hashed(s.EmailOf(v)))] {
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
