package roster

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"
	"strings"

	"github.com/emersion/go-vcard"
	"github.com/xuri/excelize/v2"

	"ombak/internal/core/plainly"
)

// Writer writes records one after the other, as they come.
type Writer interface {
	Head(columns []string) error
	Row(cells []string) error
	// Close ends the file. What it was written to stays open.
	Close() error
}

// NewWriter writes a form.
func NewWriter(f Form, w io.Writer) (Writer, error) {
	switch f {
	case CSV:
		return NewCSV(w), nil
	case XLSX:
		return newXLSXWriter(w)
	case VCard:
		return &cardWriter{w: bufio.NewWriter(w)}, nil
	case JSON:
		return &jsonWriter{w: bufio.NewWriter(w)}, nil
	}
	return nil, plainly.Errorf("a list cannot be written as %q", f)
}

// Types are the media types of the forms.
var Types = map[Form]string{
	CSV:   "text/csv; charset=utf-8; header=present",
	XLSX:  "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
	VCard: "text/vcard; charset=utf-8", JSON: "application/json",
}

// Ends are the usual ends of the forms' file names.
var Ends = map[Form]string{CSV: ".csv", XLSX: ".xlsx", VCard: ".vcf", JSON: ".json"}

// Guard keeps a sheet from taking a cell for a formula: an apostrophe before a
// sign that begins one. Numbers and telephone numbers are none. Reading takes
// it away again. (The signs: common practice, no source.)
func Guard(cell string) string {
	if cell == "" || strings.IndexByte("=+-@\t\r'", cell[0]) < 0 {
		return cell
	}
	if (cell[0] == '+' || cell[0] == '-') && len(cell) > 1 && strings.Trim(cell[1:], "0123456789. ") == "" {
		return cell
	}
	if cell[0] == '\'' && (len(cell) < 2 || strings.IndexByte("=+-@\t\r'", cell[1]) < 0) {
		return cell
	}
	return "'" + cell
}

type csvWriter struct {
	w   *csv.Writer
	row []string
}

// NewCSV writes CSV as RFC 4180 has it, in UTF-8 with the mark by which sheets
// know that.
func NewCSV(w io.Writer) Writer {
	b := bufio.NewWriter(w)
	b.WriteString("\ufeff") // an error comes again when it is flushed
	c := csv.NewWriter(b)
	c.UseCRLF = true
	return &csvWriter{w: c, row: nil}
}

func (c *csvWriter) Head(columns []string) error { return c.Row(columns) }

func (c *csvWriter) Row(cells []string) error {
	c.row = c.row[:0]
	for _, s := range cells {
		c.row = append(c.row, Guard(s))
	}
	if len(cells) == 1 && cells[0] == "" {
		c.row[0] = " " // a line with nothing in it would be no row
	}
	return c.w.Write(c.row)
}

func (c *csvWriter) Close() error {
	c.w.Flush()
	return c.w.Error()
}

type xlsxWriter struct {
	w    io.Writer
	book *excelize.File
	s    *excelize.StreamWriter
	n    int
}

func newXLSXWriter(w io.Writer) (Writer, error) {
	x := &xlsxWriter{w: w, book: excelize.NewFile()}
	var err error
	if err = x.book.SetSheetName("Sheet1", "People"); err != nil {
		return nil, err
	}
	x.s, err = x.book.NewStreamWriter("People")
	return x, err
}

// maxSheet is how many rows a sheet can have.
const maxSheet = 1_048_576

func (x *xlsxWriter) Head(columns []string) error {
	if err := x.s.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	return x.Row(columns)
}

// Row writes texts as texts: a sheet takes none of them for a formula.
func (x *xlsxWriter) Row(cells []string) error {
	if x.n++; x.n > maxSheet {
		return plainly.Errorf("a sheet has at most %d rows; export as CSV", maxSheet)
	}
	row := make([]any, len(cells))
	for i, c := range cells {
		if r := []rune(c); len(r) > excelize.TotalCellChars {
			c = string(r[:excelize.TotalCellChars])
		}
		row[i] = c
	}
	at, err := excelize.CoordinatesToCellName(1, x.n)
	if err != nil {
		return err
	}
	return x.s.SetRow(at, row)
}

func (x *xlsxWriter) Close() error {
	defer x.book.Close()
	if err := x.s.Flush(); err != nil {
		return err
	}
	return x.book.Write(x.w)
}

type jsonWriter struct {
	w    *bufio.Writer
	head []string
	some bool
}

func (j *jsonWriter) Head(columns []string) error {
	j.head = append([]string(nil), columns...)
	_, err := j.w.WriteString("[")
	return err
}

// Row writes an object; empty values are left out.
func (j *jsonWriter) Row(cells []string) error {
	if j.some {
		j.w.WriteString(",")
	}
	j.some = true
	j.w.WriteString("\n{")
	first := true
	for i, c := range cells {
		if c == "" || i >= len(j.head) {
			continue
		}
		if !first {
			j.w.WriteString(",")
		}
		first = false
		k, err := json.Marshal(j.head[i])
		if err != nil {
			return err
		}
		v, err := json.Marshal(c)
		if err != nil {
			return err
		}
		j.w.Write(k)
		j.w.WriteString(":")
		j.w.Write(v)
	}
	_, err := j.w.WriteString("}")
	return err
}

func (j *jsonWriter) Close() error {
	j.w.WriteString("\n]\n")
	return j.w.Flush()
}

type cardWriter struct {
	w    *bufio.Writer
	b    bytes.Buffer
	head map[string]int
}

func (c *cardWriter) Head(columns []string) error {
	c.head = map[string]int{}
	for i, h := range columns {
		c.head[h] = i
	}
	return nil
}

// Row writes a card of version 4.0. Columns that cards have no property for
// are left out.
func (c *cardWriter) Row(cells []string) error {
	raw := func(name string) string {
		if i, ok := c.head[name]; ok && i < len(cells) {
			return cells[i]
		}
		return ""
	}
	at := func(name string) string { return strings.ReplaceAll(raw(name), ";", semicolon) }
	card := vcard.Card{}
	first, last := at("first name"), at("last name")
	full := strings.TrimSpace(first + " " + last)
	if full == "" {
		full = at("email")
	}
	if full == "" {
		full = at("phone")
	}
	card.SetValue(vcard.FieldFormattedName, full)
	card.SetName(&vcard.Name{GivenName: first, FamilyName: last})
	several := func(field, main, rest string) {
		for i, v := range append([]string{at(main)}, strings.Split(raw(rest), ";")...) {
			if v = strings.TrimSpace(v); v == "" {
				continue
			}
			f := &vcard.Field{Value: v}
			if i == 0 {
				f.Params = vcard.Params{vcard.ParamPreferred: {"1"}}
			}
			card.Add(field, f)
		}
	}
	several(vcard.FieldEmail, "email", "further email")
	several(vcard.FieldTelephone, "phone", "further phone")
	for _, p := range []struct{ field, name string }{{vcard.FieldTitle, "title"}, {vcard.FieldLanguage, "language"},
		{vcard.FieldTimezone, "time zone"}, {vcard.FieldURL, "profile"}, {vcard.FieldNote, "note"}} {
		if v := at(p.name); v != "" {
			card.SetValue(p.field, v)
		}
	}
	if org := at("company"); org != "" || at("department") != "" {
		if d := at("department"); d != "" {
			org += ";" + d
		}
		card.SetValue(vcard.FieldOrganization, org)
	}
	if at("city") != "" || at("region") != "" || at("country") != "" {
		card.SetAddress(&vcard.Address{Locality: at("city"), Region: at("region"), Country: at("country")})
	}
	var tags []string
	for _, t := range strings.Split(raw("tags"), ";") {
		if t = strings.TrimSpace(t); t != "" {
			tags = append(tags, t)
		}
	}
	if len(tags) > 0 {
		card.SetCategories(tags)
	}
	vcard.ToV4(card)
	c.b.Reset()
	if err := vcard.NewEncoder(&c.b).Encode(card); err != nil {
		return err
	}
	_, err := c.w.Write(bytes.ReplaceAll(c.b.Bytes(), []byte(semicolon), []byte(`\;`)))
	return err
}

func (c *cardWriter) Close() error { return c.w.Flush() }
