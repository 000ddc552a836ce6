// Package folder is the one tree in which everything that is made lies: folders within
// folders, each with a name of its own beside the others in the same one, and what it is for.
//
// A path names a folder from the top: "Spring / Clinic". Names compare as those of people and
// things do, without regard to case and outer spaces.
package folder

import (
	"slices"
	"strings"
	"unicode/utf8"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
)

// Kind is a kind of thing that lies in folders.
type Kind string

// The kinds, as they are kept.
const (
	Sequence Kind = "sequence"
	Message  Kind = "message"
	Page     Kind = "page"
	Email    Kind = "email" // a one-off email
	Event    Kind = "event"
	Shelf    Kind = "shelf"
	Audience Kind = "audience"
	Model    Kind = "model" // of scores
)

// Kinds lists them, in the order in which a folder shows what is in it.
func Kinds() []Kind { return []Kind{Sequence, Message, Page, Email, Event, Shelf, Audience, Model} }

// Folder is a folder.
type Folder struct {
	ID     int64
	Parent int64 // 0: it lies at the top
	Name   string
	Note   string // what it is for
}

// Bounds of the tree.
const (
	Most    = 1000 // folders
	Deepest = 6    // one within another
	maxName = 60
	MaxNote = 200
)

// Errors of folders.
var (
	ErrName    = plainly.New("give the folder a name")
	ErrLong    = plainly.Errorf("a folder’s name has at most %d letters, and no /", maxName)
	ErrNote    = plainly.Errorf("what something is for has at most %d letters", MaxNote)
	ErrDeep    = plainly.Errorf("folders lie at most %d deep", Deepest)
	ErrTaken   = plainly.New("there is a folder of that name there already")
	ErrCircle  = plainly.New("a folder cannot lie within itself")
	ErrTooMany = plainly.Errorf("there are at most %d folders", Most)
	ErrGone    = plainly.New("this folder is not there any more")
)

// Name is a folder's name as it is kept, or what is wrong with it.
func Name(name string) (string, error) {
	if utf8.RuneCountInString(strings.TrimSpace(name)) > maxName || strings.Contains(name, "/") {
		return "", ErrLong
	}
	if name = person.Name(name); name == "" {
		return "", ErrName
	}
	return name, nil
}

// ReadPath reads a path: "Spring / Clinic". An empty one is the top.
func ReadPath(path string) ([]string, error) {
	var out []string
	for part := range strings.SplitSeq(path, "/") {
		if person.Name(part) == "" {
			continue // a slash too many names nothing
		}
		name, err := Name(part)
		if err != nil {
			return nil, err
		}
		if out = append(out, name); len(out) > Deepest {
			return nil, ErrDeep
		}
	}
	return out, nil
}

// Tree is all folders.
type Tree []Folder

// Find is a folder by its number; false where there is none.
func (t Tree) Find(id int64) (Folder, bool) {
	i := slices.IndexFunc(t, func(f Folder) bool { return f.ID == id })
	if i < 0 {
		return Folder{}, false
	}
	return t[i], true
}

// Within lists the folders that lie in one, 0 for the top, by their names.
func (t Tree) Within(parent int64) []Folder {
	var out []Folder
	for _, f := range t {
		if f.Parent == parent {
			out = append(out, f)
		}
	}
	slices.SortFunc(out, func(a, b Folder) int { return strings.Compare(person.Plain(a.Name), person.Plain(b.Name)) })
	return out
}

// Way lists the folders from the top down to one, itself the last.
func (t Tree) Way(id int64) []Folder {
	var out []Folder
	for f, ok := t.Find(id); ok && len(out) <= len(t); f, ok = t.Find(f.Parent) {
		out = append(out, f)
	}
	slices.Reverse(out)
	return out
}

// Path names a folder from the top; empty for the top itself.
func (t Tree) Path(id int64) string {
	var names []string
	for _, f := range t.Way(id) {
		names = append(names, f.Name)
	}
	return strings.Join(names, " / ")
}

// In reports whether a folder is another, or lies anywhere within it.
func (t Tree) In(id, outer int64) bool {
	return slices.ContainsFunc(t.Way(id), func(f Folder) bool { return f.ID == outer })
}

// At finds the folder that names lead to, as far as they do, and the names that are left.
func (t Tree) At(names []string) (id int64, left []string) {
	for i, name := range names {
		list := t.Within(id)
		n := slices.IndexFunc(list, func(f Folder) bool { return same(f.Name, name) })
		if n < 0 {
			return id, names[i:]
		}
		id = list[n].ID
	}
	return id, nil
}

// Without is the tree without one folder.
func (t Tree) Without(id int64) Tree {
	return slices.DeleteFunc(slices.Clone(t), func(f Folder) bool { return f.ID == id })
}

// Check reports what keeps a folder, new with number 0, from having a name in another.
func (t Tree) Check(f Folder) error {
	if _, ok := t.Find(f.Parent); f.Parent != 0 && !ok {
		return ErrGone
	}
	if f.ID != 0 && t.In(f.Parent, f.ID) {
		return ErrCircle
	}
	if f.ID == 0 && len(t) >= Most {
		return ErrTooMany
	}
	if len(t.Way(f.Parent))+t.depth(f.ID) > Deepest {
		return ErrDeep
	}
	if slices.ContainsFunc(t.Within(f.Parent), func(x Folder) bool { return x.ID != f.ID && same(x.Name, f.Name) }) {
		return ErrTaken
	}
	if utf8.RuneCountInString(f.Note) > MaxNote {
		return ErrNote
	}
	return nil
}

// depth is how many folders deep one is, itself counted.
func (t Tree) depth(id int64) int {
	deepest := 0
	for _, f := range t {
		if id != 0 && f.ID != id && t.In(f.ID, id) {
			deepest = max(deepest, len(t.Way(f.ID))-len(t.Way(id)))
		}
	}
	return deepest + 1
}

func same(a, b string) bool { return strings.EqualFold(person.Name(a), person.Name(b)) }
