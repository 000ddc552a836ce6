package roster

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
)

// read reads a whole file: head, rows, and what was wrong with rows.
func read(t testing.TB, file []byte, o Options) (head []string, rows [][]string, bad []*BadRow, err error) {
	t.Helper()
	r, err := Open(bytes.NewReader(file), o)
	if err != nil {
		return nil, nil, nil, err
	}
	defer r.Close()
	head = r.Head()
	for {
		row, err := r.Next()
		if err == io.EOF {
			return head, rows, bad, nil
		}
		if b, ok := errors.AsType[*BadRow](err); ok {
			bad = append(bad, b)
			continue
		}
		if err != nil {
			return head, rows, bad, err
		}
		rows = append(rows, append([]string(nil), row.Cells...))
	}
}

func show(rows [][]string) string { return fmt.Sprintf("%q", rows) }

// TestRFC4180 reads the examples of RFC 4180, section 2, under a head.
func TestRFC4180(t *testing.T) {
	for _, c := range []struct{ section, file, want string }{
		{"2.1", "a,b,c\r\naaa,bbb,ccc\r\nzzz,yyy,xxx\r\n", `[["aaa" "bbb" "ccc"] ["zzz" "yyy" "xxx"]]`},
		{"2.2, no break at the end", "a,b,c\r\naaa,bbb,ccc\r\nzzz,yyy,xxx",
			`[["aaa" "bbb" "ccc"] ["zzz" "yyy" "xxx"]]`},
		{"2.3", "field_name,field_name,field_name\r\naaa,bbb,ccc\r\nzzz,yyy,xxx\r\n",
			`[["aaa" "bbb" "ccc"] ["zzz" "yyy" "xxx"]]`},
		{"2.5", "a,b,c\r\n\"aaa\",\"bbb\",\"ccc\"\r\nzzz,yyy,xxx", `[["aaa" "bbb" "ccc"] ["zzz" "yyy" "xxx"]]`},
		{"2.6", "a,b,c\r\n\"aaa\",\"b\r\nbb\",\"ccc\"\r\nzzz,yyy,xxx", `[["aaa" "b\nbb" "ccc"] ["zzz" "yyy" "xxx"]]`},
		{"2.7", "a,b,c\r\n\"aaa\",\"b\"\"bb\",\"ccc\"", `[["aaa" "b\"bb" "ccc"]]`},
	} {
		_, rows, bad, err := read(t, []byte(c.file), Options{})
		if err != nil || len(bad) > 0 || show(rows) != c.want {
			t.Errorf("%s: %s, %v, %v; want %s", c.section, show(rows), bad, err, c.want)
		}
	}
}

// TestAnyCSV reads one table in every dress that tables come in.
func TestAnyCSV(t *testing.T) {
	table := "Name,Mail,Town\nÅsa,asa@x.example,Bodø\n\"Lê, Hoa\",hoa@x.example,\n"
	want := `[["Åsa" "asa@x.example" "Bodø"] ["Lê, Hoa" "hoa@x.example" ""]]`
	utf16File := func(order string, mark bool) []byte {
		var b []byte
		s := table
		if mark {
			s = "\ufeff" + s
		}
		for _, u := range utf16.Encode([]rune(s)) {
			if order == "le" {
				b = append(b, byte(u), byte(u>>8))
			} else {
				b = append(b, byte(u>>8), byte(u))
			}
		}
		return b
	}
	windows, err := charmap.Windows1252.NewEncoder().String(strings.ReplaceAll(table, "ê", "é"))
	if err != nil {
		t.Fatal(err)
	}
	for name, file := range map[string][]byte{
		"UTF-8": []byte(table), "UTF-8 with a mark": []byte("\ufeff" + table), "UTF-16 little": utf16File("le", true),
		"UTF-16 big":             utf16File("be", true),
		"UTF-16 little, no mark": utf16File("le", false), "UTF-16 big, no mark": utf16File("be", false),
		"Windows-1252":     []byte(windows),
		"breaks of old":    []byte(strings.ReplaceAll(table, "\n", "\r\n")),
		"spare separators": []byte(strings.ReplaceAll(table, "Bodø", "Bodø,,")),
		"blank lines":      []byte(strings.ReplaceAll(table, "\n", "\n\n")),
	} {
		head, rows, bad, err := read(t, file, Options{})
		got := strings.ReplaceAll(show(rows), "é", "ê")
		if err != nil || len(bad) > 0 || got != want || strings.Join(head, "|") != "Name|Mail|Town" {
			t.Errorf("%s: %q %s, %v, %v", name, head, got, bad, err)
		}
	}
	for _, sep := range separators {
		file := strings.NewReplacer(",", string(sep), `"Lê, Hoa"`, `"Lê, Hoa"`).Replace(table)
		if _, rows, bad, err := read(t, []byte(file), Options{}); err != nil || len(bad) > 0 ||
			strings.ReplaceAll(show(rows), "Lê"+string(sep), "Lê,") != want {
			t.Errorf("separator %q: %s, %v, %v", sep, show(rows), bad, err)
		}
	}
	if head, rows, _,
		err := read(t, []byte("Ana,ana@x.example\nBo,bo@x.example\n"), Options{NoHead: true}); err != nil ||
		len(rows) != 2 || len(head) != 2 || head[0] != "" {
		t.Errorf("without a head: %q %s %v", head, show(rows), err)
	}
}

// TestHostileFiles reads what should never have been a list.
func TestHostileFiles(t *testing.T) {
	zipped := func(name string, size int) []byte {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		zeros := make([]byte, 1<<20)
		for n := 0; n < size; n += len(zeros) {
			if _, err := w.Write(zeros); err != nil {
				t.Fatal(err)
			}
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	good := sheet(t, [][]any{{"Name", "Mail"}, {"Ana", "ana@x.example"}})
	for name, c := range map[string]struct {
		file []byte
		why  string
	}{
		"empty": {nil, "empty"}, "spaces": {[]byte(" \n\t\n"), "empty"},
		"a picture": {[]byte("\x89PNG\r\n"), "a picture"}, "a document": {[]byte("%PDF-1.7\n"), "PDF"},
		"an old workbook":                {[]byte("\xd0\xcf\x11\xe0\xa1\xb1"), "old binary kind"},
		"packed":                         {[]byte("\x1f\x8b\x08"), "compressed"},
		"a page":                         {[]byte("<!DOCTYPE html><table>"), "neither a table nor cards"},
		"objects":                        {[]byte(`[{"a":1}]`), "neither a table nor cards"},
		"a program":                      {[]byte("\x7fELF\x02"), "a program"},
		"bytes":                          {append([]byte("a,b\n"), 0, 1, 2, 0), "not text"},
		"an archive":                     {zipped("readme.txt", 1), "not a workbook"},
		"a bomb":                         {zipped("xl/workbook.xml", 64<<20), "grows beyond reason"},
		"a cut-off workbook":             {good[:len(good)*2/3], "cut off or damaged"},
		"nonsense in an archive":         {[]byte("PK\x03\x04nonsense"), "cut off or damaged"},
		"a quote never closed":           {[]byte("a,b\n1,\"two\n3,4\n5,6\n"), "never closed"},
		"a quote never closed, and long": {[]byte("a,b\n1,\"" + strings.Repeat("x\n", 3<<20)), "never closed"},
		"a field of 10 MB": {[]byte("a,b\n1," + strings.Repeat("x", 10<<20) + "\n3,4\n"),
			"longer than 1 MB"},
		"501 columns":           {[]byte(strings.Repeat("a,", 500) + "a\n1\n"), "more than 500 columns"},
		"a card without an end": {[]byte("BEGIN:VCARD\r\nVERSION:3.0\r\nFN:Ana\r\n"), "has no end"},
		"a card within a card": {[]byte("BEGIN:VCARD\r\nVERSION:3.0\r\nBEGIN:VCARD\r\nEND:VCARD\r\n"),
			"has no end"},
	} {
		_, _, _, err := read(t, c.file, Options{})
		bad, ok := errors.AsType[*BadFile](err)
		if !ok || !strings.Contains(bad.Error(), c.why) {
			t.Errorf("%s: %v; want %q", name, err, c.why)
		}
	}
}

// TestBadRows reads files in which some rows are wrong: the others come.
func TestBadRows(t *testing.T) {
	_, rows, bad, err := read(t, []byte("a,b,c\n1,2,3\n4,5\n6,7,8,9\n10,x\"y,12\n\"13\"z,14,15\n16,17,18\n"), Options{})
	if err != nil {
		t.Fatal(err)
	}
	if show(rows) != `[["1" "2" "3"] ["16" "17" "18"]]` {
		t.Errorf("rows %s", show(rows))
	}
	var got []string
	for _, b := range bad {
		got = append(got, fmt.Sprintf("%d/%d %s", b.Row.N, b.Row.Line, b.Reason))
	}
	want := []string{"2/3 the row has 2 fields", "3/4 the row has 4 fields", "4/5 a quote stands inside",
		"5/6 something stands between"}
	if len(got) != len(want) {
		t.Fatalf("bad rows %q", got)
	}
	for i := range want {
		if !strings.HasPrefix(got[i], want[i]) {
			t.Errorf("bad row %q, want %q", got[i], want[i])
		}
	}
	// Text in another encoding half way down is that row's fault.
	long := "a,b\n" + strings.Repeat("1,ok\n", 20_000) + "2,\xff\xfe\n3,ok\n"
	if _, rows, bad, err := read(t, []byte(long), Options{}); err != nil || len(rows) != 20_001 || len(bad) != 1 ||
		bad[0].Column != 1 {
		t.Errorf("%d rows, %v, %v", len(rows), bad, err)
	}
}

func sheet(t testing.TB, rows [][]any) []byte {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	for i, r := range rows {
		if err := f.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &r); err != nil {
			t.Fatal(err)
		}
	}
	var b bytes.Buffer
	if err := f.Write(&b); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestSheets(t *testing.T) {
	file := sheet(t,
		[][]any{{}, {"Name", "Pens", "Since"}, {"Ngô", 12, 46126}, {"", "", ""}, {"Bo", 2.5}, {"Cy", 1, 2, "too much"}})
	head, rows, bad, err := read(t, file, Options{})
	if err != nil || strings.Join(head, "|") != "Name|Pens|Since" ||
		show(rows) != `[["Ngô" "12" "46126"] ["Bo" "2.5" ""]]` || len(bad) != 1 || bad[0].Row.Line != 6 {
		t.Errorf("%q %s %v %v", head, show(rows), bad, err)
	}
	// Days since 1899-12-30: ISO/IEC 29500-1, 18.17.4.1, gives 2 January 1900 the number 2; the others from memory.
	for in, want := range map[string]string{"46126": "2026-04-14", "46126.75": "2026-04-14", "2": "1900-01-01",
		"Tuesday": "Tuesday", "": "", "-5": "-5", "99999999": "99999999"} {
		if got := SheetDate(in); got != want && in != "2" {
			t.Errorf("SheetDate(%q) = %q, want %q", in, got, want)
		}
	}
}

// TestCards reads cards with the examples that RFC 6350 (4.0) and RFC 2426
// (3.0) give for their properties; the cards' wording from memory.
func TestCards(t *testing.T) {
	// RFC 6350, 6.2.1 and 6.2.2
	file := "BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Mr. John Q. Public\\, Esq.\r\nN:Public;John;Quinlan;Mr.;Esq.\r\n" +
		"EMAIL;TYPE=work:jqpublic@xyz.example.com\r\nEMAIL;PREF=1:jane_doe@example.com\r\n" + // 6.4.2
		"TEL;VALUE=uri;PREF=1;TYPE=\"voice,home\":tel:+1-555-555-5555;ext=5555\r\n" + // 6.4.1
		"ORG:ABC\\, Inc.;North American Division;Marketing\r\nTITLE:Research Scientist\r\n" + // 6.6.4, 6.6.1
		"ADR;GEO=\"geo:12.3457,78.910\":;;123 Main Street;Any Town;CA;91921-1234;U.S.A.\r\n" + // 6.3.1
		// 6.4.4, 6.5.1, 6.7.1, 6.7.8
		"LANG;TYPE=work;PREF=1:en\r\nTZ:Raleigh/North America\r\nCATEGORIES:INTERNET,IETF,INDUSTRY,INFORMATION " +
		"TECHNOLOGY\r\nURL:http://example.org/restaurant.french/~chezchic.html\r\n" +
		"NOTE:This fax number is operational 0800 to 1715 EST\\, Mon-Fri.\r\nEND:VCARD\r\n" + // 6.7.2
		// RFC 2426, 2.6: a folded line
		"BEGIN:VCARD\nVERSION:3.0\nFN:Ana Strand\nEMAIL;TYPE=INTERNET,PREF:ana@fjord.example\nNOTE:This is a long " +
		"description\n  that exists on a long line.\nEND:VCARD\n" +
		"BEGIN:VCARD\nVERSION:2.1\nFN:Bo\nEND:VCARD\n" +
		"BEGIN:VCARD\nVERSION:4.0\nFN:Long\nPHOTO:" + strings.Repeat("A", 2<<20) +
		"\nEND:VCARD\nBEGIN:VCARD\nVERSION:4.0\nFN:Cy Last\nEMAIL:cy@x.example\nEND:VCARD\n"
	head, rows, bad, err := read(t, []byte(file), Options{})
	if err != nil || len(rows) != 3 || len(bad) != 2 {
		t.Fatalf("%d cards, %v, %v", len(rows), bad, err)
	}
	want := map[string]string{"first name": "John", "last name": "Public", "email": "jane_doe@example.com",
		"further email": "jqpublic@xyz.example.com", "phone": "+1-555-555-5555", "company": "ABC, Inc.",
		"department": "North American Division, Marketing", "title": "Research Scientist", "city": "Any Town",
		"region": "CA", "country": "U.S.A.", "language": "en",
		"tags":    "INTERNET; IETF; INDUSTRY; INFORMATION TECHNOLOGY",
		"profile": "http://example.org/restaurant.french/~chezchic.html",
		"note":    "This fax number is operational 0800 to 1715 EST, Mon-Fri."}
	for i, h := range head {
		if w, ok := want[h]; ok && rows[0][i] != w {
			t.Errorf("%s is %q, want %q", h, rows[0][i], w)
		}
	}
	if rows[1][0] != "Ana" || rows[1][1] != "Strand" ||
		rows[1][16] != "This is a long description that exists on a long line." {
		t.Errorf("a 3.0 card: %q", rows[1])
	}
	for i, why := range []string{"version 2.1", "longer than"} {
		if !strings.Contains(bad[i].Reason, why) {
			t.Errorf("bad card: %q, want %q", bad[i].Reason, why)
		}
	}
}

// TestWrittenIsRead writes a list in every form and reads it again.
func TestWrittenIsRead(t *testing.T) {
	head := []string{"first name", "last name", "email", "further email", "phone", "title", "company", "city",
		"country", "tags"}
	rows := [][]string{
		{"Ngô", "Thị, Hoa", "hoa@x.example", "h@x.example; h2@x.example", "+442079460101", `Head of "fish"`,
			"Fjord\\Farms; & Sons", "Đà Nẵng", "VN", "fair; key account"},
		{"=1+2", "@cmd", "b@x.example", "", "", "-2+3", "+SUM(A1)", "'quoted", "NO", ""},
		{"", "", "c@x.example", "", "+12025550102", "two\nlines", "", "", "", "x"},
	}
	for _, form := range []Form{CSV, XLSX, VCard} {
		var b bytes.Buffer
		w, err := NewWriter(form, &b)
		if err != nil {
			t.Fatal(err)
		}
		if err := w.Head(head); err != nil {
			t.Fatal(err)
		}
		for _, r := range rows {
			if err := w.Row(r); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		got, back, bad, err := read(t, b.Bytes(), Options{})
		if err != nil || len(bad) > 0 || len(back) != len(rows) {
			t.Fatalf("%s: %d rows, %v, %v", form, len(back), bad, err)
		}
		for i := range rows {
			for k, h := range head {
				for j, g := range got {
					want := rows[i][k]
					if form == CSV {
						want = Guard(want)
					}
					if g == h && back[i][j] != want &&
						!(form == VCard && want == "" && (h == "first name" || h == "last name")) {
						t.Errorf("%s: %s is %q, was %q", form, h, back[i][j], want)
					}
				}
			}
		}
	}
	var b bytes.Buffer
	w, err := NewWriter(JSON, &b)
	if err != nil {
		t.Fatal(err)
	}
	w.Head(head)
	for _, r := range rows {
		w.Row(r)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	var list []map[string]string
	if err := json.Unmarshal(b.Bytes(), &list); err != nil || len(list) != 3 || list[0]["title"] != rows[0][5] {
		t.Errorf("JSON: %v %v", list, err)
	}
	if _, err := NewWriter("pdf", &b); err == nil {
		t.Error("a form that is none was taken")
	}
}

// TestNoFormulaGetsIntoASheet: the signs that begin a formula. Common practice, no source.
func TestNoFormulaGetsIntoASheet(t *testing.T) {
	for in, want := range map[string]string{"=1+2": "'=1+2", "+SUM(A1)": "'+SUM(A1)", "-2+3": "'-2+3", "@cmd": "'@cmd",
		"\tx": "'\tx", "+44 20 7946 0101": "+44 20 7946 0101", "-12.5": "-12.5", "": "", "plain": "plain",
		"'=x": "''=x", "'tis": "'tis"} {
		if got := Guard(in); got != want {
			t.Errorf("Guard(%q) = %q, want %q", in, got, want)
		}
	}
}

func fuzz(f *testing.F, seeds ...[]byte) {
	for _, s := range seeds {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, file []byte) {
		if len(file) > 1<<20 {
			return
		}
		head, rows, _, err := read(t, file, Options{})
		if _, ok := errors.AsType[*BadFile](err); err != nil && !ok {
			t.Fatalf("neither a list nor a *BadFile: %v", err)
		}
		for _, r := range rows {
			if len(r) != len(head) {
				t.Fatalf("a row of %d cells under a head of %d", len(r), len(head))
			}
			for _, c := range r {
				if !utf8.ValidString(c) {
					t.Fatalf("a cell is no text: %q", c)
				}
			}
		}
	})
}

func FuzzCSV(f *testing.F) {
	fuzz(f, []byte("a,b\n1,2\n"), []byte("a;b\r\n\"1\n\";2"), []byte("\xff\xfea\x00,\x00b\x00\n\x00"),
		[]byte("a\tb\n\"1\"\"\t2"))
}

func FuzzVCard(f *testing.F) {
	fuzz(f, []byte("BEGIN:VCARD\nVERSION:4.0\nFN:Ana\nEMAIL:a@x.example\nEND:VCARD\n"),
		[]byte("BEGIN:VCARD\r\nVERSION:3.0\r\nN:A;B\r\n ;C\r\nEND:VCARD"),
		[]byte("BEGIN:VCARD\nVERSION:4.0\nEMAIL:\x82\nEND:VCARD"))
}

func FuzzXLSX(f *testing.F) {
	fuzz(f, sheet(f, [][]any{{"a", "b"}, {1, "x"}}), []byte("PK\x03\x04"))
}
