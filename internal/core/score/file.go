package score

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
)

// File is a model as a file holds it, for other workspaces, version control and the command that counts by it. What it
// refers to by number is named in Names, so that it can be found again elsewhere.
type File struct {
	Ombak   string                         `json:"ombak"`          // FileKind
	Version int                            `json:"version"`        // FileVersion
	Zone    string                         `json:"zone,omitempty"` // whose days are counted; empty: UTC
	Model   Model                          `json:"model"`
	Names   map[rule.Ref]map[string]string `json:"names,omitempty"` // of each kind, by number
}

// FileKind and FileVersion stand at the beginning of each file; MaxFile bounds it, in bytes.
const (
	FileKind    = "score model"
	FileVersion = 1
	MaxFile     = 2 << 20
)

// Refer visits every number by which the model refers to something, for it to be read or set anew.
func (m *Model) Refer(visit func(what rule.Ref, id *int64)) {
	for i := range m.Rules {
		rule.ReferPlace(&m.Rules[i].On.Place, visit)
		m.Rules[i].If.Refer(visit)
	}
	for i := range m.Fit {
		m.Fit[i].If.Refer(visit)
	}
	for i := range m.Follows {
		acts := slices.Clone(m.Follows[i].Acts) // they are shared with whom the model was copied from
		for j, a := range acts {
			if a.Act == nil {
				continue // which Check refuses
			}
			k := a.Kind()
			g := k.Given(a.Act)
			if k.Takes == act.AMessage {
				purpose, _ := strconv.ParseInt(g.Field, 10, 64) // which it was made from
				visit(rule.PurposeRef, &purpose)
				g.Field = strconv.FormatInt(purpose, 10)
			}
			if what, ok := actRefs[k.Takes]; ok {
				visit(what, &g.ID)
				acts[j] = act.Kept{Act: k.Make(g)}
			}
		}
		m.Follows[i].Acts = acts
	}
}

var actRefs = map[act.Takes]rule.Ref{act.AnAudience: rule.AudienceRef, act.AMessage: rule.MessageRef,
	act.ASequence: rule.SequenceRef, act.AStage: rule.StageRef, act.APurpose: rule.PurposeRef}

// NewFile is a model as a file, with the names that a workspace has for what it refers to.
func NewFile(m Model, cat *rule.Catalogue) *File {
	f := &File{Ombak: FileKind, Version: FileVersion, Model: m, Names: map[rule.Ref]map[string]string{}}
	if m.Zone != nil {
		f.Zone = m.Zone.String()
	}
	lists := cat.Lists()
	f.Model.Refer(func(what rule.Ref, id *int64) {
		i := slices.IndexFunc(lists[what], func(n rule.Named) bool { return n.ID == *id })
		if *id == 0 || i < 0 {
			return
		}
		if f.Names[what] == nil {
			f.Names[what] = map[string]string{}
		}
		f.Names[what][strconv.FormatInt(*id, 10)] = lists[what][i].Name
	})
	return f
}

// ReadFile reads a file. What it cannot be is an error that users may read.
func ReadFile(r io.Reader) (*File, error) {
	data, err := io.ReadAll(io.LimitReader(r, MaxFile+1))
	if err != nil {
		return nil, fmt.Errorf("reading a score model: %w", err)
	}
	if len(data) > MaxFile {
		return nil, plainly.Errorf("the file has more than %d MB", MaxFile>>20)
	}
	var f File
	if err := json.Unmarshal(data, &f); err != nil {
		return nil, plainly.New("this is no file of a score model: " + err.Error())
	}
	switch {
	case f.Ombak != FileKind:
		return nil, plainly.Errorf(`this is no file of a score model: "ombak" is %q and not %q`, f.Ombak, FileKind)
	case f.Version != FileVersion:
		return nil, plainly.Errorf("the file is of version %d; this program reads version %d", f.Version, FileVersion)
	case len(f.Model.Rules) > MaxRules:
		return nil, plainly.Errorf("a model has at most %d rules", MaxRules)
	}
	if f.Zone != "" {
		if f.Model.Zone, err = calendar.Zone(f.Zone); err != nil {
			return nil, plainly.Errorf("the zone %q is none of the tz database", f.Zone)
		}
	}
	return &f, f.Model.Tidy()
}

// In is the model for a workspace: what it refers to is found by its name, of several the one that was there first.
// What is not there is an error, with its name: without it a rule would ask for something else.
func (f *File) In(cat *rule.Catalogue) (Model, error) {
	lists := cat.Lists()
	var missing []string
	f.Model.Refer(func(what rule.Ref, id *int64) {
		if *id == 0 {
			return
		}
		name, named := f.Names[what][strconv.FormatInt(*id, 10)]
		var found int64
		for _, n := range lists[what] {
			if named && strings.EqualFold(n.Name, name) && (found == 0 || n.ID < found) {
				found = n.ID
			}
		}
		if found != 0 {
			*id = found
			return
		}
		text := fmt.Sprintf("%s “%s”", what, name)
		if !named {
			text = fmt.Sprintf("%s %d", what, *id)
		}
		if !slices.Contains(missing, text) && len(missing) < 20 {
			missing = append(missing, text)
		}
	})
	if len(missing) > 0 {
		return Model{}, plainly.Errorf("the model asks for what is not here: %s", strings.Join(missing, ", "))
	}
	for i := range f.Model.Follows { // users and teams are nobody’s elsewhere: what is for them is for the owner
		for j, a := range f.Model.Follows[i].Acts {
			if a.Act == nil {
				continue
			}
			k := a.Kind()
			g := k.Given(a.Act)
			g.To, g.Team = 0, 0
			f.Model.Follows[i].Acts[j] = act.Kept{Act: k.Make(g)}
		}
	}
	return f.Model, nil
}

// Catalogue is what the file says there is, by its names.
func (f *File) Catalogue() *rule.Catalogue {
	c := &rule.Catalogue{Models: []rule.Scored{{Name: f.Model.Name, Bands: f.Model.Bands, FitBands: f.Model.FitBands,
		Fit: f.Model.Fit}}}
	to := map[rule.Ref]*[]rule.Named{rule.TagRef: &c.Tags, rule.AudienceRef: &c.Audiences,
		rule.SequenceRef: &c.Sequences, rule.PurposeRef: &c.Purposes, rule.StageRef: &c.Stages,
		rule.EventRef: &c.Events, rule.MessageRef: &c.Messages, rule.PageRef: &c.Pages}
	for what, names := range f.Names {
		for number, name := range names {
			id, err := strconv.ParseInt(number, 10, 64)
			if list := to[what]; err == nil && list != nil {
				*list = append(*list, rule.Named{ID: id, Name: name})
			} else if err == nil && what == rule.FieldRef {
				c.Own = append(c.Own, person.Definition{Field: person.Own(id), Name: name, Type: person.Text})
			}
		}
	}
	return c
}

// Write writes the file, so that versions of it can be told apart line by line.
func (f *File) Write(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(f)
}
