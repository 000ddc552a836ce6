package rows

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// read gives what stands in some columns, row by row.
func read(text string, need ...string) (out []string, err error) {
	err = Read("list", strings.NewReader(text), need, func(x Row) error {
		at, err := x.Instant("at")
		if err != nil {
			return err
		}
		yes, err := x.Yes("yes")
		if err != nil {
			return err
		}
		tags, err := x.Named("tags", map[string]string{"3": "Hot", "2": "cold"})
		if err != nil {
			return err
		}
		out = append(out, fmt.Sprint(x.N, " ", x.Get("name"), " ", at.Format("15:04"), " ", yes, " ", tags))
		return nil
	})
	return out, err
}

// CSV and JSON say the same (RFC 4180; RFC 8259), whatever stands before them and however a column is spelt.
func TestRead(t *testing.T) {
	want := []string{"2 Ana, the first 09:20 true [2 3]", "3 Bo 00:00 false []"}
	got, err := read("\ufeffName,AT,yes,tags\r\n\"Ana, the first\",2026-04-14T11:20:00+02:00,Yes,hot; cold;other\r\n Bo ,,no,\r\n",
		"name")
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("CSV: %q, %v", got, err)
	}
	got, err = read(`[{"Name": "Ana, the first", "at": "2026-04-14T09:20:00Z", "yes": true, "tags": "Hot;cold"},
		{"name": "Bo", "yes": 0, "at": null}]`, "name")
	for i := range want {
		want[i] = strings.Replace(want[i], fmt.Sprint(i+2), fmt.Sprint(i+1), 1)
	}
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("JSON: %q, %v", got, err)
	}
}

func TestWrong(t *testing.T) {
	for text, want := range map[string]string{
		"":                        "list is empty",
		"a,b\n":                   `no column "name"`,
		"name\nAna,too,many\n":    "wrong number of fields",
		"name\n\"Ana\n":           "list: ",
		"name,at\nAna,noon\n":     "list, row 2: \"noon\" is no instant",
		"name,yes\nAna,perhaps\n": "yes is yes or no",
		`[{"at": ""}]`:            `row 1: it has no "name"`,
		`[{"name": ["Ana"]}]`:     "name is a text",
		`[{"name": "Ana"`:         "list is no list of objects",
		"\"name\",\"name\n":       "list: ",
	} {
		if _, err := read(text, "name"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	x := Row{map[string]string{"tags": "hot"}, 1, "list"}
	if _, err := x.Named("tags", map[string]string{"x": "Hot"}); err == nil {
		t.Error("a number that is none")
	}
}
