package content

import (
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/engine/base"
	"ombak/internal/engine/post"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type previewData struct {
	M         store.Message
	Reader    store.Person
	In        int64
	Sought    string // words of the readers' names, addresses or companies
	Audiences []store.Audience
	At, Of    int // which reader of how many are stepped through
	Prev      string
	Next      string
	Longest   string
	Barest    string
	Sampled   int    // of how many of the newest readers those two are
	Wide      string // desktop or phone
	Scheme    string // light or dark
	As        string // html or text
	Letter    string // address of the letter itself
	Views     []shell.Choice
	From      string
	Subject   string
	Group     string
	Text      string
	Wrong     string
	Edited    bool
	Kept      bool // some version was kept, so words for one reader can be
	Address   func(k, v string) string
}

// maxStepped is how many readers a preview steps through.
const maxStepped = 100

// previewMessage shows the draft as one person would get it.
func (s *Place) previewMessage(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	q := c.QueryParams()
	pick := func(k string, of ...string) string {
		if slices.Contains(of, q.Get(k)) {
			return q.Get(k)
		}
		return of[0]
	}
	d := previewData{In: shell.Number(q.Get("in")), Sought: person.Name(q.Get("text")),
		Wide: pick("wide", "desktop", "phone"), Scheme: pick("scheme", "light", "dark"), As: pick("as", "html", "text")}
	if d.M, err = s.Store.MessageText(ctx, id); err != nil {
		return err
	}
	d.Kept = d.M.Version > 0
	draft, err := s.Store.MessageDraft(ctx, id)
	if err != nil {
		return err
	}
	if d.Audiences, err = s.Store.Audiences(ctx); err != nil {
		return err
	}
	now := s.Engine.Now()
	readers, _, err := s.Store.People(ctx,
		store.PeopleQuery{Rule: readersOf(d.In), Text: d.Sought, Order: store.ByScore, Limit: maxStepped, Now: now})
	if err != nil {
		return err
	}
	address := func(over ...string) string {
		v := url.Values{"in": {fmt.Sprint(d.In)}, "wide": {d.Wide}, "scheme": {d.Scheme}, "as": {d.As},
			"reader": {fmt.Sprint(d.Reader.ID)}}
		if d.Sought != "" {
			v.Set("text", d.Sought)
		}
		for i := 0; i+1 < len(over); i += 2 {
			v.Set(over[i], over[i+1])
		}
		return fmt.Sprintf("/content/messages/%d/preview?%s", id, v.Encode())
	}
	reader := shell.Number(q.Get("reader"))
	d.Of = len(readers)
	at := slices.IndexFunc(readers, func(p store.Person) bool { return p.ID == reader })
	switch {
	case reader != 0:
		if d.Reader, err = s.Store.Person(ctx, reader); err != nil {
			return err
		}
	case len(readers) > 0:
		at, d.Reader = 0, readers[0]
	}
	d.At = at + 1
	if at > 0 {
		d.Prev = address("reader", fmt.Sprint(readers[at-1].ID))
	}
	if at+1 < len(readers) {
		d.Next = address("reader", fmt.Sprint(readers[at+1].ID))
	}
	worst, err := s.Store.WorstReaders(ctx, readersOf(d.In), now)
	if err != nil {
		return err
	}
	d.Sampled = store.SampledReaders
	if worst.Longest != 0 {
		d.Longest, d.Barest = address("reader", fmt.Sprint(worst.Longest)), address("reader", fmt.Sprint(worst.Barest))
	}
	for _, x := range [][3]string{{"wide", "desktop", "On a desktop"}, {"wide", "phone", "On a phone"},
		{"scheme", "light", "Light"}, {"scheme", "dark", "Dark"}, {"as", "html", "As designed"},
		{"as", "text", "As text"}} {
		here := x[1] == d.Wide || x[1] == d.Scheme || x[1] == d.As
		d.Views = append(d.Views, shell.Choice{Value: address(x[0], x[1]), Words: x[2], Chosen: here})
	}
	if d.Reader.ID != 0 {
		r, err := s.Engine.WriteFor(ctx, &draft.Doc.V, id, d.Reader.ID, draft.FromOwner, draft.SenderID, -1)
		d.From = r.Sender.Name + " <" + r.Sender.Email + ">"
		if d.Subject, d.Text = r.Subject, r.Text; err != nil {
			d.Wrong = shell.Sentence(err)
		}
		if len(draft.Doc.V.Groups) > 0 {
			d.Group = draft.Doc.V.GroupName(r.Group)
		}
		d.Letter = fmt.Sprintf("/content/messages/%d/letter?reader=%d&scheme=%s", id, d.Reader.ID, d.Scheme)
		e, err := s.Store.PersonalEdit(ctx, id, d.Reader.ID)
		if err != nil {
			return err
		}
		d.Edited = e != nil
	}
	return s.Page(c, "preview.html", "preview", "Content", "Preview: "+d.M.Name, d)
}

// letter is the email itself, as a mail program would show it. It runs nothing
// and fetches nothing from elsewhere.
func (s *Place) letter(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	draft, err := s.Store.MessageDraft(ctx, id)
	if err != nil {
		return err
	}
	group := int64(-1)
	if g := c.QueryParam("for"); g != "" {
		group = shell.Number(g)
	}
	r, err := s.Engine.WriteFor(ctx, &draft.Doc.V, id, shell.Number(c.QueryParam("reader")), draft.FromOwner,
		draft.SenderID, group)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		r.HTML = `<p style="font-family:sans-serif;padding:24px">` + template.HTMLEscapeString(shell.Sentence(err)) +
			` This reader would not get the email.</p>`
	}
	// Which scheme a mail program has cannot be asked for, so the one that is
	// looked at is put in for all.
	scheme := "not all"
	if c.QueryParam("scheme") == "dark" {
		scheme = "all"
	}
	page := strings.ReplaceAll(r.HTML, "@media (prefers-color-scheme:dark)", "@media "+scheme)
	h := c.Response().Header()
	h.Set("Content-Security-Policy",
		"sandbox; default-src 'none'; img-src 'self' data:; style-src 'unsafe-inline'; frame-ancestors 'self'")
	h.Set("Cache-Control", "no-store")
	return c.HTML(http.StatusOK, page)
}

func (s *Place) testSend(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	u := shell.UserOf(c)
	back := fmt.Sprintf("/content/messages/%d/preview?%s", id,
		url.Values{"reader": {c.FormValue("reader")}, "in": {c.FormValue("in")}}.Encode())
	if !s.Limits.Allow("test", fmt.Sprint(u.ID), 3e9, 20) {
		return s.NotDone(c, back, "That is many tests in a row. Wait a few seconds.")
	}
	err = s.Engine.TestSend(c.Request().Context(), id, shell.Number(c.FormValue("reader")), u.ID, -1)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.NotDone(c, back, "Not sent: "+base.Told(err)+".")
	}
	return s.Done(c, back, "Sent to "+u.Email+", as this reader would get it. It counts nowhere.")
}

type forOneData struct {
	M       store.Message
	Reader  store.Person
	Subject string
	Parts   []partView
	Wrong   string
	Edited  bool
}

// editForOne shows the words of the newest version that one reader would get,
// to be changed for them alone.
func (s *Place) editForOne(c *echo.Context) error { return s.showForOne(c, http.StatusOK, nil, "") }

func (s *Place) showForOne(c *echo.Context, code int, typed *message.Edit, wrong string) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	reader, err := shell.IDOf(c, "person")
	if err != nil {
		return err
	}
	d := forOneData{Wrong: wrong}
	if d.M, err = s.Store.MessageText(ctx, id); err != nil {
		return err
	}
	if d.M.Version == 0 {
		return s.NotDone(c, fmt.Sprintf("/content/messages/%d", id),
			"Keep the message first: words for one reader change a version that was kept.")
	}
	if d.Reader, err = s.Store.Person(ctx, reader); err != nil {
		return err
	}
	doc := d.M.Doc.V
	group, err := s.Engine.GroupFor(ctx, &doc, reader)
	if err != nil {
		return err
	}
	edit, err := s.Store.PersonalEdit(ctx, id, reader)
	if err != nil {
		return err
	}
	if d.Edited = edit != nil; typed != nil {
		edit = typed
	}
	mine := doc.With(edit)
	d.Subject = mine.Subject.For(group)
	for i := range mine.Sections {
		x := &mine.Sections[i]
		switch x.Kind {
		case message.Divider, message.Signature, message.Picture, message.ShelfItem:
			continue
		}
		p := partView{Section: *x, C: x.Of(group)}
		p.Lines = strings.Join(p.C.Items, "\n")
		d.Parts = append(d.Parts, p)
	}
	return s.PageCode(c, code, "forone.html", "", "Content",
		"Words for "+person.Full(d.Reader.First, d.Reader.Last, d.Reader.Email), d)
}

func (s *Place) keepForOne(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	reader, err := shell.IDOf(c, "person")
	if err != nil {
		return err
	}
	back := fmt.Sprintf("/content/messages/%d/preview?reader=%d", id, reader)
	if c.FormValue("do") == "forget" {
		if err := s.Engine.EditForOne(ctx, id, reader, shell.UserOf(c).ID, nil); err != nil {
			return err
		}
		return s.Done(c, back, "They get what everybody like them gets.")
	}
	m, err := s.Store.MessageText(ctx, id)
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	group, err := s.Engine.GroupFor(ctx, &m.Doc.V, reader)
	if err != nil {
		return err
	}
	edit := &message.Edit{Sections: map[int]message.Content{}}
	if t := strings.Join(strings.Fields(v.Get("subject")), " "); t != m.Doc.V.Subject.For(group) {
		edit.Subject = t
	}
	for i := range m.Doc.V.Sections {
		x := &m.Doc.V.Sections[i]
		n := fmt.Sprintf("%d.", x.ID)
		if !v.Has(n + "kind") {
			continue
		}
		mine := url.Values{}
		for k, val := range v {
			if rest, ok := strings.CutPrefix(k, n); ok {
				mine[rest] = val
			}
		}
		was := x.Kind.Tidy(x.Of(group))
		c := typedSection(mine, x.Kind)
		c.Ordered, c.Small, c.Picture, c.Alt = was.Ordered, was.Small, was.Picture, was.Alt
		if !sameContent(c, was) {
			edit.Sections[x.ID] = c
		}
	}
	if err := s.Engine.EditForOne(ctx, id, reader, shell.UserOf(c).ID, edit); err != nil {
		if store.IsNotFound(err) {
			return err
		}
		return s.showForOne(c, http.StatusUnprocessableEntity, edit, shell.Sentence(err))
	}
	return s.Done(c, back, "Kept for this reader alone.")
}

type groupsData struct {
	List []groupLine
}

type groupLine struct {
	store.ReaderGroup
	Words string
}

func (s *Place) readerGroups(c *echo.Context) error {
	ctx := c.Request().Context()
	list, err := s.Store.ReaderGroups(ctx)
	if err != nil {
		return err
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	var d groupsData
	for _, g := range list {
		d.List = append(d.List, groupLine{g, g.Rule.V.Words(cat)})
	}
	return s.Page(c, "groups.html", "", "Content", "Reader groups", d)
}

type groupForm struct {
	G      store.ReaderGroup
	Editor shell.RuleView
	Words  string
	Count  *shell.Roughly
	Wrong  string
}

func (s *Place) groupEditor(c *echo.Context) error {
	var d groupForm
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		if d.G, err = s.readerGroup(c, id); err != nil {
			return err
		}
	}
	return s.showGroup(c, http.StatusOK, d)
}

func (s *Place) readerGroup(c *echo.Context, id int64) (store.ReaderGroup, error) {
	list, err := s.Store.ReaderGroups(c.Request().Context())
	if err != nil {
		return store.ReaderGroup{}, err
	}
	for _, g := range list {
		if g.ID == id {
			return g, nil
		}
	}
	return store.ReaderGroup{}, store.ErrNotFound
}

func (s *Place) showGroup(c *echo.Context, code int, d groupForm) error {
	ctx := c.Request().Context()
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	r, there, err := shell.ReadRule(v, cat)
	if err != nil {
		return echo.ErrBadRequest.Wrap(err)
	}
	if there {
		d.G.Rule.V = r
		if v.Has("name") {
			d.G.Name = person.Name(v.Get("name"))
		}
	}
	d.Editor = shell.ViewRule(d.G.Rule.V, cat)
	if whole := shell.Complete(d.G.Rule.V, cat); whole.Asks() {
		d.Words = whole.Words(cat)
		if d.Count, err = s.HowMany(ctx, whole); err != nil {
			return err
		}
	}
	title := "New group of readers"
	if d.G.ID != 0 {
		title = d.G.Name
	}
	return s.PageCode(c, code, "groupform.html", "form", "Content", title, d)
}

func (s *Place) saveGroup(c *echo.Context) error {
	ctx := c.Request().Context()
	var g store.ReaderGroup
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		if g, err = s.readerGroup(c, id); err != nil {
			return err
		}
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	g.Name = v.Get("name")
	r, there, err := shell.ReadRule(v, cat)
	if err != nil {
		return echo.ErrBadRequest.Wrap(err)
	}
	if there {
		g.Rule.V = r
	}
	if do := v.Get("do"); do != "" && do != "save" {
		return s.showGroup(c, http.StatusOK, groupForm{G: g})
	}
	if _, err := s.Engine.SaveReaderGroup(ctx, g); err != nil {
		if store.IsNotFound(err) {
			return err
		}
		return s.showGroup(c, http.StatusUnprocessableEntity, groupForm{G: g, Wrong: shell.Sentence(err)})
	}
	return s.Done(c, "/content/groups",
		"Saved. Messages that are written keep the rule they were written with until they use the group anew.")
}

func (s *Place) removeGroup(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	g, err := s.readerGroup(c, id)
	if err != nil {
		return err
	}
	if g.Used > 0 && c.FormValue("sure") == "" {
		return s.NotDone(c, "/content/groups",
			fmt.Sprintf("%d messages have words for “%s”. They keep them; new ones could not use the group any more. "+
				"Tick that it may go.", g.Used, g.Name))
	}
	if err := s.Engine.RemoveReaderGroup(ctx, id); err != nil {
		return err
	}
	return s.Done(c, "/content/groups", "The group is gone. Messages with words for it keep them.")
}

func (s *Place) signature(c *echo.Context) error {
	u, err := s.Store.User(c.Request().Context(), shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	return s.Page(c, "signature.html", "", "", "Your signature", u)
}

func (s *Place) saveSignature(c *echo.Context) error {
	text := message.Clean(c.FormValue("signature"))
	err := s.Engine.SetSignature(c.Request().Context(), shell.UserOf(c).ID, text)
	if errors.Is(err, post.ErrSignature) {
		return s.NotDone(c, "/signature", shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, "/signature", "Saved. Messages with a signature have this one from now on.")
}
