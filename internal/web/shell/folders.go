package shell

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/folder"
)

// ThingLink is where things of a kind are found, and how the kind is called.
type ThingLink struct{ Icon, Path, Word, Plural string }

// ThingLinks are those of all that lies in folders.
var ThingLinks = map[folder.Kind]ThingLink{
	folder.Sequence: {"waves", "/sequences/%d", "sequence", "Sequences"},
	folder.Message:  {"envelope-simple", "/content/messages/%d", "message", "Messages"},
	folder.Page:     {"globe", "/content/pages/%d", "page", "Pages"},
	folder.Email:    {"paper-plane-tilt", "/content/emails/%d", "one-off email", "One-off emails"},
	folder.Event:    {"calendar-blank", "/content/events/%d", "event", "Events"},
	folder.Shelf:    {"paperclip", "/content/shelf/%d", "shelf item", "Shelf"},
	folder.Audience: {"users-three", "/people/audiences/%d", "audience", "Audiences"},
	folder.Model:    {"chart-line-up", "/scoring?model=%d", "score model", "Score models"},
}

// Folders is the part of the tree that a list of things of one kind shows: the way down to
// where one is, and what lies below.
type Folders struct {
	Kind   folder.Kind
	Base   string // the list's address
	Here   int64  // 0: everything
	Way    []folder.Folder
	Within []FolderCount
	All    int
	Rest   int    // how many more there are than are shown
	Whole  string // where all are shown
	Entire bool   // all are asked for

	tree folder.Tree
	lie  map[int64]int64
}

// FolderCount is a folder with how many of the list lie in it, or below.
type FolderCount struct {
	folder.Folder
	N int
}

// Folders reads where the things of a list lie, which are all of a kind at an address.
func (s *Shell) Folders(c *echo.Context, kind folder.Kind, base string) (*Folders, error) {
	ctx := c.Request().Context()
	q := c.QueryParams()
	f := &Folders{Kind: kind, Base: base, Entire: q.Get("rest") != ""}
	whole := maps.Clone(q)
	whole.Set("rest", "1")
	f.Whole = base + "?" + whole.Encode()
	var err error
	if f.tree, err = s.Store.Folders(ctx); err != nil {
		return nil, err
	}
	if f.lie, err = s.Store.Filed(ctx, kind); err != nil {
		return nil, err
	}
	// A folder that is not there any more shows everything.
	here, err := strconv.ParseInt(c.QueryParam("folder"), 10, 64)
	if _, ok := f.tree.Find(here); err == nil && ok {
		f.Here, f.Way = here, f.tree.Way(here)
	}
	for _, x := range f.tree.Within(f.Here) {
		f.Within = append(f.Within, FolderCount{Folder: x})
	}
	return f, nil
}

// InFolder leaves, of a list, what lies in the folder that is shown, or below it, and counts
// for those that lie in it.
func InFolder[T any](f *Folders, list []T, id func(*T) int64) []T {
	f.All = len(list)
	at := map[int64]int{} // folder → its place among those that are shown
	for i := range f.Within {
		at[f.Within[i].ID] = i
	}
	return slices.DeleteFunc(list, func(x T) bool {
		in := f.Here == 0
		for _, outer := range f.tree.Way(f.lie[id(&x)]) {
			if i, shown := at[outer.ID]; shown {
				f.Within[i].N++
			}
			in = in || outer.ID == f.Here
		}
		return !in
	})
}

// firstShown is how many things a list shows until the rest is asked for.
const firstShown = 100

// Firsts are those of a list that are shown until the rest is asked for.
func Firsts[T any](f *Folders, list []T) []T {
	if f.Entire || len(list) <= firstShown {
		return list
	}
	f.Rest = len(list) - firstShown
	return list[:firstShown]
}

// Again is the address of the same list, as it is shown.
func (f *Folders) Again() string {
	v := url.Values{}
	if f.Here != 0 {
		v.Set("folder", strconv.FormatInt(f.Here, 10))
	}
	if f.Entire {
		v.Set("rest", "1")
	}
	if len(v) == 0 {
		return f.Base
	}
	return f.Base + "?" + v.Encode()
}

// Any reports whether there is any folder.
func (f *Folders) Any() bool { return len(f.tree) > 0 }

// Where is the path of the folder in which a thing lies.
func (f *Folders) Where(id int64) string { return f.tree.Path(f.lie[id]) }

// Put is the address at which a thing is put into a folder.
func (f *Folders) Put(id int64) string {
	back := f.Base
	if f.Here != 0 {
		back += fmt.Sprintf("?folder=%d", f.Here)
	}
	return "/content/folders/file?" + url.Values{"kind": {string(f.Kind)}, "id": {fmt.Sprint(id)},
		"back": {back}}.Encode()
}
