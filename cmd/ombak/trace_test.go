package main

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const example = "../../docs/examples/trace/"

func usual() tracing {
	return tracing{sequence: example + "sequence.json", people: example + "people.csv",
		signals: example + "signals.csv", outcomes: example + "outcomes.csv", until: "2026-05-10T00:00:00Z", zone: "UTC"}
}

// The example of the documentation gives what the documentation says, from CSV and from
// JSON alike. Its instants were reckoned by hand: Oslo is two hours before UTC in April,
// St John's two and a half behind, Lord Howe ten and a half before since 5 April.
func TestTheTraceOfTheDocumentation(t *testing.T) {
	want, err := os.ReadFile(example + "steps.csv")
	if err != nil {
		t.Fatal(err)
	}
	var got bytes.Buffer
	if err := usual().run(&got); err != nil || got.String() != string(want) {
		t.Errorf("%v\n%s", err, got.String())
	}
	x := usual()
	for _, file := range []*string{&x.people, &x.signals, &x.outcomes} {
		*file = asJSON(t, *file)
	}
	got.Reset()
	if err := x.run(&got); err != nil || got.String() != string(want) {
		t.Errorf("from JSON: %v\n%s", err, got.String())
	}
	formats, err := os.ReadFile("../../docs/formats.md")
	if err != nil || !strings.Contains(string(formats), strings.SplitN(string(want), "\n", 5)[3]) {
		t.Errorf("the documentation shows another example: %v", err)
	}
	// The launch hold keeps everything for a working day of the usual zone.
	x.launched = "2026-04-14T07:20:00Z"
	got.Reset()
	if err := x.run(&got); err != nil || !strings.Contains(got.String(), "ana,1,2026-04-15T07:20:00Z,next") {
		t.Errorf("held: %v\n%s", err, got.String())
	}
}

// asJSON writes a file of CSV as a list of objects.
func asJSON(t *testing.T, file string) string {
	t.Helper()
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	list, err := csv.NewReader(f).ReadAll()
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
	return kept(t, filepath.Base(file)+".json", string(body))
}

func kept(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// Whatever is wrong with a file is said with its row, and nothing is run.
func TestFilesThatCannotBeTraced(t *testing.T) {
	const people, signals, outcomes = "id,entered\n", "person,at,kind\n", "person,step,at,outcome\n"
	for _, c := range []struct{ file, text, want string }{
		{"people", "", "names the columns"}, {"people", "id\nana\n", `no column "entered"`},
		{"people", people + "ana,yesterday\n", "no instant"}, {"people", people + "ana,\n", "when they entered"},
		{"people", people + "ana,2026-04-14T07:20:00Z\nana,2026-04-14T07:20:00Z\n", "row 3"},
		{"people", "id,entered,score\nana,2026-04-14T07:20:00Z,NaN\n", "no number"},
		{"people", "id,entered,country\nana,2026-04-14T07:20:00Z,Atlantis\n", "country"},
		{"people", "id,entered,bounced\nana,2026-04-14T07:20:00Z,perhaps\n", "yes or no"},
		{"people", "id,entered\n\"ana", "people"}, {"people", `[{"id":"ana"}]`, `no "entered"`},
		{"people", `[{"id":["ana"],"entered":""}]`, "id is a text"}, {"people", `[{`, "no list of objects"},
		{"signals", signals + "zoe,2026-04-14T07:20:00Z,click\n", `no person "zoe"`},
		{"signals", signals + "ana,2026-04-14T07:20:00Z,waved\n", "the kind"},
		{"signals", "person,at,kind,step\nana,2026-04-14T07:20:00Z,click,-1\n", "no number"},
		{"outcomes", outcomes + "ana,1,2026-04-14T07:20:00Z,done\n", "none that somebody does"},
		{"outcomes", outcomes + "ana,3,2026-04-14T07:20:00Z,talked\n", "no outcome of a task"},
		{"sequence", `{}`, "no file of a sequence"}, {"sequence", `[`, "no file of a sequence"},
		{"sequence", `{"ombak":"sequence","version":2}`, "version 2"},
		{"sequence", `{"ombak":"sequence","version":1}`, "no plan"},
		{"sequence", `{"ombak":"sequence","version":1,"plan":{"start":1,"steps":[{"kind":"rocket","id":1}]}}`, "rocket"},
		{"sequence", `{"ombak":"sequence","version":1,"plan":{"start":1,"steps":[{"kind":"end","id":1},` +
			`{"kind":"end","id":1}]}}`, "id 1"},
		{"sequence", `{"ombak":"sequence","version":1,"plan":{"start":1,"steps":[{"kind":"pause","id":1,` +
			`"for":{"n":1,"unit":"days"},"to":{"next":9}}]}}`, "leads nowhere"},
		{"sequence", `{"ombak":"sequence","version":1,"plan":{"start":7,"steps":[{"kind":"end","id":1}]}}`,
			"begins at no step"},
		{"sequence", `{"ombak":"sequence","version":1,"plan":{"start":1,"steps":[{"kind":"pause","id":1,` +
			`"for":{"n":1,"unit":"days"},"to":{"next":1}}]}}`, "leads back"},
		{"sequence", `{"ombak":"sequence","version":1,"plan":{"start":1,"steps":[{"kind":"end","id":1}]}}`,
			"no interval"},
	} {
		x := usual()
		path := kept(t, "file", c.text)
		switch c.file {
		case "people":
			x.people, x.signals, x.outcomes = path, "", ""
		case "signals":
			x.signals = path
		case "outcomes":
			x.outcomes = path
		case "sequence":
			x.sequence = path
		}
		var out bytes.Buffer
		if err := x.run(&out); err == nil || !strings.Contains(err.Error(), c.want) || out.Len() > 0 {
			t.Errorf("%s %q: %v, want %q", c.file, c.text, err, c.want)
		}
	}
}

// `ombak check` names what is wrong, by its step.
func TestCheckOfAFile(t *testing.T) {
	var out bytes.Buffer
	if n, err := check(example+"sequence.json", &out); n != 0 || err != nil ||
		!strings.Contains(out.String(), "nothing keeps it") {
		t.Errorf("%d, %v: %s", n, err, out.String())
	}
	whole, err := os.ReadFile(example + "sequence.json")
	if err != nil {
		t.Fatal(err)
	}
	out.Reset()
	path := kept(t, "s.json", strings.Replace(string(whole), `"message": 11`, `"message": 0`, 1))
	if n, err := check(path, &out); n != 1 || err != nil || out.String() != "step 1 “The loan”: has no message yet\n" {
		t.Errorf("%d, %v: %s", n, err, out.String())
	}
}
