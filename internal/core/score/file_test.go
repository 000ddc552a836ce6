package score

import (
	"bytes"
	"reflect"
	"strings"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// A model that goes out as a file comes in again as it was, and in another workspace asks for what has the same names.
func TestFilesOfModels(t *testing.T) {
	here := &rule.Catalogue{Tags: []rule.Named{{ID: 2, Name: "Hot"}}, Messages: []rule.Named{{ID: 5, Name: "Spring"}},
		Own: []person.Definition{{Field: person.Own(3), Name: "Pens", Type: person.Number}}}
	m := Model{Name: "m", Line: 15, LastID: 2, Rules: []Rule{
		{ID: 1, On: signal.Pattern{Kind: signal.Click, Place: signal.Place{Message: 5, Link: 2}}, Points: 3,
			If: rule.ThingIs(rule.Tag, 2)},
		{ID: 2, On: on(signal.Open), Points: 1}},
		Fit: rule.Fit{{If: rule.Rule{If: &rule.Condition{Field: person.Own(3), Op: rule.AtLeast, Value: "2"}}, Points: 5}}}
	var out bytes.Buffer
	if err := NewFile(m.Clone(), here).Write(&out); err != nil {
		t.Fatal(err)
	}
	read := func() *File {
		f, err := ReadFile(strings.NewReader(out.String()))
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	if got, err := read().In(here); err != nil || !reflect.DeepEqual(got, m) {
		t.Errorf("came back as %+v, %v", got, err)
	}
	there := &rule.Catalogue{Tags: []rule.Named{{ID: 40, Name: "hot"}, {ID: 30, Name: "Hot"}},
		Messages: []rule.Named{{ID: 7, Name: "Spring"}},
		Own:      []person.Definition{{Field: person.Own(9), Name: "pens", Type: person.Number}}}
	got, err := read().In(there)
	if err != nil || got.Rules[0].On.Message != 7 || got.Rules[0].On.Link != 2 || got.Rules[0].If.If.ID != 30 ||
		got.Fit[0].If.If.Field != person.Own(9) {
		t.Errorf("elsewhere it is %+v, %v", got, err)
	}
	if _, err := read().In(&rule.Catalogue{Messages: there.Messages, Own: there.Own}); err == nil ||
		!strings.Contains(err.Error(), "tag “Hot”") {
		t.Errorf("a tag that is not there: %v", err)
	}
	if c := read().Catalogue(); c.Tags[0].Name != "Hot" || c.Own[0].Name != "Pens" || c.Messages[0].ID != 5 {
		t.Errorf("it says that there is %+v", c)
	}
}

func FuzzReadFile(f *testing.F) {
	f.Add([]byte(`{"ombak": "score model", "version": 1, "model": {"name": "m", "rules": [{"on": {"kind": 4}, "points": 1}]}}`))
	f.Add([]byte(`{"ombak": "score model", "version": 1, "names": {"tag": {"x": "y"}}}`))
	f.Add([]byte(`{"ombak": "score model", "version": 1, "model": {"name": "m", "follows": [{"acts": [null, {"do": "tag",
		"what": "x"}, {"do": "enrol", "id": 3, "to": 4}]}]}, "names": {"sequence": {"3": "y"}}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := ReadFile(bytes.NewReader(data))
		if err != nil {
			return
		}
		cat := file.Catalogue()
		if file.Model.Check(cat) == nil {
			for i := range file.Model.Rules {
				file.Model.Rules[i].Words(cat)
			}
		}
		Differences(&file.Model, &Model{}, cat)
		if _, err := file.In(cat); err != nil && len(file.Names) == 0 && file.Model.Name != "" {
			return // asks for numbers that it does not name
		}
	})
}
