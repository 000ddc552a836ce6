package roster

import (
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

type csvReader struct {
	lim   *limited
	r     *csv.Reader
	head  []string
	first []string // the first row, where it is a record
	line  int
	n     int
	long  bool
}

// encodingOf guesses how text is encoded: by its mark; else as UTF-16 where
// every other byte is nought, UTF-8 where it is that, and Windows-1252.
func encodingOf(start []byte) string {
	switch {
	case bytes.HasPrefix(start, []byte("\xef\xbb\xbf")):
		return "utf-8"
	case bytes.HasPrefix(start, []byte("\xff\xfe")):
		return "utf-16le"
	case bytes.HasPrefix(start, []byte("\xfe\xff")):
		return "utf-16be"
	}
	if n := len(start); n >= 4 {
		var even, odd int
		for i, b := range start {
			if b == 0 && i%2 == 0 {
				even++
			} else if b == 0 {
				odd++
			}
		}
		if odd > n/4 && even < odd/4 {
			return "utf-16le"
		}
		if even > n/4 && odd < even/4 {
			return "utf-16be"
		}
	}
	// A letter may be cut at the end of what was read.
	for cut := range min(4, len(start)) {
		if utf8.Valid(start[:len(start)-cut]) {
			return "utf-8"
		}
	}
	return "windows-1252"
}

func decoder(name string) (encoding.Encoding, error) {
	switch strings.ToLower(name) {
	case "utf-8":
		return unicode.UTF8BOM, nil
	case "utf-16le":
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM), nil
	case "utf-16be":
		return unicode.UTF16(unicode.BigEndian, unicode.UseBOM), nil
	case "windows-1252":
		return charmap.Windows1252, nil
	}
	return nil, &BadFile{Reason: "the encoding " + name + " is not known"}
}

// separators in the order in which they win where two fit alike.
var separators = []rune{',', ';', '\t', '|'}

// separatorOf guesses what stands between fields: whatever cuts the most of
// the first lines into the same number of fields, more than one.
func separatorOf(text string) rune {
	best, bestSame, bestFields := ',', 0, 0
	for _, sep := range separators {
		r := csv.NewReader(strings.NewReader(text))
		r.Comma, r.FieldsPerRecord, r.LazyQuotes = sep, -1, true
		count := map[int]int{}
		for range 20 {
			row, err := r.Read()
			if err != nil {
				break
			}
			count[len(row)]++
		}
		same, fields := 0, 0
		for n, c := range count {
			if n > 1 && (c > same || c == same && n > fields) {
				same, fields = c, n
			}
		}
		if same > bestSame || same == bestSame && fields > bestFields {
			best, bestSame, bestFields = sep, same, fields
		}
	}
	return best
}

func openCSV(start []byte, whole io.Reader, o Options) (Reader, error) {
	name := o.Encoding
	if name == "" {
		name = encodingOf(start)
	}
	enc, err := decoder(name)
	if err != nil {
		return nil, err
	}
	text, _, err := transform.Bytes(enc.NewDecoder(), start)
	if err != nil && err != transform.ErrShortSrc {
		text = start
	}
	if bytes.IndexByte(text, 0) >= 0 {
		return nil, &BadFile{Reason: "this is not text"}
	}
	sep := o.Separator
	if sep == 0 {
		sample := string(text)
		if len(start) == cap(start) { // more follows: the last line may be cut
			if i := strings.LastIndexByte(sample, '\n'); i > 0 {
				sample = sample[:i]
			}
		}
		sep = separatorOf(sample)
	}
	lim := &limited{r: transform.NewReader(whole, enc.NewDecoder())}
	if name == "utf-8" {
		lim.r = skipMark(whole)
	}
	r := csv.NewReader(lim)
	r.Comma, r.FieldsPerRecord, r.ReuseRecord = sep, -1, true
	c := &csvReader{lim: lim, r: r}
	first, err := c.read()
	if bad, ok := errors.AsType[*BadRow](err); ok {
		return nil, &BadFile{Line: bad.Row.Line, Reason: "the head of the table cannot be read: " + bad.Reason}
	}
	if err == io.EOF {
		return nil, &BadFile{Reason: "the file is empty"}
	}
	if err != nil {
		return nil, err
	}
	c.head = make([]string, len(first))
	for i, h := range first {
		c.head[i] = strings.TrimSpace(strings.Clone(h))
	}
	if len(c.head) > MaxColumns {
		return nil, &BadFile{Reason: "the table has more than 500 columns"}
	}
	if o.NoHead {
		c.first = append([]string(nil), c.head...)
		for i := range c.head {
			c.head[i] = ""
		}
	}
	return c, nil
}

// skipMark passes over the mark at the beginning of UTF-8 text.
func skipMark(r io.Reader) io.Reader {
	start := make([]byte, 3)
	n, _ := io.ReadFull(r, start) // an error comes again with the next read
	return io.MultiReader(bytes.NewReader(bytes.TrimPrefix(start[:n], []byte("\xef\xbb\xbf"))), r)
}

// read reads a record and notes where it began.
func (c *csvReader) read() ([]string, error) {
	if c.long {
		return nil, io.EOF
	}
	c.lim.begin()
	row, err := c.r.Read()
	if err == nil {
		c.line, _ = c.r.FieldPos(0)
		return row, nil
	}
	if errors.Is(err, errLong) {
		c.long = true
		line := c.line + 1
		return nil, &BadFile{Line: line,
			Reason: "a row that begins here is longer than 1 MB: a quote that is opened is perhaps never closed"}
	}
	if p, ok := errors.AsType[*csv.ParseError](err); ok {
		c.line = p.Line
		bad := &BadRow{Row: Row{Line: p.StartLine, Cells: append([]string(nil), row...)}, Column: -1}
		switch {
		case errors.Is(p.Err, csv.ErrBareQuote):
			bad.Reason = "a quote stands inside a field that is not quoted; write it twice and quote the field"
		case p.Line > p.StartLine || errors.Is(p.Err, csv.ErrQuote) && atEnd(c.r, p):
			c.long = true
			return nil, &BadFile{Line: p.StartLine, Reason: "a quote that is opened in this row is never closed"}
		default:
			bad.Reason = "something stands between the end of a quoted field and the next separator"
		}
		return nil, bad
	}
	return nil, err
}

// atEnd reports whether nothing follows a record that failed.
func atEnd(r *csv.Reader, p *csv.ParseError) bool {
	return p.Column == 0 || r.InputOffset() == 0
}

// Head names the columns.
func (c *csvReader) Head() []string { return c.head }

// Close ends nothing: whoever gave the stream closes it.
func (c *csvReader) Close() error { return nil }

// Next reads the next record. Lines with nothing in them are passed over.
func (c *csvReader) Next() (Row, error) {
	if c.first != nil {
		row := Row{N: 1, Line: 1, Cells: c.first}
		c.first, c.n = nil, 1
		return row, nil
	}
	for {
		cells, err := c.read()
		if err == io.EOF {
			return Row{}, io.EOF
		}
		if bad, ok := errors.AsType[*BadRow](err); ok {
			c.n++
			bad.Row.N = c.n
			return bad.Row, bad
		}
		if err != nil {
			return Row{}, err
		}
		if blank(cells) {
			continue
		}
		c.n++
		row := Row{N: c.n, Line: c.line, Cells: cells}
		for i, s := range cells {
			if !utf8.ValidString(s) {
				cells[i] = strings.ToValidUTF8(s, "\ufffd")
				return row, &BadRow{Row: row, Column: i,
					Reason: "this is not text in the encoding of the rest of the file"}
			}
		}
		if len(cells) != len(c.head) {
			// Spare separators at the end of a row mean nothing.
			for len(cells) > len(c.head) && strings.TrimSpace(cells[len(cells)-1]) == "" {
				cells = cells[:len(cells)-1]
			}
			row.Cells = cells
			if len(cells) > len(c.head) {
				return row, &BadRow{Row: row, Column: -1,
					Reason: ragged(len(cells), len(c.head)) +
						": a separator stands in a field that is not quoted, perhaps"}
			}
			if len(cells) < len(c.head) {
				return row, &BadRow{Row: row, Column: -1,
					Reason: ragged(len(cells), len(c.head)) + ": the row, or the file, is cut off, perhaps"}
			}
		}
		return row, nil
	}
}

func ragged(has, want int) string {
	return "the row has " + count(has, "field") + ", the head has " + count(want, "")
}

func blank(cells []string) bool {
	for _, s := range cells {
		if strings.TrimSpace(s) != "" {
			return false
		}
	}
	return true
}
