package store

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
)

// Import is a file that people are brought in from.
type Import struct {
	Batch   int64 `db:"batch_id"`
	File    string
	Form    string
	Size    int64
	Options JSON[intake.Mapping]
	Columns JSON[ImportHead]
	Counts  JSON[ImportCounts]
	Checked bool
}

// ImportHead is what the first look at a file saw.
type ImportHead struct {
	Head   []string   `json:"head"`
	Sample [][]string `json:"sample"`
	Known  bool       `json:"known"` // a file with this head was read before
}

// ImportCounts is what becomes of a file's rows.
type ImportCounts struct {
	Rows      int64 `json:"rows"`
	New       int64 `json:"new"`
	Updated   int64 `json:"updated"`
	Unchanged int64 `json:"unchanged"`
	Rejected  int64 `json:"rejected"`
}

// AddImport keeps a file's place; its pieces follow.
func (tx Tx) AddImport(ctx context.Context, i Import) error {
	_, err := exec(ctx, tx,
		"insert into import (batch_id, file, form, size, options, columns) values ($1, $2, $3, $4, $5, $6)", i.Batch,
		i.File, i.Form, i.Size, i.Options, i.Columns)
	return err
}

// AddPiece keeps a piece of a file.
func (tx Tx) AddPiece(ctx context.Context, batch int64, n int, data []byte) error {
	_, err := exec(ctx, tx, "insert into import_piece (batch_id, n, data) values ($1, $2, $3)", batch, n, data)
	return err
}

// Import reads an import.
func (db Queries) Import(ctx context.Context, batch int64) (Import, error) {
	return one[Import](ctx, db,
		"select batch_id, file, form, size, options, columns, counts, checked from import where batch_id = $1", batch)
}

// SaveImport keeps how a file is read and what was found.
func (db Queries) SaveImport(ctx context.Context, i *Import) error {
	_, err := exec(ctx, db,
		"update import set options = $2, columns = $3, counts = $4, checked = $5, size = $6, form = $7 where "+
			"batch_id = $1", i.Batch, i.Options, i.Columns, i.Counts, i.Checked, i.Size, i.Form)
	return err
}

// KeepImport is SaveImport outside a transaction.
func (db Queries) KeepImport(ctx context.Context, i *Import) error { return db.SaveImport(ctx, i) }

// Imports reads several imports.
func (db Queries) Imports(ctx context.Context, batches []int64) (map[int64]Import, error) {
	list, err := all[Import](ctx, db,
		"select batch_id, file, form, size, options, columns, counts, checked from import where batch_id = any ($1)",
		batches)
	out := make(map[int64]Import, len(list))
	for _, i := range list {
		out[i.Batch] = i
	}
	return out, err
}

// pieces reads a file's pieces one after the other.
type pieces struct {
	ctx   context.Context
	s     *Store
	batch int64
	query string // for a piece of a batch by its number
	n     int
	left  []byte
}

// ImportFile reads the file of an import.
func (s *Store) ImportFile(ctx context.Context, batch int64) io.Reader {
	return &pieces{ctx: ctx, s: s, batch: batch, query: "select data from import_piece where batch_id = $1 and n = $2"}
}

func (p *pieces) Read(b []byte) (int, error) {
	for len(p.left) == 0 {
		data, err := one[[]byte](p.ctx, p.s.db, p.query, p.batch, p.n)
		if IsNotFound(err) {
			return 0, io.EOF
		}
		if err != nil {
			return 0, err
		}
		p.left = data
		p.n++
	}
	n := copy(b, p.left)
	p.left = p.left[n:]
	return n, nil
}

// ForgetFile removes an import's file and staged rows: they are of no more use,
// and name people.
func (tx Tx) ForgetFile(ctx context.Context, batch int64) error {
	for _, q := range []string{"delete from import_piece where batch_id = $1",
		"delete from import_row where batch_id = $1", "delete from import_company where batch_id = $1",
		`update import set columns = jsonb_set(columns, '{sample}', '[]') where batch_id = $1`} {
		if _, err := exec(ctx, tx, q, batch); err != nil {
			return err
		}
	}
	return nil
}

// ImportMemory finds how a file with this head was read last time.
func (db Queries) ImportMemory(ctx context.Context, head []string) (intake.Mapping, bool, error) {
	m, err := one[JSON[intake.Mapping]](ctx, db, "select options from import_memory where head = $1",
		strings.Join(head, "\x1f"))
	if IsNotFound(err) {
		return intake.Mapping{}, false, nil
	}
	return m.V, err == nil, err
}

// RememberImport keeps how a file with this head is read.
func (tx Tx) RememberImport(ctx context.Context, head []string, m intake.Mapping, at time.Time) error {
	_, err := exec(ctx, tx,
		"insert into import_memory values ($1, $2, $3) on conflict (head) do update set options = excluded.options, "+
			"used_at = excluded.used_at", strings.Join(head, "\x1f"), JSON[intake.Mapping]{m}, at)
	return err
}

// Fates of a row.
const (
	FateNew       int16 = 1
	FateKnown     int16 = 2
	FateUnchanged int16 = 3
)

// stagedFields are the fields of a row that are kept as texts, in the order of
// their columns.
var stagedFields = []struct {
	f   person.Field
	col string
}{
	{person.FirstName, "first_name"}, {person.LastName, "last_name"}, {person.EmailField, "email"},
	{person.PhoneField, "phone"}, {person.Title, "title"},
	{person.Seniority, "seniority"}, {person.Department, "department"}, {person.Country, "country"},
	{person.Region, "region"}, {person.City, "city"}, {person.Street, "street"}, {person.Postcode, "postcode"},
	{person.Zone, "zone"}, {person.Language, "language"}, {person.Profile, "profile"}, {person.Source, "source"},
	{person.Medium, "medium"},
	{person.Campaign, "campaign"}, {person.Term, "term"}, {person.Content, "content"},
	{person.Company, "company"}, {person.Domain, "domain"},
}

// Staging writes checked rows beside the records, where applying them is a
// matter of few statements.
type Staging struct {
	batch int64
	cols  []int // indexes into stagedFields that the mapping fills
	names []string
}

// NewStaging readies staging for a mapping.
func NewStaging(batch int64, m *intake.Mapping) *Staging {
	s := &Staging{batch: batch, names: []string{"batch_id", "n", "line", "fate", "person_id"}}
	has := map[string]bool{}
	for _, c := range m.Columns {
		has[c] = true
	}
	for i, f := range stagedFields {
		name := f.f == person.FirstName || f.f == person.LastName
		if has[string(f.f)] || name && has[intake.FullName] || f.f == person.EmailField || f.f == person.PhoneField &&
			has[intake.FurtherPhone] || f.f == person.Domain || f.f == person.Source && m.Source != "" {
			s.cols = append(s.cols, i)
			s.names = append(s.names, f.col)
		}
	}
	s.names = append(s.names, "owner_id", "own", "do_not_contact", "tags", "emails", "phones", "said")
	return s
}

// StagedRow is a row that can be taken.
type StagedRow struct {
	N, Line        int
	Fate           int16
	Person         int64
	Values         []string // by the staging's columns
	Owner          int64
	Own            string // JSON, or empty
	NoContact      bool
	Tags           []string
	Emails, Phones []string
	Said           string // JSON of what was said, or empty
}

// Take copies a record's values out, in the order of the staging's columns.
func (s *Staging) Take(v person.Values) []string {
	out := make([]string, len(s.cols))
	for i, c := range s.cols {
		out[i] = v[stagedFields[c].f]
	}
	return out
}

// EmailOf is the address among taken values.
func (s *Staging) EmailOf(values []string) string { return s.valueOf(values, person.EmailField) }

// PhoneOf is the number among taken values.
func (s *Staging) PhoneOf(values []string) string { return s.valueOf(values, person.PhoneField) }

// LastNameAt is the place of the last name among taken values, −1 for none.
func (s *Staging) LastNameAt() int {
	for i, c := range s.cols {
		if stagedFields[c].f == person.LastName {
			return i
		}
	}
	return -1
}

// ProfileOf is the profile among taken values.
func (s *Staging) ProfileOf(values []string) string { return s.valueOf(values, person.Profile) }

func (s *Staging) valueOf(values []string, f person.Field) string {
	for i, c := range s.cols {
		if stagedFields[c].f == f {
			return values[i]
		}
	}
	return ""
}

// Write stages rows, by the database's own bulk path.
func (s *Staging) Write(ctx context.Context, st *Store, rows []StagedRow) error {
	nothing := func(list []string) any {
		if len(list) == 0 {
			return nil
		}
		return list
	}
	text := func(v string) any {
		if v == "" {
			return nil
		}
		return v
	}
	vals := make([]any, len(s.names))
	_, err := st.Pool.CopyFrom(ctx, pgx.Identifier{"import_row"}, s.names,
		pgx.CopyFromSlice(len(rows), func(i int) ([]any, error) {
			r := &rows[i]
			vals[0], vals[1], vals[2], vals[3], vals[4] = s.batch, int32(r.N), int32(r.Line), r.Fate, r.Person
			k := 5
			for _, v := range r.Values {
				vals[k] = text(v)
				k++
			}
			vals[k], vals[k+1], vals[k+2] = nil, nil, nil
			if r.Owner > 0 {
				vals[k] = r.Owner
			}
			if r.Own != "" {
				vals[k+1] = r.Own
			}
			if r.NoContact {
				vals[k+2] = true
			}
			vals[k+3], vals[k+4], vals[k+5], vals[k+6] = nothing(r.Tags), nothing(r.Emails), nothing(r.Phones),
				text(r.Said)
			return vals, nil
		}))
	if err != nil {
		return fmt.Errorf("staging %d rows: %w", len(rows), err)
	}
	return nil
}

// StagedCompany is what a file says of a company.
type StagedCompany struct {
	Name, Domain, Industry, Revenue, Country string
	Size                                     int32
	Own                                      string // JSON, or empty
}

// StageCompanies stages the companies that a file names, each once.
func (s *Store) StageCompanies(ctx context.Context, batch int64, list []*StagedCompany) error {
	text := func(v string) any {
		if v == "" {
			return nil
		}
		return v
	}
	_, err := s.Pool.CopyFrom(ctx, pgx.Identifier{"import_company"},
		[]string{"batch_id", "name", "domain", "industry", "size", "revenue", "country", "own"},
		pgx.CopyFromSlice(len(list), func(i int) ([]any, error) {
			c := list[i]
			var size any
			if c.Size > 0 {
				size = c.Size
			}
			return []any{batch, c.Name, text(c.Domain), text(c.Industry), size, text(c.Revenue), text(c.Country),
				text(c.Own)}, nil
		}))
	if err != nil {
		return fmt.Errorf("staging %d companies: %w", len(list), err)
	}
	return nil
}

// Reject is a row that is not taken, and why.
type Reject struct {
	N      int
	Line   int
	Field  string
	Value  string
	Reason string
	Raw    JSON[[]string]
	Taken  bool // but for this value
}

// AddRejects keeps rows that are not taken.
func (s *Store) AddRejects(ctx context.Context, batch int64, list []Reject) error {
	_, err := s.Pool.CopyFrom(ctx, pgx.Identifier{"import_reject"},
		[]string{"batch_id", "n", "line", "field", "value", "reason", "raw", "taken"},
		pgx.CopyFromSlice(len(list), func(i int) ([]any, error) {
			r := &list[i]
			raw := r.Raw.V
			if raw == nil {
				raw = []string{}
			}
			return []any{batch, int32(r.N), int32(r.Line), clipped(r.Field, 200), clipped(r.Value, 200), r.Reason, raw,
				r.Taken}, nil
		}))
	if err != nil {
		return fmt.Errorf("keeping %d rejected rows: %w", len(list), err)
	}
	return nil
}

func clipped(s string, n int) string {
	s = strings.ReplaceAll(strings.ToValidUTF8(s, "\ufffd"), "\x00", "")
	if len(s) > n {
		s = strings.ToValidUTF8(s[:n], "") + " …"
	}
	return s
}

// Rejects reads up to n rows of an import after one: those that are not taken,
// or those that are but for a value.
func (db Queries) Rejects(ctx context.Context, batch int64, taken bool, after, n int) ([]Reject, error) {
	return all[Reject](ctx, db, `select n, line, field, value, reason, to_json(raw) as raw, taken from import_reject
		where batch_id = $1 and taken = $2 and n > $3 order by n limit $4`, batch, taken, after, n)
}

// RejectReason is how many rows are not taken, or taken but for a value, for a reason.
type RejectReason struct {
	Field  string
	Reason string
	Taken  bool
	N      int64
}

// RejectReasons counts them, the most first.
func (db Queries) RejectReasons(ctx context.Context, batch int64) ([]RejectReason, error) {
	return all[RejectReason](ctx, db, `
		select field, case when reason like 'the same person as in row %' then 'the same person as in another row'
			else reason end as reason, taken, count(*) as n
		from import_reject where batch_id = $1 group by 1, 2, 3 order by 3, 4 desc, 2, 1 limit 30`, batch)
}

// ClearStaged removes what an earlier check of an import staged.
func (tx Tx) ClearStaged(ctx context.Context, batch int64) error {
	for _, q := range []string{"delete from import_row where batch_id = $1",
		"delete from import_company where batch_id = $1", "delete from import_reject where batch_id = $1"} {
		if _, err := exec(ctx, tx, q, batch); err != nil {
			return err
		}
	}
	return nil
}

// KnownBy finds people by their addresses, the further ones too.
func (s *Store) KnownBy(ctx context.Context, emails []string) (map[string]int64, error) {
	rows, err := s.Pool.Query(ctx, `
			select email, id
			from person
			where email = any ($1) and email <> ''
			union all select value, person_id
			from contact_point
			where kind = 'email' and value = any ($1)`, emails)
	return pairsOf(rows, err)
}

// KnownByPhone finds people without regard to their address: "phone lastname".
func (s *Store) KnownByPhone(ctx context.Context, phones []string) (map[string]int64, error) {
	rows, err := s.Pool.Query(ctx, `
		select phone || ' ' || lower(last_name), id from person where phone = any ($1) and phone <> ''
		union all select c.value || ' ' || lower(p.last_name), p.id
		from contact_point c
		join person p on p.id = c.person_id
		where c.kind = 'phone' and c.value = any ($1)`, phones)
	return pairsOf(rows, err)
}

// KnownByProfile finds people by their profile.
func (s *Store) KnownByProfile(ctx context.Context, profiles []string) (map[string]int64, error) {
	rows, err := s.Pool.Query(ctx, "select profile, id from person where profile = any ($1) and profile <> ''",
		profiles)
	return pairsOf(rows, err)
}

func pairsOf(rows pgx.Rows, err error) (map[string]int64, error) {
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	var key string
	var id int64
	_, err = pgx.ForEachRow(rows, []any{&key, &id}, func() error { out[key] = id; return nil })
	return out, err
}

// HashesNeverAgain finds which of some hashed addresses must not be kept again.
func (s *Store) HashesNeverAgain(ctx context.Context, hashes [][]byte) (map[string]bool, error) {
	rows, err := s.Pool.Query(ctx, "select hash from never_again where hash = any ($1)", hashes)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	var h []byte
	_, err = pgx.ForEachRow(rows, []any{&h}, func() error { out[string(h)] = true; return nil })
	return out, err
}

// AnyNeverAgain reports whether anybody was ever erased.
func (db Queries) AnyNeverAgain(ctx context.Context) (bool, error) {
	return one[bool](ctx, db, "select exists (select from never_again)")
}

// PersonIDs takes n ids for people to be.
func (db Queries) PersonIDs(ctx context.Context, n int) ([]int64, error) {
	return all[int64](ctx, db, "select nextval('person_id_seq') from generate_series(1, $1::int)", n)
}

// ownJSON is the own fields of some types among values as they are kept; empty
// for none.
func ownJSON(types map[int64]person.Type, v person.Values) (string, error) {
	patch := map[string]any{}
	for f, x := range v {
		if id, ok := f.OwnID(); ok && types[id] != "" {
			patch[fmt.Sprint(id)] = ownValue(types[id], x)
		}
	}
	if len(patch) == 0 {
		return "", nil
	}
	b, err := json.Marshal(patch)
	return string(b), err
}

// OwnJSON is the own fields of people, or of companies, among values as staging
// keeps them; empty for none.
func (db Queries) OwnJSON(ctx context.Context, ofCompany bool) (func(person.Values) (string, error), error) {
	types, err := ownTypes(ctx, db, ofCompany)
	return func(v person.Values) (string, error) { return ownJSON(types, v) }, err
}
