// Package roster reads and writes lists of people in open formats: CSV
// (RFC 4180, and what is sent under its name: other separators, other
// encodings), Office Open XML workbooks (ISO/IEC 29500) and vCards (RFC 2426
// and RFC 6350).
//
// What a file is is told from what is in it, never from its name. Readers are
// made for files from strangers: nothing is read whole, a record has a size it
// cannot exceed, and an archive cannot grow without end. A record that cannot
// be understood is an error of that record (*BadRow), after which reading goes
// on; a file that cannot be is an error of the file (*BadFile).
//
// CSV departs from RFC 4180 where files do: lines may end in any way, the
// separator is guessed, and rows may have fewer or more fields than the head
// (BadRow). Of vCards, versions 3.0 and 4.0 are read.
package roster

import (
	"bytes"
	"fmt"
	"io"
	"os"

	"ombak/internal/core/plainly"
)

// Form is a format.
type Form string

// The forms.
const (
	CSV   Form = "csv"
	XLSX  Form = "xlsx"
	VCard Form = "vcard"
	JSON  Form = "json" // written only
)

// Limits of what is read.
const (
	MaxRecord  = 1 << 20   // bytes of one record
	MaxColumns = 500       //
	MaxFile    = 256 << 20 // bytes of a file
	maxUnzip   = 1 << 30   // bytes of a workbook, unpacked
	maxRatio   = 200       // times that a part of a workbook can grow when it is unpacked
)

// Row is one record.
type Row struct {
	N     int // from 1, the head not counted
	Line  int // of the file, from 1; of a card, where it begins
	Cells []string
}

// Reader reads a file's records in order.
type Reader interface {
	// Head names the columns.
	Head() []string
	// Next reads the next record, or answers io.EOF, a *BadRow or a *BadFile.
	// The row's cells are valid until the next call.
	Next() (Row, error)
	Close() error
}

// BadRow is a record that cannot be understood.
type BadRow struct {
	Row    Row // as much of it as could be read
	Column int // index into its cells; −1: the record as a whole
	Reason string
}

func (b *BadRow) Error() string { return fmt.Sprintf("line %d: %s", b.Row.Line, b.Reason) }

// Plain marks it as an error that users may read.
func (*BadRow) Plain() {}

// BadFile is a file that cannot be read, or not to its end.
type BadFile struct {
	Line   int // 0: none in particular
	Reason string
}

func (b *BadFile) Error() string {
	if b.Line > 0 {
		return fmt.Sprintf("line %d: %s", b.Line, b.Reason)
	}
	return b.Reason
}

// Plain marks it as an error that users may read.
func (*BadFile) Plain() {}

// Options is how a file is read. The zero Options guess.
type Options struct {
	Form      Form
	Separator rune   // of CSV
	Encoding  string // of CSV: utf-8, utf-16le, utf-16be, windows-1252
	NoHead    bool   // the first row is a record
	Sheet     string // of a workbook
}

// Sniff tells what a file is from its first bytes (64 kB are plenty).
func Sniff(start []byte) (Form, error) {
	for _, m := range []struct {
		magic, what string
	}{
		{"%PDF", "a PDF document"}, {"\x89PNG", "a picture"}, {"\xff\xd8\xff", "a picture"}, {"GIF8", "a picture"},
		{"\x1f\x8b", "a compressed file; unpack it first"},
		{"\xd0\xcf\x11\xe0", "a workbook or document of the old binary kind; save it as .xlsx or as CSV"},
		{"7z\xbc\xaf", "an archive"}, {"Rar!", "an archive"}, {"{\\rtf", "a text document"},
		{"\x7fELF", "a program"}, {"MZ", ""},
	} {
		if bytes.HasPrefix(start, []byte(m.magic)) && m.what != "" {
			return "", &BadFile{Reason: "this is " + m.what}
		}
	}
	if bytes.HasPrefix(start, []byte("PK\x03\x04")) {
		return XLSX, nil
	}
	text := bytes.TrimLeft(bytes.TrimPrefix(start, []byte("\xef\xbb\xbf")), " \t\r\n")
	if len(text) == 0 {
		return "", &BadFile{Reason: "the file is empty"}
	}
	if len(text) >= 11 && bytes.EqualFold(text[:11], []byte("BEGIN:VCARD")) {
		return VCard, nil
	}
	for _, p := range []string{"<!doctype", "<html", "<?xml", "{", "["} {
		if len(text) >= len(p) && bytes.EqualFold(text[:len(p)], []byte(p)) {
			return "", &BadFile{Reason: "this is neither a table nor cards: it begins with " + p}
		}
	}
	return CSV, nil
}

// Open reads a file of any of the forms. size bounds what is read of a
// workbook, which has to be at hand as a whole.
func Open(r io.Reader, o Options) (Reader, error) {
	start := make([]byte, 64<<10)
	n, err := io.ReadFull(r, start)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	start = start[:n]
	form, err := Sniff(start)
	if err != nil {
		return nil, err
	}
	whole := io.MultiReader(bytes.NewReader(start), r)
	switch form {
	case XLSX:
		return openXLSX(whole, o)
	case VCard:
		return openVCard(whole)
	}
	return openCSV(start, whole, o)
}

// spool writes a stream into a file that is gone when it is closed.
func spool(r io.Reader) (*os.File, int64, error) {
	f, err := os.CreateTemp("", "ombak-sheet-")
	if err != nil {
		return nil, 0, err
	}
	os.Remove(f.Name()) // the open file is enough; nothing stays behind whatever happens
	n, err := io.Copy(f, io.LimitReader(r, MaxFile+1))
	if err == nil && n > MaxFile {
		err = &BadFile{Reason: "the file is larger than 256 MB"}
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, n, nil
}

// limited stops a record that does not end.
type limited struct {
	r    io.Reader
	left int
}

// what a buffered reader has read ahead counts for the record before
func (l *limited) begin() { l.left = MaxRecord + 64<<10 }

func (l *limited) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, errLong
	}
	n, err := l.r.Read(p[:min(len(p), 32<<10)])
	l.left -= n
	return n, err
}

var errLong = plainly.Errorf("a record is longer than %d kB", MaxRecord>>10)
