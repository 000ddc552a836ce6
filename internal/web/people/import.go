package people

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/intake"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/engine/people"
	"ombak/internal/network"
	"ombak/internal/roster"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type importsData struct {
	List    []importLine
	Sub     string
	Network bool // one is connected, from which people can be brought
}

type importLine struct {
	store.Batch
	I store.Import
}

func (s *Place) imports(c *echo.Context) error {
	ctx := c.Request().Context()
	list, err := s.Store.Batches(ctx, []string{"import"}, 100)
	if err != nil {
		return err
	}
	d := importsData{Sub: "imports", Network: s.Engine.Network != nil}
	var ids []int64
	for _, b := range list {
		ids = append(ids, b.ID)
	}
	files, err := s.Store.Imports(ctx, ids)
	if err != nil {
		return err
	}
	for _, b := range list {
		d.List = append(d.List, importLine{b, files[b.ID]})
	}
	return s.Page(c, "imports.html", "list", "People", "Imports", d)
}

// upload takes a file in as it arrives: it is never in memory as a whole.
func (s *Place) upload(c *echo.Context) error {
	if err := http.NewResponseController(c.Response()).SetReadDeadline(time.Now().Add(10 * time.Minute)); err != nil {
		return err
	}
	r, err := c.Request().MultipartReader()
	if err != nil {
		// An old browser sends its token in the form, which had to be read for it.
		return s.uploadRead(c)
	}
	for {
		part, err := r.NextPart()
		if err == io.EOF {
			return s.NotDone(c, "/people/imports", "Choose a file first.")
		}
		if err != nil {
			return s.NotDone(c, "/people/imports", "The file did not arrive as a whole. Nothing was kept; try again.")
		}
		if part.FormName() != "file" {
			continue
		}
		return s.takeFile(c, person.Name(filepath.Base(part.FileName())), part)
	}
}

func (s *Place) uploadRead(c *echo.Context) error {
	h, err := c.FormFile("file")
	if err != nil {
		return s.NotDone(c, "/people/imports", "Choose a file first.")
	}
	f, err := h.Open()
	if err != nil {
		return err
	}
	defer f.Close()
	return s.takeFile(c, person.Name(filepath.Base(h.Filename)), f)
}

func (s *Place) takeFile(c *echo.Context, name string, r io.Reader) error {
	if name == "" || name == "." {
		return s.NotDone(c, "/people/imports", "Choose a file first.")
	}
	id, err := s.Engine.NewImport(c.Request().Context(), name, io.LimitReader(r, shell.MaxUpload), shell.UserOf(c).ID)
	if bad, ok := errors.AsType[*roster.BadFile](err); ok {
		return s.NotDone(c, "/people/imports", "“"+name+"” cannot be read: "+bad.Error()+". Nothing was kept.")
	}
	if err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/people/imports/%d", id))
}

type importData struct {
	B        store.Batch
	I        store.Import
	M        intake.Mapping
	Columns  []columnChoice
	Preview  []people.Preview
	Shown    []string // fields the preview shows
	Cells    [][]string
	Wrong    string
	Hand     []store.Audience
	Purposes []store.Purpose
	Rejects  []store.Reject
	Reasons  []store.RejectReason
	More     bool
	People   string
	Tags     string
	Sub      string
	Last     string
}

type columnChoice struct {
	N       int
	Head    string
	Example string
	Targets []shell.Choice
}

func (s *Place) importPage(c *echo.Context) error { return s.showImport(c, http.StatusOK, nil, "") }

func (s *Place) showImport(c *echo.Context, code int, typed *intake.Mapping, wrong string) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	d := importData{Wrong: wrong, Sub: "imports"}
	if d.B, err = s.Store.Batch(ctx, id); err != nil {
		return err
	}
	if d.I, err = s.Store.Import(ctx, id); err != nil {
		return err
	}
	d.M = d.I.Options.V
	if typed != nil {
		d.M = *typed
		d.I.Options.V = *typed
	}
	d.Tags = strings.Join(d.M.Tags, ", ")
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	more := append(slices.Clone(cat.Own), cat.Consents()...)
	if d.B.State == "draft" || d.B.State == "checked" || d.B.State == "failed" {
		for i, h := range d.I.Columns.V.Head {
			col := columnChoice{N: i, Head: h}
			for _, row := range d.I.Columns.V.Sample {
				if i < len(row) && strings.TrimSpace(row[i]) != "" {
					col.Example = row[i]
					break
				}
			}
			if r := []rune(col.Example); len(r) > 40 {
				col.Example = string(r[:40]) + "…"
			}
			for _, t := range intake.Targets(more) {
				name := t
				if i := slices.IndexFunc(more, func(d person.Definition) bool { return string(d.Field) == t }); i >= 0 {
					name = more[i].Name
				} else if def, ok := cat.Define(person.Field(t)); ok {
					name = def.Name
				}
				col.Targets = append(col.Targets,
					shell.Choice{Value: t, Words: name, Chosen: i < len(d.M.Columns) && d.M.Columns[i] == t})
			}
			d.Columns = append(d.Columns, col)
		}
		preview, err := s.Engine.Preview(ctx, &d.I)
		if err != nil && d.Wrong == "" {
			d.Wrong = shell.Sentence(err)
		}
		if len(preview) > 8 {
			preview = preview[:8]
		}
		d.Preview = preview
		for _, f := range cat.Fields() {
			for _, p := range preview {
				if p.Values[f.Field] != "" {
					d.Shown = append(d.Shown, f.Name)
					break
				}
			}
		}
		for _, p := range preview {
			var cells []string
			for _, f := range cat.Fields() {
				for _, name := range d.Shown {
					if name == f.Name {
						cells = append(cells, shell.Named(f, person.Shown(p.Values[f.Field])))
					}
				}
			}
			d.Cells = append(d.Cells, cells)
		}
	}
	audiences, err := s.Store.Audiences(ctx)
	if err != nil {
		return err
	}
	for _, a := range audiences {
		if !a.Live {
			d.Hand = append(d.Hand, a)
		}
	}
	if d.Purposes, err = s.Store.Purposes(ctx); err != nil {
		return err
	}
	if d.Rejects, err = s.Store.Rejects(ctx, id, false, 0, 51); err != nil {
		return err
	}
	if d.Reasons, err = s.Store.RejectReasons(ctx, id); err != nil {
		return err
	}
	if len(d.Rejects) > 50 {
		d.Rejects, d.More = d.Rejects[:50], true
	}
	d.People = "/people?" +
		shell.ListQuery{Batch: id, Order: store.Newest, Columns: shell.UsualColumns}.Values().Encode()
	return s.PageCode(c, code, "import.html", "import", "People", "Import: "+d.I.File, d)
}

// readMapping reads how a file is to be read from its form.
func readMapping(c *echo.Context, columns int) (intake.Mapping, error) {
	m := intake.Mapping{Policy: intake.Policy(c.FormValue("policy")), Source: person.Name(c.FormValue("source")),
		Audience: shell.Number(c.FormValue("audience")),
		Purpose:  shell.Number(c.FormValue("purpose")), Ground: person.Name(c.FormValue("ground")),
		NoHead: c.FormValue("nohead") != "", Loose: c.FormValue("loose") != "", Sep: c.FormValue("sep"),
		Encoding: c.FormValue("encoding"), Tags: options(c.FormValue("tags"))}
	if m.Sep == "tab" {
		m.Sep = "\t"
	}
	for i := range columns {
		m.Columns = append(m.Columns, c.FormValue(fmt.Sprintf("c%d", i)))
	}
	var err error
	if m.Country, err = person.CountryCode(c.FormValue("country")); err != nil {
		return m, plainly.Errorf("telephone numbers: %w", err)
	}
	if m.Purpose != 0 && m.Ground == "" {
		return m, plainly.New("say on what ground they agreed: where they did so, and when")
	}
	return m, nil
}

func (s *Place) checkImport(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	i, err := s.Store.Import(ctx, id)
	if err != nil {
		return err
	}
	m, err := readMapping(c, len(i.Columns.V.Head))
	if err != nil {
		return s.showImport(c, http.StatusUnprocessableEntity, &m, shell.Sentence(err))
	}
	switch c.FormValue("do") {
	case "again":
		if err := s.Engine.ReadAgain(ctx, id, m); err != nil {
			return s.showImport(c, http.StatusUnprocessableEntity, &m, shell.Sentence(err))
		}
		return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/people/imports/%d", id))
	case "look":
		return s.showImport(c, http.StatusOK, &m, "")
	}
	if err := s.Engine.CheckImport(ctx, id, m); store.IsNotFound(err) {
		return err
	} else if err != nil {
		return s.showImport(c, http.StatusUnprocessableEntity, &m, shell.Sentence(err))
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/people/imports/%d", id))
}

func (s *Place) startImport(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.StartImport(c.Request().Context(), id); errors.Is(err, store.ErrOver) {
		return s.NotDone(c, fmt.Sprintf("/people/imports/%d", id), shell.Sentence(err))
	} else if err != nil {
		return err
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/people/imports/%d", id))
}

func (s *Place) rejectsFile(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	i, err := s.Store.Import(c.Request().Context(), id)
	if err != nil {
		return err
	}
	name := strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`"\/`, r) || r > 126 {
			return '-'
		}
		return r
	}, strings.TrimSuffix(i.File, filepath.Ext(i.File)))
	h := c.Response().Header()
	h.Set("Content-Type", roster.Types[roster.CSV])
	h.Set("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-to-mend.csv"`, name))
	return s.Engine.RejectsFile(c.Request().Context(), id, c.Response())
}

type workData struct {
	List []store.Batch
	Sub  string
}

// work lists the long work that was done on people.
func (s *Place) work(c *echo.Context) error {
	list, err := s.Store.Batches(c.Request().Context(), nil, 100)
	if err != nil {
		return err
	}
	return s.Page(c, "work.html", "list", "People", "Work", workData{list, "imports"})
}

type batchData struct {
	B    store.Batch
	Sub  string
	File bool // of an export, which is there to be fetched
}

// batch shows one piece of long work: how far it is, and what became of it.
func (s *Place) batch(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	b, err := s.Store.Batch(c.Request().Context(), id)
	if err != nil {
		return err
	}
	if b.Kind == "import" {
		return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/people/imports/%d", id))
	}
	file, err := s.Engine.People.ExportFile(c.Request().Context(), &b)
	if err != nil {
		return err
	}
	return s.Page(c, "batch.html", "batch", "People", b.Title, batchData{b, "imports", file != nil})
}

// exportedFile answers the file that an export has written.
func (s *Place) exportedFile(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	b, err := s.Store.Batch(ctx, id)
	if err != nil {
		return err
	}
	file, err := s.Engine.People.ExportFile(ctx, &b)
	if err != nil {
		return err
	}
	if file == nil {
		return s.NotDone(c, batchAddress(id), "This file is not there, or not any more: export the list once more.")
	}
	x := b.Detail.V.Export
	c.Response().Header().Set("Content-Length", strconv.FormatInt(x.Size, 10))
	if err := s.Attach(c, roster.Form(x.Form), x.Name); err != nil {
		return err
	}
	_, err = io.Copy(c.Response(), file)
	return err
}

func batchAddress(id int64) string { return fmt.Sprintf("/people/work/%d", id) }

func (s *Place) stopBatch(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.StopBatch(c.Request().Context(), id); store.IsNotFound(err) {
		return s.NotDone(c, batchAddress(id), "It is over already.")
	} else if err != nil {
		return err
	}
	return s.Done(c, batchAddress(id), "It stops after the piece it is at.")
}

func (s *Place) undoBatch(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.UndoBatch(c.Request().Context(), id, shell.UserOf(c).ID); errors.Is(err, store.ErrOver) ||
		store.IsNotFound(err) {
		return s.NotDone(c, batchAddress(id), "It cannot be undone any more.")
	} else if err != nil {
		return s.NotDone(c, batchAddress(id), shell.Sentence(err))
	}
	return c.Redirect(http.StatusSeeOther, batchAddress(id))
}

// fromNetwork brings people from the network into an import, to be looked at.
func (s *Place) fromNetwork(c *echo.Context) error {
	u := shell.UserOf(c)
	if !s.Limits.Allow("network people", fmt.Sprint(u.ID), 10*time.Second, 10) {
		return s.NotDone(c, "/people/imports", "That was often. Wait a minute.")
	}
	id, err := s.Engine.ImportFromNetwork(c.Request().Context(), network.Source(c.FormValue("from")),
		strings.TrimSpace(c.FormValue("what")), int(min(shell.Number(c.FormValue("n")), 1<<20)), u.ID)
	if text, plain := plainly.Says(err); plain {
		return s.NotDone(c, "/people/imports", text+". Nothing was imported.")
	}
	if err != nil {
		return s.NotDone(c, "/people/imports", "The network was not reached: "+base.Told(err)+".")
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/people/imports/%d", id))
}

// Sources are where people are brought from on the network, as a sentence says them.
func (importsData) Sources() []struct{ Source, Words string } {
	return []struct{ Source, Words string }{{string(network.AtEvent), "who are at the event"},
		{string(network.InGroup), "in the group"}, {string(network.ReactedTo), "who reacted to the post"},
		{string(network.FoundBy), "found by the words"}}
}
