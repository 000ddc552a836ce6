package score

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/signal"
)

const scores = "../../../docs/examples/score/"

// scoring are files to count by, as text, and an instant.
type scoring struct{ model, people, signals, at string }

// run counts by them, as the command does.
func (x scoring) run(w io.Writer) error {
	at, err := time.Parse(time.RFC3339Nano, x.at)
	if err != nil {
		return err
	}
	f, err := ReadFile(strings.NewReader(x.model))
	if err == nil {
		err = f.Model.Check(f.Catalogue())
	}
	if err != nil {
		return err
	}
	people, err := ReadPeople(strings.NewReader(x.people), f)
	if err == nil {
		err = ReadSignals(strings.NewReader(x.signals), people, f)
	}
	if err != nil {
		return err
	}
	return f.Count(w, people, at)
}

func exampleOf(t *testing.T) scoring {
	t.Helper()
	read := func(name string) string {
		data, err := os.ReadFile(scores + name)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	return scoring{read("model.json"), read("people.csv"), read("signals.csv"), "2026-05-14T09:00:00Z"}
}

// asJSON writes CSV as a list of objects.
func asJSON(t *testing.T, text string) string {
	t.Helper()
	list, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	out := []map[string]any{}
	for _, r := range list[1:] {
		o := map[string]any{}
		for i, v := range r {
			if v != "" {
				o[list[0][i]] = v
			}
		}
		out = append(out, o)
	}
	body, err := json.Marshal(out)
	if err != nil {
		t.Fatal(err)
	}
	return string(body)
}

// The example of the documentation gives what the documentation says, from CSV and from JSON alike. Common practice, no
// source: page view 10, open 1, click 3, each for 30 days; at day 30 exactly the first three are gone. 8 points that
// halve every ten days are 4 after ten.
func TestTheScoresOfTheDocumentation(t *testing.T) {
	want, err := os.ReadFile(scores + "scores.csv")
	if err != nil {
		t.Fatal(err)
	}
	x := exampleOf(t)
	var got bytes.Buffer
	if err := x.run(&got); err != nil || got.String() != string(want) {
		t.Errorf("%v\n%s", err, got.String())
	}
	for _, line := range []string{"ana,1,calm", "ben,15,high water", "cyn,18,high water", "dan,8,rising", "eve,0,calm",
		"fay,4,calm"} {
		if !strings.Contains(got.String(), "\n"+line+",") {
			t.Errorf("there is no %s", line)
		}
	}
	x.people, x.signals = asJSON(t, x.people), asJSON(t, x.signals)
	got.Reset()
	if err := x.run(&got); err != nil || got.String() != string(want) {
		t.Errorf("from JSON: %v\n%s", err, got.String())
	}
	formats, err := os.ReadFile("../../../docs/formats.md")
	if err != nil || !strings.Contains(string(formats), strings.SplitN(string(want), "\n", 3)[1]) {
		t.Errorf("the documentation shows another example: %v", err)
	}
	text := strings.Join(strings.Fields(string(formats)), " ")
	for _, k := range signal.Kinds() {
		if !strings.Contains(text, fmt.Sprintf(" %d %s", int16(k), k)) {
			t.Errorf("the documentation does not say that %d is a %s", k, k)
		}
	}
	// At day 29 the three still count: 14, and 1 that came a day later.
	x.at = "2026-05-13T09:00:00Z"
	got.Reset()
	if err := x.run(&got); err != nil || !strings.Contains(got.String(), "\nana,15,high water,") {
		t.Errorf("a day before: %v\n%s", err, got.String())
	}
}

func TestScoresOfBadFiles(t *testing.T) {
	good := exampleOf(t)
	for want, change := range map[string]func(*scoring){
		"cannot parse": func(x *scoring) { x.at = "noon" },
		"no file":      func(x *scoring) { x.model = `{"ombak": "sequence", "version": 1}` },
		"of version 9": func(x *scoring) { x.model = `{"ombak": "score model", "version": 9}` },
		"has a name":   func(x *scoring) { x.model = `{"ombak": "score model", "version": 1}` },
		"the zone":     func(x *scoring) { x.model = `{"ombak": "score model", "version": 1, "zone": "Sea"}` },
		"no column":    func(x *scoring) { x.people = "name\nAna\n" },
		"there twice":  func(x *scoring) { x.people = "id\nana\nana\n" },
		"no person":    func(x *scoring) { x.signals = "person,at,kind\nzed,2026-04-14T09:00:00Z,open\n" },
		"no instant":   func(x *scoring) { x.signals = "person,at,kind\nana,yesterday,open\n" },
		"the kind":     func(x *scoring) { x.signals = "person,at,kind\nana,2026-04-14T09:00:00Z,nod\n" },
		"no whole": func(x *scoring) {
			x.signals = "person,at,kind,points\nana,2026-04-14T09:00:00Z,open,x\n"
		},
		"is no number": func(x *scoring) {
			x.signals = "person,at,kind,page\nana,2026-04-14T09:00:00Z,open,-1\n"
		},
		"gives no point": func(x *scoring) {
			x.model = `{"ombak": "score model", "version": 1, "model": {"name": "m", "rules": [{"on": {"kind": 4}}]}}`
		},
		"at most 100": func(x *scoring) {
			x.model = `{"ombak": "score model", "version": 1, "model": {"rules": [` + strings.Repeat("{},", 100) + `{}]}}`
		},
		"this is no":  func(x *scoring) { x.model = "[]" },
		"more than 2": func(x *scoring) { x.model = strings.Repeat(" ", MaxFile+1) },
		"no number":   func(x *scoring) { x.signals = "person,at,kind,link\nana,2026-04-14T09:00:00Z,open,x\n" },
		"yes or no":   func(x *scoring) { x.signals = "person,at,kind,machine\nana,2026-04-14T09:00:00Z,open,maybe\n" },
		"country":     func(x *scoring) { x.people = "id,country\nana,Atlantis\n" },
	} {
		x := good
		change(&x)
		var got bytes.Buffer
		if err := x.run(&got); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
}
