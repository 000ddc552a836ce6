package people

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/engine/people"
	"ombak/internal/engine/setup"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type tagsData struct {
	Tags     []tagLine
	All      int
	Ready    int // to be cleaned up
	Users    []store.User
	Fields   []fieldUse
	Types    []person.Type
	Purposes []store.Purpose
	Now      time.Time
	Sub      string
	More     string // the address of the next ones
}

// tagsShown is how many tags a page shows.
const tagsShown = 100

type tagLine struct {
	store.Tag
	People string // address of the list
	Why    string // why it is ready to be cleaned up
}

type fieldUse struct {
	store.OwnField
	Choices string
	Use     []string
}

// tags shows the words people are marked with and the workspace's own fields.
func (s *Place) tags(c *echo.Context) error {
	ctx := c.Request().Context()
	now := s.Engine.Now()
	d := tagsData{Types: person.OwnTypes(), Now: now, Sub: "tags"}
	list, err := s.Store.Tags(ctx)
	if err != nil {
		return err
	}
	after := c.QueryParam("after")
	for _, t := range list {
		l := tagLineOf(t, now)
		if d.All++; l.Why != "" {
			d.Ready++
		}
		switch {
		case after != "" && t.Key <= after:
		case len(d.Tags) < tagsShown:
			d.Tags = append(d.Tags, l)
		case d.More == "":
			d.More = "/people/tags?after=" + url.QueryEscape(d.Tags[tagsShown-1].Key)
		}
	}
	if after != "" && shell.IsHTMX(c) {
		return s.Page(c, "tags.html", "rows", "People", "Tags and fields", d)
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	if d.Purposes, err = s.Store.Purposes(ctx); err != nil {
		return err
	}
	fields, err := s.Store.OwnFieldsUsed(ctx)
	if err != nil {
		return err
	}
	use, err := s.Store.FieldUses(ctx)
	if err != nil {
		return err
	}
	for _, f := range fields {
		d.Fields = append(d.Fields, fieldUse{f, strings.Join(f.Options.V, ", "), use[f.ID]})
	}
	return s.Page(c, "tags.html", "tags", "People", "Tags and fields", d)
}

// tagLineOf is a tag with the list of its people.
func tagLineOf(t store.Tag, now time.Time) tagLine {
	return tagLine{Tag: t, Why: cleanUp(t, now), People: "/people?" +
		shell.ListQuery{Rule: rule.Rule{All: []rule.Rule{rule.ThingIs(rule.Tag, t.ID)}}, Order: store.ByScore,
			Columns: shell.UsualColumns}.Values().Encode()}
}

// tagData is one tag, to be changed.
type tagData struct {
	T      tagLine
	Others []store.Tag
	Users  []store.User
	Sub    string
}

// tag shows one.
func (s *Place) tag(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	list, err := s.Store.Tags(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(t store.Tag) bool { return t.ID == id })
	if i < 0 {
		return echo.ErrNotFound
	}
	d := tagData{T: tagLineOf(list[i], s.Engine.Now()), Others: slices.Delete(list, i, i+1), Sub: "tags"}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	return s.Page(c, "tag.html", "", "People", d.T.Name, d)
}

// cleanUp says why a tag can go, or nothing. Half a year without use is common
// practice, no source.
func cleanUp(t store.Tag, now time.Time) string {
	switch {
	case t.Asked > 0:
		return "" // an audience asks for it
	case t.Ends != nil && now.After(t.Ends.AddDate(0, 0, 1)):
		return "its end has come"
	case t.Used == 0 && now.Sub(t.Created) > 30*24*time.Hour:
		return "on nobody"
	case t.Last != nil && now.Sub(*t.Last) > 182*24*time.Hour:
		return "not put on anybody for half a year"
	}
	return ""
}

func (s *Place) saveTag(c *echo.Context) error {
	ctx := c.Request().Context()
	name := person.Name(c.FormValue("name"))
	if name == "" {
		return s.NotDone(c, "/people/tags", "A tag needs a name.")
	}
	t := store.Tag{Name: name, Note: person.Name(c.FormValue("note"))}
	if o := shell.Number(c.FormValue("owner")); o != 0 {
		t.OwnerID = &o
	}
	if day := strings.TrimSpace(c.FormValue("ends")); day != "" {
		at, err := time.Parse(time.DateOnly, day)
		if err != nil {
			return s.NotDone(c, "/people/tags", "The end is a date such as 2026-04-14.")
		}
		t.Ends = &at
	}
	if c.Param("id") != "" {
		var err error
		if t.ID, err = shell.IDOf(c, "id"); err != nil {
			return err
		}
	}
	err := s.Engine.SaveTag(ctx, t, shell.UserOf(c).ID)
	if errors.Is(err, store.ErrTaken) {
		return s.NotDone(c, "/people/tags", shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, "/people/tags", "Saved.")
}

func (s *Place) mergeTags(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	err = s.Engine.MergeTags(c.Request().Context(), id, shell.Number(c.FormValue("into")))
	if errors.Is(err, people.ErrSameTag) {
		return s.NotDone(c, "/people/tags", shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, "/people/tags", "The two are one tag now; audiences that asked for the one ask for the other.")
}

// cleanTags removes the ticked tags, but for those that an audience asks for.
func (s *Place) cleanTags(c *echo.Context) error {
	ctx := c.Request().Context()
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	var ids []int64
	for _, id := range form["id"] {
		ids = append(ids, shell.Number(id))
	}
	n, kept, err := s.Engine.RemoveTags(ctx, ids)
	if err != nil {
		return err
	}
	if n == 0 {
		return s.NotDone(c, "/people/tags",
			shell.Either(kept > 0, "Audiences ask for these tags: take them out there first.",
				"Tick the tags that can go first."))
	}
	return s.Done(c, "/people/tags",
		fmt.Sprintf("%d gone from everybody.%s", n,
			shell.Either(kept > 0, fmt.Sprintf(" %d stay: audiences ask for them.", kept), "")))
}

func options(text string) []string {
	var out []string
	for _, o := range strings.Split(text, ",") {
		if o = person.Name(strings.ReplaceAll(o, ";", " ")); o != "" && !slices.Contains(out, o) &&
			len(out) < person.MaxOptions {
			out = append(out, o)
		}
	}
	return out
}

func (s *Place) addField(c *echo.Context) error {
	ctx := c.Request().Context()
	f := store.OwnField{Name: person.Name(c.FormValue("name")), Type: person.Type(c.FormValue("type")),
		Company: c.FormValue("of") == "company"}
	f.Options.V = options(c.FormValue("options"))
	_, err := s.Engine.AddField(ctx, f)
	switch {
	case errors.Is(err, people.ErrNoType):
		return echo.ErrBadRequest
	case errors.Is(err, store.ErrTaken), errors.Is(err, people.ErrFieldThere), errors.Is(err, people.ErrNameField),
		errors.Is(err, people.ErrNoOptions):
		return s.NotDone(c, "/people/tags", shell.Sentence(err))
	case err != nil:
		return err
	}
	return s.Done(c, "/people/tags",
		shell.Either(f.Company, "Every company has the field now.", "The field is on every record now."))
}

func (s *Place) changeField(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	if c.FormValue("do") == "remove" {
		if c.FormValue("sure") == "" {
			return s.NotDone(c, "/people/tags", "Tick that its values may go with it.")
		}
		if err := s.Engine.RemoveField(ctx, id); errors.Is(err, people.ErrAskedFor) {
			return s.NotDone(c, "/people/tags", shell.Sentence(err))
		} else if err != nil {
			return err
		}
		return s.Done(c, "/people/tags", "The field is gone, with its values.")
	}
	opts := options(c.FormValue("options"))
	if opts == nil {
		opts = []string{}
	}
	err = s.Engine.ChangeField(ctx, id, c.FormValue("name"), opts)
	if errors.Is(err, store.ErrTaken) || errors.Is(err, people.ErrNameField) {
		return s.NotDone(c, "/people/tags", shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, "/people/tags", "Saved.")
}

func (s *Place) addPurpose(c *echo.Context) error {
	ctx := c.Request().Context()
	_, err := s.Engine.AddPurpose(ctx, c.FormValue("name"))
	if errors.Is(err, store.ErrTaken) || errors.Is(err, setup.ErrNamePurpose) {
		return s.NotDone(c, "/people/tags", shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	to := shell.LocalPath(c.FormValue("back"))
	if to == "" {
		to = "/people/tags"
	}
	return s.Done(c, to, "Saved.")
}
