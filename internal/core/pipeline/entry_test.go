package pipeline

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

func setting() Setting {
	return Setting{Base: "EUR", Today: calendar.Date{Year: 2026, Month: time.June, Day: 1},
		Pipelines: []Pipeline{{ID: 1, Name: "Sales"}, {ID: 2, Name: "Service contracts"}},
		Stages: []Stage{{ID: 10, Name: "First talk", Pipeline: 1}, {ID: 11, Name: "Offer", Pipeline: 1},
			{ID: 12, Name: "Won", Won: true, Pipeline: 1}, {ID: 13, Name: "Lost", Lost: true, Pipeline: 1},
			{ID: 20, Name: "Visit", Pipeline: 2}, {ID: 21, Name: "Won", Won: true, Pipeline: 2}}}
}

// sheet is a small file: a head and rows, with | between cells.
func entriesOf(t testing.TB, head string, rows ...string) ([]Entry, []error) {
	t.Helper()
	e, err := ReadHead(strings.Split(head, "|"), setting())
	if err != nil {
		t.Fatal(err)
	}
	var out []Entry
	var bad []error
	for i, r := range rows {
		d, err := e.Read(i+2, strings.Split(r, "|"))
		out, bad = append(out, d), append(bad, err)
	}
	return out, bad
}

func day(y int, m time.Month, d int) Day { return Day{calendar.Date{Year: y, Month: m, Day: d}} }

// What the cells of a row come to.
func TestEntries(t *testing.T) {
	amount := func(n int64) *int64 { return &n }
	for _, c := range []struct {
		head, row string
		want      Entry
	}{
		{"person", "Ana@Karang.example", Entry{Person: "ana@karang.example"}},
		{"Email | Owner | Deal name", " a@b.example | Rep@Ombak.example | Two  pumps ",
			Entry{Person: "a@b.example", Rep: "rep@ombak.example", Name: "Two pumps"}},
		{"person|amount", "a@b.example|12.500,50", Entry{Person: "a@b.example", Amount: amount(1250050), Currency: "EUR"}},
		{"person|amount|currency", "a@b.example|12,500|jpy",
			Entry{Person: "a@b.example", Amount: amount(12500), Currency: "JPY"}},
		{"person|stage", "a@b.example|offer", Entry{Person: "a@b.example", Stage: 11}},
		{"person|pipeline", "a@b.example|service contracts", Entry{Person: "a@b.example", Stage: 20}},
		{"person|pipeline|stage|closed", "a@b.example|Service contracts|won|2026-05-01",
			Entry{Person: "a@b.example", Stage: 21, Opened: day(2026, 5, 1), Closed: day(2026, 5, 1)}},
		{"person|stage|offer|first talk", "a@b.example|Offer|2026-03-01 09:30|2026-02-01T00:00:00Z",
			Entry{Person: "a@b.example", Stage: 11, Opened: day(2026, 2, 1),
				Came: []Came{{10, day(2026, 2, 1)}, {11, day(2026, 3, 1)}}}},
		{"person|first talk|offer", "a@b.example|2026-02-01|2026-02-01", // on one day: in the order of the stages
			Entry{Person: "a@b.example", Opened: day(2026, 2, 1),
				Came: []Came{{10, day(2026, 2, 1)}, {11, day(2026, 2, 1)}}}},
		{"deal|person|opened|closed|next|next on", "7|a@b.example|2026-01-01||Call|2027-01-01", // what was stays
			Entry{Deal: 7, Person: "a@b.example", Next: "Call", NextOn: day(2027, 1, 1)}},
		{"deal|amount|currency", "7|1|NOK", Entry{Deal: 7, Amount: amount(100), Currency: "NOK"}},
		{"deal|rep", "7|Nobody", Entry{Deal: 7, Rep: Nobody}},
		{"person|reason|campaign|expected|", "a@b.example|dear|SPRING|2026-09-30|", Entry{Person: "a@b.example",
			Reason: "dear", Campaign: "SPRING", Expected: day(2026, 9, 30)}},
		{"person|state|worth", "a@b.example", Entry{Person: "a@b.example"}}, // a short row
	} {
		got, bad := entriesOf(t, c.head, c.row)
		c.want.Line = 2
		if bad[0] != nil || !reflect.DeepEqual(got[0], c.want) {
			t.Errorf("%q under %q is %+v (%v), not %+v", c.row, c.head, got[0], bad[0], c.want)
		}
	}
}

// What cannot be says of which column it is, and why.
func TestEntriesThatCannotBe(t *testing.T) {
	for _, c := range [][3]string{
		{"person", "", "person"},
		{"person", "no address", "person"},
		{"deal", "seven", "no number"},
		{"deal", "-7", "no number"},
		{"person|stage", "a@b.example|Won", "several pipelines"},
		{"person|stage", "a@b.example|Third talk", "none called"},
		{"person|pipeline", "a@b.example|Spares", "none called"},
		{"person|pipeline|stage", "a@b.example|Service contracts|Offer", "has none called"},
		{"person|pipeline|stage", "a@b.example|Sales|Won", "has a day on which it was closed"},
		{"person|closed", "a@b.example|2026-05-01", "only a deal that is won or lost"},
		{"person|amount", "a@b.example|12.50.0", "amount"},
		{"person|amount|currency", "a@b.example|1|Euro", "currency"},
		{"deal|amount", "7|12", "names its currency"},
		{"deal|currency", "7|NOK", "together with its amount"},
		{"person|expected", "a@b.example|31.5.2026", "is no day"},
		{"person|expected", "a@b.example|2026-02-30", "is no day"},
		{"person|opened", "a@b.example|2026-06-02", "not yet"},
		{"person|opened|offer", "a@b.example|2026-03-01|2026-02-01", "in that order"},
		{"person|opened|moved", "a@b.example|2026-03-01|2026-02-01", "in that order"},
		{"person|moved", "a@b.example|2026-07-01", "not yet"},
		{"person|name", "a@b.example|" + strings.Repeat("x", 201), "more than 200"},
		{"person|offer", "a@b.example|soon", "Offer"},
	} {
		_, bad := entriesOf(t, c[0], c[1])
		if _, plain := plainly.Says(bad[0]); !plain || !strings.Contains(bad[0].Error(), c[2]) {
			t.Errorf("%q under %q: %v, which does not say %q", c[1], c[0], bad[0], c[2])
		}
	}
	for head, says := range map[string]string{"name|stage": "needs a column", "person|email": "both “person”",
		"person|Offer|offer": "two columns"} {
		if _, err := ReadHead(strings.Split(head, "|"), setting()); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("the head %q: %v, which does not say %q", head, err, says)
		}
	}
	none := setting()
	none.Stages = none.Stages[2:4]
	e, err := ReadHead([]string{"person", "pipeline"}, none)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := e.Read(2, []string{"a@b.example", "Sales"}); err == nil {
		t.Error("a pipeline without an open stage takes deals")
	}
}

// Columns from which nothing is read are named; what a sheet has as a number can be a day.
func TestHeadsOfEntries(t *testing.T) {
	in := setting()
	in.Date = func(s string) string { return map[string]string{"46173": "2026-05-31"}[s] }
	e, err := ReadHead([]string{"person", "Colour", "Won", "first name", "expected"}, in)
	if err != nil || !slices.Equal(e.Unread, []string{"Colour", "Won"}) || e.Passes {
		t.Fatalf("unread are %q, passes %v (%v)", e.Unread, e.Passes, err)
	}
	d, err := e.Read(2, []string{"a@b.example", "red", "", "Ana", "46173"})
	if err != nil || d.Expected != day(2026, 5, 31) {
		t.Errorf("a sheet’s day is %v (%v)", d.Expected, err)
	}
	for _, c := range ignored {
		if !slices.Contains(Columns(), c) {
			t.Errorf("“%s” is passed over, and is no column that is written", c)
		}
	}
	for other, name := range others {
		if !slices.Contains(Columns(), name) || slices.Contains(Columns(), other) {
			t.Errorf("“%s” stands for “%s”, which cannot be", other, name)
		}
	}
}

// The moves that an entry tells of are those that it says, and no more.
func TestPassages(t *testing.T) {
	a, b, c := day(2026, 1, 1), day(2026, 2, 1), day(2026, 3, 1)
	for _, x := range []struct {
		d     Entry
		stage int64
		want  []Passage
	}{
		{Entry{}, 10, []Passage{{10, Day{}}}},
		{Entry{Opened: a}, 10, []Passage{{10, a}}},
		{Entry{Opened: a, Moved: b}, 11, []Passage{{11, b}}},
		{Entry{Opened: a, Closed: b}, 12, []Passage{{12, b}}},
		{Entry{Opened: a, Came: []Came{{10, a}, {11, b}}}, 11, []Passage{{10, a}, {11, b}}},
		{Entry{Opened: a, Came: []Came{{10, a}, {11, b}}, Closed: c}, 12, []Passage{{10, a}, {11, b}, {12, c}}},
		{Entry{Opened: a, Came: []Came{{10, a}}}, 11, []Passage{{10, a}, {11, Day{}}}}, // since when, nobody knows
	} {
		if got := x.d.Passages(x.stage); !slices.Equal(got, x.want) {
			t.Errorf("%+v into %d passes %v, not %v", x.d, x.stage, got, x.want)
		}
	}
}

// An entry is kept between being checked and being imported: it is the same afterwards.
func TestEntriesAreKept(t *testing.T) {
	got, bad := entriesOf(t, "person|stage|amount|expected|first talk|offer|next",
		"a@b.example|Offer|12|2026-09-30|2026-01-31|2026-02-28|Call")
	text, err := json.Marshal(got[0])
	var again Entry
	if err := errors.Join(err, bad[0], json.Unmarshal(text, &again)); err != nil || !reflect.DeepEqual(again, got[0]) {
		t.Errorf("%+v is kept as %s, which is %+v (%v)", got[0], text, again, err)
	}
}

// The example of docs/formats.md is read as it says there.
func TestTheDealsOfTheDocumentation(t *testing.T) {
	text, err := os.ReadFile("../../../docs/formats.md")
	if err != nil {
		t.Fatal(err)
	}
	_, part, _ := strings.Cut(string(text), "# Deals\n")
	_, part, _ = strings.Cut(part, "```csv\n")
	part, _, _ = strings.Cut(part, "```")
	rows, err := csv.NewReader(strings.NewReader(part)).ReadAll()
	if err != nil || len(rows) != 4 {
		t.Fatalf("the example has %d rows (%v)", len(rows), err)
	}
	e, err := ReadHead(rows[0], setting())
	if err != nil || len(e.Unread) > 0 || !e.Passes {
		t.Fatalf("unread are %q (%v)", e.Unread, err)
	}
	var won, open, changed Entry
	for i, into := range []*Entry{&won, &open, &changed} {
		if *into, err = e.Read(i+2, rows[i+1]); err != nil {
			t.Fatalf("row %d: %v", i+2, err)
		}
	}
	if got := won.Passages(won.Stage); !slices.Equal(got, []Passage{{10, day(2026, 1, 12)}, {11, day(2026, 2, 20)},
		{12, day(2026, 4, 3)}}) || *won.Amount != 1850000 || won.Currency != "EUR" {
		t.Errorf("the first is %+v, with %v", won, got)
	}
	if open.Stage != 11 || *open.Amount != 21000000 || open.Currency != "NOK" || open.Expected != day(2026, 9, 30) {
		t.Errorf("the second is %+v", open)
	}
	if changed.Deal != 41 || changed.Rep != Nobody || changed.Amount != nil {
		t.Errorf("the third is %+v", changed)
	}
}

// Whatever a row holds, it is an entry that can be kept or a plain error of that row.
func FuzzEntry(f *testing.F) {
	f.Add("a@b.example", "7", "Offer", "12,50", "2026-05-01", "nobody", "2026-04-01")
	f.Add("", "", "Won", "1e9", "46173", "\x00", "2026-04-01T")
	f.Fuzz(func(t *testing.T, person, deal, stage, amount, on, rep, offer string) {
		e, err := ReadHead([]string{"person", "deal", "stage", "amount", "closed", "rep", "offer"}, setting())
		if err != nil {
			t.Fatal(err)
		}
		d, err := e.Read(2, []string{person, deal, stage, amount, on, rep, offer})
		if _, plain := plainly.Says(err); err != nil && !plain {
			t.Fatalf("no plain error: %v", err)
		}
		if err != nil {
			return
		}
		if d.Deal == 0 && d.Person == "" || d.Amount != nil && *d.Amount < 0 {
			t.Fatalf("%+v is no entry", d)
		}
		last := Day{}
		for _, p := range d.Passages(d.Stage) {
			if !p.On.IsZero() && !last.IsZero() && p.On.Compare(last.Date) < 0 {
				t.Fatalf("%+v goes back in time", d)
			}
			last = p.On
		}
		if _, err := strconv.Unquote(fmt.Sprintf("%q", d.Name)); err != nil {
			t.Fatal(err)
		}
	})
}
