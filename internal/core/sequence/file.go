package sequence

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"

	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
	"ombak/internal/core/plainly"
)

// File is a sequence as a file holds it, for other workspaces, version control and the
// commands that check and trace it. What its plan refers to by number is named in Names,
// so that it can be found again elsewhere.
type File struct {
	Ombak   string                         `json:"ombak"`   // FileKind
	Version int                            `json:"version"` // FileVersion
	Name    string                         `json:"name"`
	For     string                         `json:"for,omitempty"` // what it is for
	Plan    *Plan                          `json:"plan"`
	Entry   *Entry                         `json:"entry,omitempty"` // who enters; nil: nobody yet
	Names   map[PartKind]map[string]string `json:"names,omitempty"` // of each kind, by number
	// Events are those that the plan is reckoned from, by number, as they are.
	Events map[int64]event.Event `json:"events,omitempty"`
	// Holidays are those of each country that are to be kept, by its code.
	Holidays map[string][]calendar.Date `json:"holidays,omitempty"`
}

// HolidaysOf are those of a country.
func (f *File) HolidaysOf(country string) (calendar.Holidays, error) {
	list := f.Holidays[country]
	if len(list) > calendar.MaxHolidays {
		return nil, plainly.Errorf("the file has more than %d holidays of %s", calendar.MaxHolidays, country)
	}
	if len(list) == 0 {
		return nil, nil
	}
	out := make(calendar.Holidays, len(list))
	for _, d := range list {
		out[d] = true
	}
	return out, nil
}

// FileKind and FileVersion stand at the beginning of each file.
const (
	FileKind    = "sequence"
	FileVersion = 1
)

// MaxFile bounds a file, in bytes.
const MaxFile = 2 << 20

// ReadFile reads a file. What it cannot be is an error that users may read.
func ReadFile(r io.Reader) (*File, error) {
	data, err := io.ReadAll(io.LimitReader(r, MaxFile+1))
	if err != nil {
		return nil, fmt.Errorf("reading a sequence: %w", err)
	}
	if len(data) > MaxFile {
		return nil, plainly.Errorf("the file has more than %d MB", MaxFile>>20)
	}
	var f File
	d := json.NewDecoder(bytes.NewReader(data))
	if err := d.Decode(&f); err != nil {
		if text, ok := plainly.Says(err); ok {
			return nil, plainly.New(text)
		}
		return nil, plainly.Errorf("this is no file of a sequence: %v", err)
	}
	switch {
	case f.Ombak != FileKind:
		return nil, plainly.Errorf(`this is no file of a sequence: "ombak" is %q and not %q`, f.Ombak, FileKind)
	case f.Version != FileVersion:
		return nil, plainly.Errorf("the file is of version %d; this program reads version %d", f.Version, FileVersion)
	case f.Plan == nil:
		return nil, plainly.New("the file has no plan")
	}
	if err := f.Plan.whole(); err != nil {
		return nil, err
	}
	for id, e := range f.Events {
		if err := e.Check(); err != nil {
			return nil, plainly.Errorf("event %d: %w", id, err)
		}
	}
	return &f, nil
}

// whole reports what nobody could draw: steps with one id, exits that lead nowhere,
// steps that the start does not lead to.
func (p *Plan) whole() error {
	seen := map[StepID]bool{}
	for _, s := range p.Steps {
		id := s.About().ID
		if id <= 0 || seen[id] {
			return plainly.Errorf("two steps have the id %d, or it is none", id)
		}
		seen[id] = true
		p.LastID = max(p.LastID, id)
	}
	for _, s := range p.Steps {
		for _, e := range s.Exits() {
			if !seen[s.About().To[e]] {
				return plainly.Errorf("step %d: its exit %q leads nowhere", s.About().ID, e)
			}
		}
	}
	if !seen[p.Start] {
		return plainly.New("the plan begins at no step")
	}
	if _, ok := p.order(); !ok {
		return plainly.New("the plan leads back to itself")
	}
	p.prune()
	return nil
}

// Write writes the file, so that versions of it can be told apart line by line.
func (f *File) Write(w io.Writer) error {
	f.Ombak, f.Version = FileKind, FileVersion
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(f)
}
