package content

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/right"
	"ombak/internal/engine/people"
	"ombak/internal/engine/post"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

func (s *Place) messageRoutes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	keeps := shell.Allow(right.Marketer, right.Rep, right.Lead, right.Admin)
	m := in.Group("/content/messages")
	m.POST("/new", s.newMessage, writes)
	m.GET("/:id", s.message)
	m.POST("/:id", s.changeMessage, writes)
	m.POST("/:id/copy", s.copyMessage, writes)
	m.POST("/:id/name", s.renameMessage, writes)
	m.POST("/:id/remove", s.removeMessage, writes)
	m.POST("/:id/back", s.removeMessage, writes)
	m.GET("/:id/proof", s.proof)
	m.GET("/:id/preview", s.previewMessage)
	m.GET("/:id/letter", s.letter)
	m.POST("/:id/test", s.testSend, writes)
	m.GET("/:id/readers/:person", s.editForOne, keeps)
	m.POST("/:id/readers/:person", s.keepForOne, keeps)
	g := in.Group("/content/groups")
	g.GET("", s.readerGroups)
	g.GET("/new", s.groupEditor, writes)
	g.POST("/new", s.saveGroup, writes)
	g.GET("/:id", s.groupEditor, writes)
	g.POST("/:id", s.saveGroup, writes)
	g.POST("/:id/remove", s.removeGroup, writes)
	in.GET("/signature", s.signature)
	in.POST("/signature", s.saveSignature)
}

// starter is what a message can begin with.
type starter struct {
	Key, Name, What string
	Doc             message.Document
}

func withSections(style message.Style, list ...message.Section) message.Document {
	d := message.Document{Style: style, Subject: message.Words{}, Preheader: message.Words{}}
	for i := range list {
		list[i].ID = i + 1
		d.Last = i + 1
	}
	d.Sections = list
	return d
}

func begun(k message.Kind, c message.Content) message.Section {
	return message.Section{Kind: k, For: map[int64]message.Content{message.Else: c}}
}

const dear = `<div>Dear {{ person.first_name | default: &quot;reader&quot; }},</div>`

var starters = []starter{
	{"letter", "Letter", "Plain, as if typed: a text and the sender’s signature", withSections(message.Plain,
		begun(message.Text, message.Content{Text: dear + "<div><br></div><div></div>"}),
		begun(message.Signature, message.Content{}))},
	{"offer", "Offer", "Designed: a heading, a text, a button to press", withSections(message.Designed,
		begun(message.Heading, message.Content{}), begun(message.Text, message.Content{Text: dear}),
		begun(message.Button, message.Content{}), begun(message.Signature, message.Content{}))},
	{"news", "News in short", "Designed: a list of what is new, a quote, and where to read on",
		withSections(message.Designed,
			begun(message.Heading, message.Content{}), begun(message.Text, message.Content{}),
			begun(message.List, message.Content{}), begun(message.Divider, message.Content{}),
			begun(message.Quote, message.Content{}), begun(message.Button, message.Content{}))},
	{"empty", "Nothing", "Put together from sections", withSections(message.Designed)},
}

func (s *Place) newMessage(c *echo.Context) error {
	i := slices.IndexFunc(starters, func(x starter) bool { return x.Key == c.FormValue("starter") })
	if i < 0 {
		return echo.ErrBadRequest
	}
	name := person.Name(c.FormValue("name"))
	if name == "" {
		name = "New message"
	}
	// A copy: a draft changes its maps.
	b, err := json.Marshal(starters[i].Doc)
	if err != nil {
		return err
	}
	var doc message.Document
	if err := json.Unmarshal(b, &doc); err != nil {
		return err
	}
	id, err := s.Engine.NewMessage(c.Request().Context(), name, doc, true, shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	return s.Done(c, fmt.Sprintf("/content/messages/%d", id), "")
}

type messageData struct {
	M       store.Message
	D       store.MessageDraft
	Doc     *message.Document
	Parts   []partView
	At      int
	For     int64
	ForName string
	Groups  []groupChoice
	Grid    []message.GridRow
	Fields  []fieldGroup
	Kinds   []message.Kind
	Users   []store.User
	Pages   []store.PageName
	Shelf   []store.ShelfItem
	Events  []store.EventName
	Use     []store.Use
	Edited  int
	Wrong   string
	Said    string
	Subject string
	Pre     string
	Text    string // the text alternative by hand
	Made    string // or as it is made
	Changed bool
	Address string
	State   string // of the draft, that the form was drawn from
	When    string // start of the invitation, as a browser types it
	Zone    string
}

// partView is a section in the writer.
type partView struct {
	message.Section
	C      message.Content // for the group shown
	HTML   string          // how it reads
	Own    bool            // the group has its own version
	Lacks  string
	Open   bool
	Lines  string // the items of a list, a line each
	First  bool
	Last   bool
	Others []string // groups with a version of their own
}

type groupChoice struct {
	ID    int64
	Name  string
	Words string
	Place int // from 1 where the message asks for it; 0: it does not
	Here  bool
}

type fieldGroup struct {
	Name string
	List []message.Field
}

func fieldGroups(fields []message.Field) []fieldGroup {
	var out []fieldGroup
	for _, f := range fields {
		group, _, _ := strings.Cut(f.Name, ".")
		if n := len(out); n == 0 || out[n-1].Name != group {
			if i := slices.IndexFunc(out, func(g fieldGroup) bool { return g.Name == group }); i >= 0 {
				out[i].List = append(out[i].List, f)
				continue
			}
			out = append(out, fieldGroup{Name: group})
		}
		g := &out[len(out)-1]
		g.List = append(g.List, f)
	}
	return out
}

func (s *Place) message(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	at, _ := strconv.Atoi(c.QueryParam("at")) // none: no section is open
	return s.showMessage(c, http.StatusOK, id, at, shell.Number(c.QueryParam("for")), "")
}

func (s *Place) showMessage(c *echo.Context, code int, id int64, at int, group int64, wrong string) error {
	ctx := c.Request().Context()
	d := messageData{At: at, For: group, Wrong: wrong, Zone: s.Engine.Zone().String()}
	d.Said, _ = c.Get("said").(string)
	var err error
	if d.M, err = s.Store.Message(ctx, id); err != nil {
		return err
	}
	if d.D, err = s.Store.MessageDraft(ctx, id); err != nil {
		return err
	}
	d.Doc, d.State = &d.D.Doc.V, messageState(&d.D)
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	all, err := s.Store.ReaderGroups(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(d.Doc.Groups, func(g message.Group) bool { return g.ID == d.For }) {
		d.For = message.Else
	}
	for i := range d.Doc.Groups {
		g := &d.Doc.Groups[i]
		d.Groups = append(d.Groups, groupChoice{g.ID, g.Name, g.Rule.Words(cat), i + 1, g.ID == d.For})
	}
	for i := range all {
		if !slices.ContainsFunc(d.Groups, func(g groupChoice) bool { return g.ID == all[i].ID }) {
			d.Groups = append(d.Groups, groupChoice{all[i].ID, all[i].Name, all[i].Rule.V.Words(cat), 0, false})
		}
	}
	d.ForName = d.Doc.GroupName(d.For)
	d.Grid = d.Doc.Grid()
	for i := range d.Doc.Sections {
		x := &d.Doc.Sections[i]
		p := partView{Section: *x, C: x.Of(d.For), Open: x.ID == d.At, First: i == 0, Last: i == len(d.Doc.Sections)-1}
		_, p.Own = x.For[d.For]
		p.HTML = message.Sketch(x.Kind, p.C)
		p.Lacks = x.Kind.Lacks(p.C)
		p.Lines = strings.Join(p.C.Items, "\n")
		for _, g := range d.Doc.Groups {
			if _, ok := x.For[g.ID]; ok {
				p.Others = append(p.Others, g.Name)
			}
		}
		d.Parts = append(d.Parts, p)
	}
	fields, err := s.Engine.Fields(ctx)
	if err != nil {
		return err
	}
	d.Fields, d.Kinds = fieldGroups(fields), message.Kinds()
	if d.Events, err = s.Store.EventNames(ctx); err != nil {
		return err
	}
	if d.Shelf, err = s.Store.Shelf(ctx, "", s.Engine.Now(), false); err != nil {
		return err
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	if d.Pages, err = s.Store.PageNames(ctx); err != nil {
		return err
	}
	if d.Use, err = s.Store.MessageUse(ctx, id); err != nil {
		return err
	}
	edited, err := s.Store.EditedFor(ctx, id)
	if err != nil {
		return err
	}
	d.Edited = len(edited)
	own := func(w message.Words) string {
		if v, ok := w[d.For]; ok || d.For == message.Else {
			return v
		}
		return w[message.Else]
	}
	d.Subject, d.Pre, d.Text = own(d.Doc.Subject), own(d.Doc.Preheader), own(d.Doc.Written)
	if inv := d.Doc.Invite; inv != nil {
		d.When = inv.Start.In(s.Engine.Zone()).Format("2006-01-02T15:04")
	}
	d.Changed = d.M.Version == 0 || d.M.Open
	v := url.Values{}
	if d.At != 0 {
		v.Set("at", strconv.Itoa(d.At))
	}
	if d.For != 0 {
		v.Set("for", strconv.FormatInt(d.For, 10))
	}
	d.Address = fmt.Sprintf("/content/messages/%d", id)
	if len(v) > 0 {
		d.Address += "?" + v.Encode()
	}
	if shell.IsHTMX(c) {
		c.Response().Header().Set("HX-Push-Url", d.Address)
	}
	return s.PageCode(c, code, "message.html", "writer", "Content", d.M.Name, d)
}

func (s *Place) copyMessage(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	made, err := s.Engine.CopyMessage(c.Request().Context(), id, shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	return s.Done(c, fmt.Sprintf("/content/messages/%d", made), "This is the copy.")
}

func (s *Place) renameMessage(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	at := fmt.Sprintf("/content/messages/%d", id)
	name := person.Name(c.FormValue("name"))
	if err := s.Engine.RenameMessage(c.Request().Context(), id, name); errors.Is(err, post.ErrNameMessage) {
		return s.NotDone(c, at, shell.Sentence(err))
	} else if err != nil {
		return err
	}
	return s.Done(c, at, "")
}

func (s *Place) removeMessage(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	back := strings.HasSuffix(c.Request().URL.Path, "/back")
	err = s.Engine.RemoveMessage(c.Request().Context(), id, back)
	if errors.Is(err, people.ErrInUse) {
		return s.NotDone(c, fmt.Sprintf("/content/messages/%d", id), shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	if back {
		return s.Done(c, fmt.Sprintf("/content/messages/%d", id), "It is back.")
	}
	return s.Done(c, "/content", "The message is gone from the lists. Below them it can be put back.")
}
