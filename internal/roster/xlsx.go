package roster

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"

	"ombak/internal/core/plainly"
)

type xlsxReader struct {
	file  *os.File
	book  *excelize.File
	rows  *excelize.Rows
	head  []string
	first []string
	n     int
	line  int
}

// openXLSX reads one sheet of a workbook row by row. Parts of it that are
// large are unpacked to files, not into memory.
func openXLSX(r io.Reader, o Options) (_ Reader, err error) {
	f, size, err := spool(r)
	if err != nil {
		return nil, err
	}
	x := &xlsxReader{file: f}
	defer func() {
		if err != nil {
			x.Close()
		}
	}()
	if err := unpacks(f, size); err != nil {
		return nil, err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	x.book, err = open(f)
	if err != nil {
		return nil, &BadFile{Reason: "the workbook is damaged or is no workbook"}
	}
	sheet := o.Sheet
	if sheet == "" {
		list := x.book.GetSheetList()
		if len(list) == 0 {
			return nil, &BadFile{Reason: "the workbook has no sheet"}
		}
		sheet = list[0]
	}
	if x.rows, err = x.book.Rows(sheet); err != nil {
		return nil, &BadFile{Reason: fmt.Sprintf("the sheet %q cannot be read: %v", sheet, err)}
	}
	for len(x.head) == 0 || blank(x.head) {
		cells, err := x.read()
		if err == io.EOF {
			return nil, &BadFile{Reason: "the sheet is empty"}
		}
		if err != nil {
			return nil, err
		}
		x.head = cells
	}
	if len(x.head) > MaxColumns {
		return nil, &BadFile{Reason: "the sheet has more than 500 columns"}
	}
	for i := range x.head {
		x.head[i] = strings.TrimSpace(x.head[i])
	}
	if o.NoHead {
		x.first = x.head
		x.head = make([]string, len(x.first))
	}
	return x, nil
}

// open keeps a fault of the library, on a file made to bring one about, within
// the file.
func open(r io.Reader) (b *excelize.File, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = plainly.Errorf("it cannot be read: %v", p)
		}
	}()
	return excelize.OpenReader(r,
		excelize.Options{RawCellValue: true, UnzipSizeLimit: maxUnzip, UnzipXMLSizeLimit: 8 << 20})
}

// unpacks reports whether an archive is a workbook whose parts are as large as
// they say, and none grows beyond reason. What it says is not believed: every
// part is unpacked once, to nowhere.
func unpacks(f *os.File, size int64) error {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return &BadFile{Reason: "the workbook is cut off or damaged"}
	}
	if len(z.File) > 5000 {
		return &BadFile{Reason: "the archive has too many parts for a workbook"}
	}
	book := false
	var total int64
	for _, p := range z.File {
		book = book || p.Name == "xl/workbook.xml"
		bound := int64(10<<20) + int64(p.CompressedSize64)*maxRatio
		r, err := p.Open()
		if err != nil {
			return &BadFile{Reason: "the workbook is damaged: " + p.Name}
		}
		n, err := io.Copy(io.Discard, io.LimitReader(r, bound+1))
		r.Close()
		if total += n; n > bound || total > maxUnzip {
			return &BadFile{Reason: "the workbook grows beyond reason when it is unpacked; it is not read"}
		}
		if err != nil {
			return &BadFile{Reason: "the workbook is cut off or damaged: " + p.Name}
		}
	}
	if !book {
		return &BadFile{Reason: "this is an archive, not a workbook"}
	}
	return nil
}

func (x *xlsxReader) read() (cells []string, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &BadFile{Line: x.line + 1, Reason: fmt.Sprintf("the sheet cannot be read: %v", p)}
		}
	}()
	if !x.rows.Next() {
		if err := x.rows.Error(); err != nil {
			return nil, &BadFile{Line: x.line + 1, Reason: "the sheet is damaged"}
		}
		return nil, io.EOF
	}
	x.line++
	if cells, err = x.rows.Columns(); err != nil {
		return nil, &BadFile{Line: x.line, Reason: "the sheet is damaged"}
	}
	return cells, nil
}

// Head names the columns.
func (x *xlsxReader) Head() []string { return x.head }

// Next reads the next row. Cells that a sheet leaves out at the end of a row
// are empty.
func (x *xlsxReader) Next() (Row, error) {
	if x.first != nil {
		row := Row{N: 1, Line: x.line, Cells: x.first}
		x.first, x.n = nil, 1
		return row, nil
	}
	for {
		cells, err := x.read()
		if err != nil {
			return Row{}, err
		}
		if blank(cells) {
			continue
		}
		x.n++
		for len(cells) < len(x.head) {
			cells = append(cells, "")
		}
		row := Row{N: x.n, Line: x.line, Cells: cells}
		size := 0
		for _, s := range cells {
			size += len(s)
		}
		if size > MaxRecord {
			row.Cells = nil
			return row, &BadRow{Row: row, Column: -1, Reason: errLong.Error()}
		}
		if len(cells) > len(x.head) {
			if !blank(cells[len(x.head):]) {
				return row, &BadRow{Row: row, Column: -1, Reason: ragged(len(cells), len(x.head))}
			}
			row.Cells = cells[:len(x.head)]
		}
		return row, nil
	}
}

// Close lets the file go.
func (x *xlsxReader) Close() error {
	var errs []error
	if x.rows != nil {
		errs = append(errs, x.rows.Close())
	}
	if x.book != nil {
		errs = append(errs, x.book.Close())
	}
	return errors.Join(append(errs, x.file.Close())...)
}

// SheetDate reads a date as sheets keep it, as days since 1899-12-30, and
// answers it as 2026-04-14; what is none is answered as it is.
func SheetDate(s string) string {
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || f < 1 || f > 2958465 {
		return s
	}
	t, err := excelize.ExcelDateToTime(f, false)
	if err != nil {
		return s
	}
	return t.Format("2006-01-02")
}

func count(n int, what string) string {
	if what == "" {
		return strconv.Itoa(n)
	}
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}
