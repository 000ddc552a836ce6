package shell

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
	"golang.org/x/sync/errgroup"

	"ombak/internal/core/person"
	"ombak/internal/core/right"
	"ombak/internal/store"
)

// found is something the finder offers: a place to go, or something to do.
type found struct {
	Icon, Text, More string
	Href             string // to go there
	Post             string // to do it
}

// find answers what is typed after "/": places and rooms, things to do, and
// whatever has a name. Words stand anywhere, in any order, with or without
// their accents.
func (s *Shell) find(c *echo.Context) error {
	v := s.View(c, "", "", nil)
	text := person.Name(c.QueryParam("q"))
	f := finding{words: strings.Fields(person.Plain(text))}
	f.doings(v)
	f.rooms(v)
	if len(f.words) > 0 {
		people, companies, things := finding{words: f.words}, finding{words: f.words}, finding{words: f.words}
		beside, ctx := errgroup.WithContext(c.Request().Context())
		beside.Go(func() error { return s.findPeople(ctx, &people, text) })
		beside.Go(func() error { return s.findCompanies(ctx, &companies, text) })
		beside.Go(func() error { return s.findThings(ctx, &things) })
		if err := beside.Wait(); err != nil {
			return err
		}
		f.out = slices.Concat(f.out, people.out, companies.out, things.out)
	}
	v.Data = f.out
	return c.Render(http.StatusOK, "find.html#found", v)
}

// finding is what a search has found so far.
type finding struct {
	words []string
	out   []found
}

// How many of one kind are offered.
const (
	mostFound     = 8
	mostCompanies = 5
)

// add adds what all words are in.
func (f *finding) add(list ...found) {
	n := 0
	for _, x := range list {
		in := person.Plain(x.Text + " " + x.More)
		if n < mostFound && !slices.ContainsFunc(f.words, func(w string) bool { return !strings.Contains(in, w) }) {
			f.out = append(f.out, x)
			n++
		}
	}
}

// doings are what can be done from anywhere.
func (f *finding) doings(v View) {
	if v.Writes() {
		f.add(
			found{"note-pencil", "New message", "content, write", "/content?new=message", ""},
			found{"globe", "New page", "content, form", "/content/pages?new=1", ""},
			found{"waves", "New sequence", "sequences", "/sequences?new=1", ""},
			found{"pause", "Hold all", "stop everything that runs", "/sequences/hold-all", ""},
		)
	}
	if len(f.words) == 0 {
		return
	}
	if v.Writes() {
		f.add(
			found{"users-three", "New audience", "people, describe", "/people/audiences/new", ""},
			found{"file-arrow-up", "Import people", "list, CSV, XLSX, vCard", "/people/imports", ""},
		)
	}
	f.add(
		found{"user-plus", "New person", "people, by hand", "/people/new", ""},
		found{"signature", "Your signature", "letters", "/signature", ""},
		found{"book-open", "Guide", "help, how to", "/guide", ""},
		found{"sign-out", "Sign out", "", "", "/sign-out"},
	)
}

// rooms are the places and what is in them.
func (f *finding) rooms(v View) {
	for _, p := range places {
		f.add(found{"arrow-right", p.Name, "", p.Path, ""})
	}
	if len(f.words) == 0 {
		return
	}
	room := func(name, more, path string) found { return found{"arrow-right", name, more, path, ""} }
	f.add(room("Companies", "people", "/people/companies"), room("Audiences", "people", "/people/audiences"),
		room("Tags and fields", "people, settings, own fields", "/people/tags"))
	if v.Writes() {
		f.add(room("Imports", "people, lists", "/people/imports"),
			room("Duplicates", "people, merge", "/people/doubles"),
			room("Work on many", "people, undo", "/people/work"))
	}
	f.add(room("One-off emails", "content", "/content/emails"), room("Pages", "content, forms", "/content/pages"),
		room("Shelf", "content, files", "/content/shelf"), room("Folders", "content, order", "/content/folders"),
		room("Reader groups", "content", "/content/groups"),
		room("Sites", "content, visits, snippet", "/content/sites"),
		room("Mailboxes", "settings, limits, DNS", "/content/mailboxes"),
		room("Fit and bands", "scoring", "/scoring/fit"), room("Models of scores", "scoring, products",
			"/scoring/models"))
	f.add(room("Course", "pipeline, forecast, months", "/pipeline/course"), room("List of deals", "pipeline",
		"/pipeline/list"),
		room("Handoffs", "pipeline, response times", "/pipeline/handoffs"))
	f.add(room("Settings", "workspace, clock, mail server", "/settings"),
		room("People who work here", "settings, users, invite", "/settings/people"),
		room("Pipelines and stages", "settings, pipeline", "/settings/stages"),
		room("Currencies", "settings, rates, pipeline", "/settings/rates"),
		room("Purposes and grounds", "settings, consent", "/settings/grounds"))
}

func (s *Shell) findPeople(ctx context.Context, f *finding, text string) error {
	list, _, err := s.Store.People(ctx,
		store.PeopleQuery{Text: text, Order: store.ByScore, Limit: mostFound, Now: s.Engine.Now()})
	if err != nil {
		return err
	}
	for _, p := range list {
		f.out = append(f.out,
			found{"user", person.Full(p.First, p.Last, p.Email), p.Company, fmt.Sprintf("/people/%d", p.ID), ""})
	}
	return nil
}

func (s *Shell) findCompanies(ctx context.Context, f *finding, text string) error {
	companies, err := s.Store.FindCompanies(ctx, text, mostCompanies)
	if err != nil {
		return err
	}
	for _, x := range companies {
		f.out = append(f.out, found{"buildings", x.Name, "company", fmt.Sprintf("/people/companies/%d", x.ID), ""})
	}
	return nil
}

// findThings finds what people have made and named.
func (s *Shell) findThings(ctx context.Context, f *finding) error {
	list, err := s.Store.Named(ctx)
	if err != nil {
		return err
	}
	tree, err := s.Store.Folders(ctx)
	if err != nil {
		return err
	}
	var folders []found
	for _, x := range tree {
		folders = append(folders,
			found{"folder", tree.Path(x.ID), "folder, " + x.Note, fmt.Sprintf("/content/folders?folder=%d", x.ID), ""})
	}
	f.add(folders...)
	kinds := map[string]struct{ icon, path string }{
		"sequence": {"waves", "/sequences/%d"}, "message": {"envelope-simple", "/content/messages/%d"},
		"page":          {"globe", "/content/pages/%d"},
		"audience":      {"users-three", "/people/audiences/%d"},
		"one-off email": {"paper-plane-tilt", "/content/emails/%d"},
		"on the shelf":  {"paperclip", "/content/shelf/%d"}, "reader group": {"users-three", "/content/groups/%d"},
	}
	by := map[string][]found{}
	var order []string
	for _, x := range list {
		k, ok := kinds[x.Kind]
		if !ok {
			continue
		}
		if by[x.Kind] == nil {
			order = append(order, x.Kind)
		}
		by[x.Kind] = append(by[x.Kind], found{k.icon, x.Name, x.Kind, fmt.Sprintf(k.path, x.ID), ""})
	}
	for _, kind := range order {
		f.add(by[kind]...)
	}
	return nil
}

var places = []struct{ Name, Path string }{
	{"Today", "/today"}, {"People", "/people"}, {"Content", "/content"}, {"Sequences", "/sequences"},
	{"Scoring", "/scoring"}, {"Desk", "/desk"}, {"Pipeline", "/pipeline"},
}

// Places are the places of the bar, in the order in which the user works.
func (v View) Places() []struct{ Name, Path string } {
	if v.User.Role != right.Rep {
		return places
	}
	out := append([]struct{ Name, Path string }{}, places[5:]...)
	return append(out, places[:5]...)
}

// scheme turns the dark scheme on or off for this browser.
func (s *Shell) scheme(c *echo.Context) error {
	want := c.FormValue("scheme")
	k := &http.Cookie{Name: "ombak_scheme", Value: want, Path: "/", MaxAge: 365 * 24 * 3600, HttpOnly: true,
		Secure: s.Secure, SameSite: http.SameSiteLaxMode}
	if want != "dark" && want != "light" {
		k.MaxAge = -1
	}
	c.SetCookie(k)
	return c.Redirect(http.StatusSeeOther, back(c))
}

// back is the page a small form stood on.
func back(c *echo.Context) string {
	if p := LocalPath(c.FormValue("back")); p != "" {
		return p
	}
	return "/"
}

func (s *Shell) moveClock(c *echo.Context) error {
	if s.Demo == nil {
		return echo.ErrNotFound
	}
	if err := s.Demo.Move(c.FormValue("how")); err != nil {
		return s.NotDone(c, back(c), Sentence(err))
	}
	return c.Redirect(http.StatusSeeOther, back(c))
}

func (s *Shell) stopClock(c *echo.Context) error {
	if s.Demo == nil {
		return echo.ErrNotFound
	}
	s.Demo.Stop()
	return c.Redirect(http.StatusSeeOther, back(c))
}

func (s *Shell) clockChip(c *echo.Context) error {
	v := s.View(c, "", "", nil)
	if p := LocalPath(c.QueryParam("back")); p != "" {
		v.Path = p
	}
	return c.Render(http.StatusOK, "layout.html#clock", v)
}
