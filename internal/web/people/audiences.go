package people

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/folder"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/engine/people"
	"ombak/internal/roster"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// audienceList is what the list of audiences shows. There are hundreds of
// audiences at most, so it is one page and sorted in memory.
type audienceList struct {
	Text    string
	Kind    string // live, hand, mine, idle or any
	Order   string // name, size, changed or moved
	Columns []string
}

var audienceColumns = []column{
	{"words", "who is in it", true, false}, {"people", "people", true, true},
	{"joined", "joined in 30 days", false, true}, {"left", "left in 30 days", false, true},
	{"used", "used by", true, true}, {"owner", "owner", true, false}, {"changed", "last changed", false, false},
	{"made", "made", false, false},
}

var audienceOrders = []shell.Choice{{Value: "name", Words: "by name", Chosen: false},
	{Value: "size", Words: "largest first", Chosen: false},
	{Value: "changed", Words: "last changed first", Chosen: false},
	{Value: "moved", Words: "most coming and going first", Chosen: false}}

func readAudiences(v url.Values) audienceList {
	l := audienceList{Text: person.Name(v.Get("text")), Kind: v.Get("kind"), Order: v.Get("order")}
	if !slices.Contains([]string{"live", "hand", "mine", "idle"}, l.Kind) {
		l.Kind = ""
	}
	if !slices.ContainsFunc(audienceOrders, func(o shell.Choice) bool { return o.Value == l.Order }) {
		l.Order = "name"
	}
	l.Columns = chosen(audienceColumns, v["col"])
	return l
}

func (l audienceList) values() url.Values {
	v := url.Values{}
	for k, x := range map[string]string{"text": l.Text, "kind": l.Kind} {
		if x != "" {
			v.Set(k, x)
		}
	}
	if l.Order != "name" {
		v.Set("order", l.Order)
	}
	if !slices.Equal(l.Columns, usualOf(audienceColumns)) {
		v["col"] = l.Columns
	}
	return v
}

type audiencesData struct {
	Query   audienceList
	Address string
	Rows    []audienceLine
	Heads   []head
	Columns []shell.Choice
	Orders  []shell.Choice
	Views   []store.SavedView
	Users   []store.User
	Export  []shell.Choice
	All     int
	Sub     string
	F       *shell.Folders
}

type audienceLine struct {
	store.Audience
	Words   string
	Figures store.AudienceFigures
	Cells   []cell
}

// audienceLines are the audiences of a list, in its order.
func (s *Place) audienceLines(c *echo.Context, l audienceList) (out []audienceLine, all int, err error) {
	ctx := c.Request().Context()
	list, err := s.Store.Audiences(ctx)
	if err != nil {
		return nil, 0, err
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return nil, 0, err
	}
	figures, err := s.audienceFigures(ctx)
	if err != nil {
		return nil, 0, err
	}
	me := shell.UserOf(c).ID
	for _, a := range list {
		x := audienceLine{Audience: a, Words: "picked by hand", Figures: figures[a.ID]}
		if a.Live {
			x.Words = a.Rule.V.Sentence(cat)
		}
		mine := a.OwnerID != nil && *a.OwnerID == me
		if l.Kind == "live" && !a.Live || l.Kind == "hand" && a.Live || l.Kind == "mine" && !mine || l.Kind == "idle" &&
			x.Figures.Used > 0 ||
			!strings.Contains(rule.Fold(a.Name+" "+a.Note+" "+x.Words), rule.Fold(l.Text)) {
			continue
		}
		out = append(out, x)
	}
	less := map[string]func(a, b *audienceLine) bool{
		"size":    func(a, b *audienceLine) bool { return a.Members > b.Members },
		"changed": func(a, b *audienceLine) bool { return a.Changed.After(b.Changed) },
		"moved": func(a, b *audienceLine) bool {
			return a.Figures.Joined+a.Figures.Left > b.Figures.Joined+b.Figures.Left
		},
	}[l.Order]
	if less != nil {
		sort.SliceStable(out, func(i, j int) bool { return less(&out[i], &out[j]) })
	}
	return out, len(list), nil
}

func (s *Place) audiences(c *echo.Context) error {
	ctx := c.Request().Context()
	l := readAudiences(c.QueryParams())
	d := audiencesData{Query: l, Address: l.values().Encode(), Sub: "audiences",
		Export: []shell.Choice{{Value: "csv", Words: "CSV", Chosen: false},
			{Value: "xlsx", Words: "Sheet (XLSX)", Chosen: false}, {Value: "json", Words: "JSON", Chosen: false}}}
	var err error
	if d.Rows, d.All, err = s.audienceLines(c, l); err != nil {
		return err
	}
	if d.F, err = s.Folders(c, folder.Audience, "/people/audiences"); err != nil {
		return err
	}
	d.Rows = shell.Firsts(d.F, shell.InFolder(d.F, d.Rows, func(a *audienceLine) int64 { return a.ID }))
	for i := range d.Rows {
		d.Rows[i].Cells = s.audienceCells(&d.Rows[i], l.Columns)
	}
	for _, x := range audienceColumns {
		shown := slices.Contains(l.Columns, x.key)
		d.Columns = append(d.Columns, shell.Choice{Value: x.key, Words: x.name, Chosen: shown})
		if shown {
			d.Heads = append(d.Heads, head{Key: x.key, Name: x.name, Num: x.right})
		}
	}
	for _, o := range audienceOrders {
		o.Chosen = o.Value == l.Order
		d.Orders = append(d.Orders, o)
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	if d.Views, err = s.Store.SavedViews(ctx, "audiences", shell.UserOf(c).ID); err != nil {
		return err
	}
	for i := range d.Views {
		d.Views[i].Here = d.Views[i].Query == d.Address
	}
	if shell.IsHTMX(c) {
		c.Response().Header().Set("HX-Push-Url", "/people/audiences?"+d.Address)
	}
	return s.Page(c, "audiences.html", "list", "People", "Audiences", d)
}

func (s *Place) audienceCells(x *audienceLine, columns []string) []cell {
	count := func(n int64) cell {
		if n == 0 {
			return cell{Num: true}
		}
		return cell{Text: shell.Thousands(n), Num: true}
	}
	day := shell.DayForm
	people := cell{Text: shell.Thousands(x.Members), Num: true}
	if x.Recount {
		people.Text = "being counted"
	}
	var out []cell
	for _, k := range columns {
		out = append(out, map[string]cell{
			"words": {Text: x.Words}, "people": people, "joined": count(x.Figures.Joined),
			"left": count(x.Figures.Left), "used": count(x.Figures.Used), "owner": {Text: x.Owner},
			"changed": {Text: x.Changed.In(s.Engine.Zone()).Format(day)},
			"made":    {Text: x.Created.In(s.Engine.Zone()).Format(day)},
		}[k])
	}
	return out
}

// exportAudiences writes the list of audiences, not of their people, as a file.
func (s *Place) exportAudiences(c *echo.Context) error {
	f := roster.Form(c.QueryParam("form"))
	if f != roster.CSV && f != roster.XLSX && f != roster.JSON {
		return echo.ErrBadRequest
	}
	list, _, err := s.audienceLines(c, readAudiences(c.QueryParams()))
	if err != nil {
		return err
	}
	if err := s.Attach(c, f, s.FileName("audiences")); err != nil {
		return err
	}
	w, err := roster.NewWriter(f, c.Response())
	if err != nil {
		return err
	}
	if err := w.Head([]string{"audience", "note", "who is in it", "people", "joined in 30 days", "left in 30 days",
		"used by", "owner", "made", "last changed"}); err != nil {
		return err
	}
	for _, x := range list {
		n := func(n int64) string { return strconv.FormatInt(n, 10) }
		day := "2006-01-02"
		if err := w.Row([]string{x.Name, x.Note, x.Words, n(x.Members), n(x.Figures.Joined), n(x.Figures.Left),
			n(x.Figures.Used), x.Owner, x.Created.Format(day), x.Changed.Format(day)}); err != nil {
			return err
		}
	}
	return w.Close()
}

// bulkAudiences does something with the ticked audiences: gives them to
// somebody, leads to their people, where whatever can be done to people can be
// done, or removes those that nothing asks for.
func (s *Place) bulkAudiences(c *echo.Context) error {
	ctx := c.Request().Context()
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	list, err := url.ParseQuery(form.Get("list"))
	if err != nil {
		return echo.ErrBadRequest
	}
	l := readAudiences(list)
	back := "/people/audiences?" + l.values().Encode()
	lines, _, err := s.audienceLines(c, l)
	if err != nil {
		return err
	}
	var chosen []audienceLine
	var ids []int64
	for _, x := range lines {
		if form.Get("everybody") != "" || slices.Contains(form["id"], strconv.FormatInt(x.ID, 10)) {
			chosen, ids = append(chosen, x), append(ids, x.ID)
		}
	}
	if len(chosen) == 0 {
		return s.NotDone(c, back, "Tick an audience first.")
	}
	switch form.Get("do") {
	case "people":
		if len(chosen) > 60 {
			return s.NotDone(c, back, "Tick at most 60 audiences, to see their people together.")
		}
		var r rule.Rule
		for _, id := range ids {
			r.Any = append(r.Any, rule.ThingIs(rule.Audience, id))
		}
		return c.Redirect(http.StatusSeeOther,
			"/people?"+shell.ListQuery{Rule: r, Order: store.ByScore, Columns: shell.UsualColumns}.Values().Encode())
	case "owner":
		n, err := s.Engine.GiveAudiences(ctx, ids, shell.Number(form.Get("owner")))
		if err != nil {
			return err
		}
		return s.Done(c, back,
			fmt.Sprintf("%d %s another owner now.", n, shell.Either(n == 1, "audience has", "audiences have")))
	case "remove":
		if form.Get("sure") == "" {
			return s.NotDone(c, back,
				fmt.Sprintf("Tick that %s may go, with who joined and left. The people stay.",
					shell.Either(len(chosen) == 1, "“"+chosen[0].Name+"”",
						fmt.Sprintf("the %d audiences", len(chosen)))))
		}
		gone, kept := 0, []string{}
		// An audience can be asked for by another that goes too: go round until
		// nothing more can.
		for left := chosen; len(left) > 0; {
			var stay []audienceLine
			for _, x := range left {
				switch err := s.Engine.RemoveAudience(ctx, x.ID); {
				case errors.Is(err, people.ErrInUse):
					stay = append(stay, x)
				case err != nil && !store.IsNotFound(err):
					return err
				default:
					gone++
				}
			}
			if len(stay) == len(left) {
				for _, x := range stay {
					kept = append(kept, "“"+x.Name+"”")
				}
				break
			}
			left = stay
		}
		said := fmt.Sprintf("%d gone; their people are still here.", gone)
		if len(kept) > 0 {
			said += " In use, and so still here: " + strings.Join(kept, ", ") + "."
		}
		if gone == 0 {
			return s.NotDone(c, back, said)
		}
		return s.Done(c, back, said)
	}
	return echo.ErrBadRequest
}
