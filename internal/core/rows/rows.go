// Package rows reads lists out of files that people make: CSV (RFC 4180) with its columns named in the first row, or
// JSON, a list of objects with the same names. What is wrong in one is told with its row.
package rows

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/plainly"
)

// MaxRows bounds a file, in rows.
const MaxRows = 5_000_000

// Row is a row of a file, by the names of its columns.
type Row struct {
	Values map[string]string
	N      int // the row, or the object, from 1
	File   string
}

// Get is what stands in a column, without outer spaces; empty where there is nothing.
func (r Row) Get(column string) string { return strings.TrimSpace(r.Values[column]) }

// Fail is an error that says where it is.
func (r Row) Fail(format string, args ...any) error {
	return plainly.Errorf("%s, row %d: %s", r.File, r.N, fmt.Sprintf(format, args...))
}

// Instant reads an instant of RFC 3339; zero where there is none.
func (r Row) Instant(column string) (time.Time, error) {
	s := r.Get(column)
	if s == "" {
		return time.Time{}, nil
	}
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		return t, r.Fail("%q is no instant such as 2026-04-14T09:20:00Z", s)
	}
	return t.UTC(), nil
}

// Yes reads yes or no; nothing is no.
func (r Row) Yes(column string) (bool, error) {
	switch s := strings.ToLower(r.Get(column)); s {
	case "", "no", "false", "0":
		return false, nil
	case "yes", "true", "1":
		return true, nil
	default:
		return false, r.Fail("%s is yes or no, and not %q", column, s)
	}
}

// Read reads a file as CSV, or as JSON where it begins with a bracket: a list of objects
// with the same names as the columns.
func Read(file string, r io.Reader, need []string, each func(Row) error) error {
	data, err := io.ReadAll(r)
	if err != nil {
		return fmt.Errorf("reading %s: %w", file, err)
	}
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if strings.HasPrefix(strings.TrimSpace(string(data[:min(len(data), 100)])), "[") {
		return objects(file, data, need, each)
	}
	c := csv.NewReader(bytes.NewReader(data))
	head, err := c.Read()
	if errors.Is(err, io.EOF) {
		return plainly.Errorf("%s is empty: its first row names the columns", file)
	}
	if err != nil {
		return plainly.New(file + ": " + err.Error())
	}
	for i := range head {
		head[i] = strings.ToLower(strings.TrimSpace(head[i]))
	}
	for _, n := range need {
		if !slices.Contains(head, n) {
			return plainly.Errorf("%s has no column %q", file, n)
		}
	}
	for n := 2; ; n++ {
		cells, err := c.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return plainly.New(file + ": " + err.Error())
		}
		if n > MaxRows {
			return plainly.Errorf("%s has more than %d rows", file, MaxRows)
		}
		x := Row{map[string]string{}, n, file}
		for i, v := range cells {
			x.Values[head[i]] = v
		}
		if err := each(x); err != nil {
			return err
		}
	}
}

func objects(file string, data []byte, need []string, each func(Row) error) error {
	var list []map[string]any
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	if err := d.Decode(&list); err != nil {
		return plainly.New(file + " is no list of objects: " + err.Error())
	}
	for i, o := range list {
		x := Row{map[string]string{}, i + 1, file}
		for k, v := range o {
			switch v := v.(type) {
			case nil:
			case string:
				x.Values[strings.ToLower(k)] = v
			case json.Number, bool:
				x.Values[strings.ToLower(k)] = fmt.Sprint(v)
			default:
				return x.Fail("%s is a text, a number, true or false", k)
			}
		}
		for _, n := range need {
			if _, ok := x.Values[n]; !ok {
				return x.Fail("it has no %q", n)
			}
		}
		if err := each(x); err != nil {
			return err
		}
	}
	return nil
}

// Named reads names, with semicolons between, as the numbers that a file has
// for them. What it does not name, no rule asks for.
func (x Row) Named(column string, names map[string]string) (out []int64, err error) {
	for _, name := range strings.Split(x.Get(column), ";") {
		if name = strings.TrimSpace(name); name == "" {
			continue
		}
		for number, n := range names {
			if !strings.EqualFold(n, name) {
				continue
			}
			id, err := strconv.ParseInt(number, 10, 64)
			if err != nil {
				return nil, plainly.Errorf("the file has the name of %q, which is no number", number)
			}
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out, nil
}
