package content

import (
	"fmt"
	"net/http"
	"net/url"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/folder"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/setup"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

func (s *Place) folderRoutes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	g := in.Group("/content/folders")
	g.GET("", s.folders)
	g.POST("", s.keepFolder, writes)
	g.POST("/remove", s.removeFolder, writes)
	g.GET("/file", s.filing, writes)
	g.POST("/file", s.file, writes)
}

type foldersData struct {
	Tree  []folderLine
	Here  folder.Folder
	Path  string
	Paths []string
	In    []folder.Folder // that lie in the one that is shown
	Kinds []filedKind
}

// folderLine is a folder in the tree, as deep as it lies.
type folderLine struct {
	folder.Folder
	Deep int
}

// filedKind is what lies in a folder of one kind.
type filedKind struct {
	shell.ThingLink
	Kind folder.Kind
	List []store.FiledThing
}

// Href is where a thing is found.
func (k filedKind) Href(id int64) string { return fmt.Sprintf(k.Path, id) }

// folders shows the whole tree, and all that lies in one folder, of every kind.
func (s *Place) folders(c *echo.Context) error {
	ctx := c.Request().Context()
	tree, err := s.Store.Folders(ctx)
	if err != nil {
		return err
	}
	d := foldersData{Paths: paths(tree)}
	var down func(parent int64, deep int)
	down = func(parent int64, deep int) {
		for _, f := range tree.Within(parent) {
			d.Tree = append(d.Tree, folderLine{f, deep})
			down(f.ID, deep+1)
		}
	}
	down(0, 0)
	if f, ok := tree.Find(shell.Number(c.QueryParam("folder"))); ok {
		d.Here, d.Path, d.In = f, tree.Path(f.Parent), tree.Within(f.ID)
		list, err := s.Store.InFolder(ctx, f.ID)
		if err != nil {
			return err
		}
		for _, kind := range folder.Kinds() {
			k := filedKind{ThingLink: shell.ThingLinks[kind], Kind: kind}
			for _, x := range list {
				if x.Kind == kind {
					k.List = append(k.List, x)
				}
			}
			if len(k.List) > 0 {
				d.Kinds = append(d.Kinds, k)
			}
		}
	}
	return s.Page(c, "folders.html", "", "Content", "Folders", d)
}

// paths are all folders by their paths.
func paths(tree folder.Tree) (out []string) {
	for _, f := range tree {
		out = append(out, tree.Path(f.ID))
	}
	return out
}

func folderAddress(id int64) string {
	if id == 0 {
		return "/content/folders"
	}
	return fmt.Sprintf("/content/folders?folder=%d", id)
}

// keepFolder makes a folder, or changes the one that is shown.
func (s *Place) keepFolder(c *echo.Context) error {
	ctx := c.Request().Context()
	id := max(shell.Number(c.FormValue("id")), 0)
	f := folder.Folder{ID: id, Name: c.FormValue("name"), Note: c.FormValue("note")}
	names, err := folder.ReadPath(c.FormValue("within"))
	if err == nil {
		var tree folder.Tree
		if tree, err = s.Store.Folders(ctx); err != nil {
			return err
		}
		var left []string
		if f.Parent, left = tree.At(names); len(left) > 0 {
			err = plainly.Errorf("there is no folder “%s”", c.FormValue("within"))
		}
	}
	if err == nil {
		f.ID, err = s.Engine.KeepFolder(ctx, f)
	}
	if err != nil {
		return s.NotDone(c, folderAddress(id), shell.Sentence(err))
	}
	return s.Done(c, folderAddress(f.ID), "Kept.")
}

func (s *Place) removeFolder(c *echo.Context) error {
	ctx := c.Request().Context()
	id := shell.Number(c.FormValue("id"))
	tree, err := s.Store.Folders(ctx)
	if err != nil {
		return err
	}
	f, _ := tree.Find(id)
	if err := s.Engine.RemoveFolder(ctx, id); err != nil {
		return s.NotDone(c, folderAddress(id), shell.Sentence(err))
	}
	return s.Done(c, folderAddress(f.Parent), fmt.Sprintf("“%s” is removed. What lay in it lies where it lay.", f.Name))
}

type filingData struct {
	Thing shell.ThingLink
	X     store.FiledThing
	Path  string
	Paths []string
	Back  string
	Wrong string
}

// filing asks where a thing is to lie, and what it is for.
func (s *Place) filing(c *echo.Context) error {
	d, err := s.thing(c)
	if err != nil {
		return err
	}
	return s.Page(c, "filing.html", "", "Content", "Into a folder", d)
}

func (s *Place) thing(c *echo.Context) (d filingData, err error) {
	ctx := c.Request().Context()
	kind := folder.Kind(c.FormValue("kind"))
	if d.X, err = s.Store.FiledThing(ctx, kind, shell.Number(c.FormValue("id"))); err != nil {
		return d, err
	}
	tree, err := s.Store.Folders(ctx)
	if err != nil {
		return d, err
	}
	d.Thing, d.Path, d.Paths = shell.ThingLinks[kind], tree.Path(d.X.Folder), paths(tree)
	if d.Back = shell.LocalPath(c.FormValue("back")); d.Back == "" {
		d.Back = folderAddress(d.X.Folder)
	}
	return d, nil
}

// file puts a thing into a folder: one that is named, which is made where it is not there, or
// one it was dragged to.
func (s *Place) file(c *echo.Context) error {
	ctx := c.Request().Context()
	d, err := s.thing(c)
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	f := setup.Filing{Kind: d.X.Kind, ID: d.X.ID, Path: v.Get("path")}
	if v.Has("into") {
		into := max(shell.Number(v.Get("into")), 0)
		f.Into = &into
	}
	if v.Has("note") {
		note := v.Get("note")
		f.Note = &note
	}
	into, name, err := s.Engine.File(ctx, f)
	switch {
	case err != nil && f.Into != nil:
		return s.NotDone(c, d.Back, shell.Sentence(err))
	case store.IsNotFound(err):
		return err
	case err != nil:
		d.Path, d.X.Note, d.Wrong = f.Path, v.Get("note"), shell.Sentence(err)
		return s.PageCode(c, http.StatusUnprocessableEntity, "filing.html", "", "Content", "Into a folder", d)
	}
	tree, err := s.Store.Folders(ctx)
	if err != nil {
		return err
	}
	note := fmt.Sprintf("“%s” lies in no folder.", name)
	if into != 0 {
		note = fmt.Sprintf("“%s” lies in %s.", name, tree.Path(into))
	}
	if into == d.X.Folder {
		return s.Done(c, d.Back, note)
	}
	return s.DoneUndo(c, d.Back, note, "/content/folders/file?"+url.Values{"kind": {string(d.X.Kind)},
		"id": {fmt.Sprint(d.X.ID)}, "into": {fmt.Sprint(d.X.Folder)}, "back": {d.Back}}.Encode())
}
