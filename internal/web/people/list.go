package people

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/act"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/people"
	"ombak/internal/roster"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// listOf reads what a list shows, and what there is to ask for.
func (s *Place) listOf(c *echo.Context, v url.Values) (shell.ListQuery, *rule.Catalogue, error) {
	cat, err := s.Store.Catalogue(c.Request().Context())
	if err != nil {
		return shell.ListQuery{}, nil, err
	}
	r, _, err := shell.ReadRule(v, cat)
	if err != nil {
		return shell.ListQuery{}, nil, echo.ErrBadRequest.Wrap(err)
	}
	if r.TooLarge() {
		return shell.ListQuery{}, nil, echo.NewHTTPError(http.StatusBadRequest, "the rule is too large")
	}
	q := shell.ListQuery{Rule: r, Text: person.Name(v.Get("text")), Order: store.Order(v.Get("order"))}
	if !slices.Contains(store.Orders(), q.Order) {
		q.Order = store.ByScore
	}
	q.Behind = store.ParseBehind(v.Get("behind"))
	q.Batch, _ = strconv.ParseInt(v.Get("batch"), 10, 64) // none: everybody
	for _, c := range v["col"] {
		if columnName(c, cat) != "" && !slices.Contains(q.Columns, c) && len(q.Columns) < 20 {
			q.Columns = append(q.Columns, c)
		}
	}
	if len(q.Columns) == 0 {
		q.Columns = shell.UsualColumns
	}
	return q, cat, nil
}

// columnName is the head of a column; empty for what is none.
func columnName(c string, cat *rule.Catalogue) string {
	switch c {
	case "score", "fit", "sequences", "tags":
		return c
	}
	d, ok := cat.Define(rule.Field(c))
	if !ok || d.Field == person.FirstName || d.Field == person.LastName {
		return ""
	}
	return d.Name
}

type peopleData struct {
	Query   shell.ListQuery
	Address string // of this list, as a query
	Editor  shell.RuleView
	Words   string
	Pending bool // a condition is still being made
	Rows    []personRow
	Later   string // where they are looked for, until they are found
	Finder  bool   // addresses can be looked for
	Heads   []head
	More    string
	Line    int
	Orders  []shell.Choice
	Columns []shell.Choice
	Views   []store.SavedView
	Tags    []store.Tag
	Users   []store.User
	Hand    []store.Audience
	Running []store.SequenceName
	Purpose []store.Purpose
	Export  []shell.Choice
	Sub     string
	Behind  *behindWords
}

type head struct {
	Key, Name string
	Num       bool
	Sort      string // address that sorts by it
	Sorted    bool
}

type personRow struct {
	store.Person
	Cells []cell
}

type cell struct {
	Text string
	Num  bool
	Hot  bool
}

func (s *Place) people(c *echo.Context) error {
	ctx := c.Request().Context()
	q, cat, err := s.listOf(c, c.QueryParams())
	if err != nil {
		return err
	}
	d := peopleData{Query: q, Address: q.Values().Encode(), Sub: "people", Finder: s.Engine.Finder != nil}
	if d.Behind, err = s.behind(c, q.Behind); err != nil {
		return err
	}
	pq := q.People(cat, s.Engine.Now())
	pq.After = store.ParseKey(c.QueryParam("after"))
	more := pq.After != (store.Key{}) && shell.IsHTMX(c)
	pq.AtOnce = !more
	if err := s.findPeople(c, pq, cat, &d); errors.Is(err, store.ErrLonger) {
		v := q.Values()
		if pq.After != (store.Key{}) {
			v.Set("after", pq.After.String())
		}
		d.Later = "/people/found?" + v.Encode()
	} else if err != nil {
		return err
	}
	if more {
		return s.Page(c, "people.html", "rows", "People", "People", d)
	}
	d.Editor = shell.ViewRule(q.Rule, cat)
	whole := shell.Complete(q.Rule, cat)
	d.Words = whole.Words(cat)
	d.Pending = q.Rule.Check(cat) != nil
	for _, o := range store.Orders() {
		d.Orders = append(d.Orders,
			shell.Choice{Value: string(o),
				Words: map[store.Order]string{store.ByScore: "highest score first", store.ByName: "by last name",
					store.ByCompany: "by company", store.ByEmail: "by address", store.Newest: "newest first"}[o],
				Chosen: o == q.Order})
	}
	d.Columns = append(d.Columns,
		shell.Choice{Value: "score", Words: "score", Chosen: slices.Contains(q.Columns, "score")},
		shell.Choice{Value: "fit", Words: "fit", Chosen: slices.Contains(q.Columns, "fit")},
		shell.Choice{Value: "sequences", Words: "sequences", Chosen: slices.Contains(q.Columns, "sequences")},
		shell.Choice{Value: "tags", Words: "tags", Chosen: slices.Contains(q.Columns, "tags")})
	for _, f := range cat.Fields() {
		if name := columnName(string(f.Field), cat); name != "" {
			d.Columns = append(d.Columns,
				shell.Choice{Value: string(f.Field), Words: name, Chosen: slices.Contains(q.Columns, string(f.Field))})
		}
	}
	if d.Views, err = s.Store.SavedViews(ctx, "people", shell.UserOf(c).ID); err != nil {
		return err
	}
	for i := range d.Views {
		d.Views[i].Here = d.Views[i].Query == d.Address
	}
	if d.Tags, err = s.Store.TagNames(ctx); err != nil {
		return err
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	if d.Purpose, err = s.Store.Purposes(ctx); err != nil {
		return err
	}
	if d.Running, err = s.Store.RunningNames(ctx); err != nil {
		return err
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
	d.Export = []shell.Choice{{Value: "csv", Words: "CSV", Chosen: false},
		{Value: "xlsx", Words: "Sheet (XLSX)", Chosen: false}, {Value: "vcard", Words: "Cards (vCard)", Chosen: false},
		{Value: "json", Words: "JSON", Chosen: false}}
	if shell.IsHTMX(c) {
		c.Response().Header().Set("HX-Push-Url", "/people?"+d.Address)
	}
	return s.Page(c, "people.html", "list", "People", "People", d)
}

// findPeople reads a page of people, with the columns that are shown of them.
func (s *Place) findPeople(c *echo.Context, pq store.PeopleQuery, cat *rule.Catalogue, d *peopleData) error {
	ctx, q := c.Request().Context(), d.Query
	list, key, err := s.Store.People(ctx, pq)
	if err != nil {
		return err
	}
	if m, err := s.Store.Model(ctx); err == nil {
		d.Line = m.Line
	} else if !store.IsNotFound(err) {
		return err
	}
	if d.Rows, err = s.rows(c, list, q.Columns, d.Line); err != nil {
		return err
	}
	if len(list) == shell.PageOfPeople {
		v := q.Values()
		v.Set("after", key.String())
		d.More = "/people?" + v.Encode()
	}
	for _, k := range q.Columns {
		d.Heads = append(d.Heads, s.headOf(k, q, cat))
	}
	return nil
}

// found answers whom a list is about, where they are not found at once; the page is there already.
func (s *Place) found(c *echo.Context) error {
	q, cat, err := s.listOf(c, c.QueryParams())
	if err != nil {
		return err
	}
	if !shell.IsHTMX(c) { // somebody opened it, who wants the page
		return c.Redirect(http.StatusSeeOther, "/people?"+q.Values().Encode())
	}
	d := peopleData{Query: q}
	pq := q.People(cat, s.Engine.Now())
	pq.After = store.ParseKey(c.QueryParam("after"))
	if err := s.findPeople(c, pq, cat, &d); err != nil {
		return err
	}
	return s.Page(c, "people.html", "found", "People", "People", d)
}

func (s *Place) headOf(k string, q shell.ListQuery, cat *rule.Catalogue) head {
	h := head{Key: k, Name: columnName(k, cat)}
	d, _ := cat.Define(rule.Field(k))
	h.Num = k == "score" || k == "fit" || k == "sequences" || d.Type == person.Number
	order := map[string]store.Order{"score": store.ByScore, "company": store.ByCompany, "email": store.ByEmail,
		"first met": store.Newest}[k]
	if order != "" {
		h.Sorted = q.Order == order
		q.Order = order
		h.Sort = "/people?" + q.Values().Encode()
	}
	return h
}

// rows fills in the chosen columns of some people.
func (s *Place) rows(c *echo.Context, list []store.Person, columns []string, line int) ([]personRow, error) {
	var tags map[int64][]string
	if slices.Contains(columns, "tags") {
		var ids []int64
		for _, p := range list {
			ids = append(ids, p.ID)
		}
		var err error
		if tags, err = s.Store.TagsOf(c.Request().Context(), ids); err != nil {
			return nil, err
		}
	}
	var fit rule.Fit
	if slices.Contains(columns, "fit") {
		m, err := s.Store.Model(c.Request().Context())
		if err != nil && !store.IsNotFound(err) {
			return nil, err
		}
		fit = m.Fit
	}
	out := make([]personRow, len(list))
	for i := range list {
		p := &list[i]
		v := p.Values()
		out[i].Person = *p
		for _, k := range columns {
			var x cell
			switch k {
			case "score":
				x = cell{Text: strings.TrimSuffix(fmt.Sprintf("%.1f", p.Score), ".0"), Num: true,
					Hot: line > 0 && p.Score >= float64(line)}
			case "fit":
				x = cell{Text: strconv.Itoa(fit.Of(&rule.Record{Values: v})), Num: true}
			case "sequences":
				if x = (cell{Num: true}); p.Sequences > 0 {
					x.Text = strconv.Itoa(p.Sequences)
				}
			case "tags":
				x.Text = strings.Join(tags[p.ID], ", ")
			case string(person.PhoneField):
				x.Text = person.ShowPhone(p.Phone)
			case string(person.Country), string(person.CompanyCountry):
				x.Text = person.CountryName(v[rule.Field(k)])
			case string(person.Language):
				x.Text = person.LanguageName(p.Language)
			case string(person.Created):
				x.Text = p.Created.In(s.Engine.Zone()).Format(shell.DayForm)
			case string(person.Size):
				if x = (cell{Num: true}); p.Size > 0 {
					x.Text = shell.Thousands(p.Size)
				}
			default:
				x.Text = person.Shown(v[rule.Field(k)])
			}
			out[i].Cells = append(out[i].Cells, x)
		}
	}
	return out, nil
}

// countPeople answers how many a list is about; the list comes first.
func (s *Place) countPeople(c *echo.Context) error {
	ctx := c.Request().Context()
	q, cat, err := s.listOf(c, c.QueryParams())
	if err != nil {
		return err
	}
	n, err := s.Engine.HowMany(ctx, q.People(cat, s.Engine.Now()))
	if err != nil {
		return err
	}
	return c.Render(http.StatusOK, "people.html#count", shell.View{Data: n})
}

// exportPeople writes a list as a file.
func (s *Place) exportPeople(c *echo.Context) error {
	q, cat, err := s.listOf(c, c.QueryParams())
	if err != nil {
		return err
	}
	pq := q.People(cat, s.Engine.Now())
	for _, id := range c.QueryParams()["id"] {
		n, err := strconv.ParseInt(id, 10, 64)
		if err != nil {
			return echo.ErrBadRequest
		}
		pq.Only = append(pq.Only, n)
	}
	return s.writeList(c, pq, "people")
}

// writeList answers a list as a file of the form that was asked for; where there are
// many, it is written as work of its own, with a page that shows how far it is.
func (s *Place) writeList(c *echo.Context, pq store.PeopleQuery, name string) error {
	ctx := c.Request().Context()
	f := roster.Form(c.FormValue("form"))
	if roster.Types[f] == "" {
		return echo.ErrBadRequest
	}
	n, err := s.Store.CountPeople(ctx, pq)
	if err != nil {
		return err
	}
	if n > int64(s.Engine.People.BigExport) {
		id, err := s.Engine.People.BeginExport(ctx, pq, f, s.FileName(name), shell.UserOf(c).ID)
		if err != nil {
			return err
		}
		return c.Redirect(http.StatusSeeOther, batchAddress(id))
	}
	if err := s.Attach(c, f, s.FileName(name)); err != nil {
		return err
	}
	_, err = s.Engine.Export(ctx, pq, f, c.Response())
	return err
}

// chosen reads whom a bulk action is about: the ticked rows, or all as
// described.
func (s *Place) chosen(c *echo.Context) (people.Chosen, error) {
	form, err := c.FormValues()
	if err != nil {
		return people.Chosen{}, err
	}
	if len(form["id"]) > 5000 {
		return people.Chosen{}, echo.ErrBadRequest
	}
	if form.Get("everybody") != "" {
		v, err := url.ParseQuery(form.Get("list"))
		if err != nil {
			return people.Chosen{}, echo.ErrBadRequest
		}
		q, cat, err := s.listOf(c, v)
		if err != nil {
			return people.Chosen{}, err
		}
		pq := q.People(cat, s.Engine.Now())
		return people.Chosen{All: &pq}, nil
	}
	var who people.Chosen
	for _, id := range form["id"] {
		n, err := strconv.ParseInt(id, 10, 64)
		if err != nil {
			return who, echo.ErrBadRequest
		}
		who.IDs = append(who.IDs, n)
	}
	return who, nil
}

// bulk begins a bulk action on the chosen people of a list.
func (s *Place) bulk(c *echo.Context) error {
	ctx := c.Request().Context()
	user := shell.UserOf(c).ID
	back := "/people?" + c.FormValue("list")
	who, err := s.chosen(c)
	if err != nil {
		return err
	}
	if who.All == nil && len(who.IDs) == 0 {
		return s.NotDone(c, back, "Tick somebody first.")
	}
	kind, title := "set", ""
	d := store.BatchDetail{Set: person.Values{}}
	id, _ := strconv.ParseInt(c.FormValue("which"), 10, 64) // of an owner, audience or purpose; none: 0
	switch c.FormValue("do") {
	case "tag", "untag":
		name := person.Name(c.FormValue("tag"))
		tag, err := s.Engine.TagNamed(ctx, name, user)
		if errors.Is(err, people.ErrNameTag) {
			return s.NotDone(c, back, "Name the tag first.")
		}
		if err != nil {
			return err
		}
		title = "tag “" + name + "”"
		d.Set[person.Mark(person.TagMark, tag)] = "yes"
		if c.FormValue("do") == "untag" {
			title = "take the tag “" + name + "” off"
			d.Set[person.Mark(person.TagMark, tag)] = ""
		}
	case "owner":
		title = "no owner"
		d.Set[person.Owner] = ""
		if o, _ := strconv.ParseInt(c.FormValue("owner"), 10, 64); o != 0 {
			u, err := s.Store.User(ctx, o)
			if err != nil {
				return err
			}
			title, d.Set[person.Owner] = "owner "+u.Name, u.Name
		}
	case "audience", "leave":
		if id, err = strconv.ParseInt(c.FormValue("audience"), 10, 64); err != nil {
			return s.NotDone(c, back, "Choose a hand-picked audience first.")
		}
		a, err := s.Store.Audience(ctx, id)
		if err != nil {
			return err
		}
		if a.Live {
			return s.NotDone(c, back, "People join a live audience by its rule; choose a hand-picked one.")
		}
		title, d.Set[person.Mark(person.AudienceMark, id)] = "into the audience “"+a.Name+"”", "yes"
		if c.FormValue("do") == "leave" {
			title, d.Set[person.Mark(person.AudienceMark, id)] = "out of the audience “"+a.Name+"”", ""
		}
	case "consent", "withdraw":
		if id, err = strconv.ParseInt(c.FormValue("purpose"), 10, 64); err != nil {
			return s.NotDone(c, back, "Choose the purpose first.")
		}
		d.Ground = person.Name(c.FormValue("ground"))
		if c.FormValue("do") == "consent" && d.Ground == "" {
			return s.NotDone(c, back, "Say on what ground they agreed: where they did so, and when.")
		}
		title, d.Set[person.Mark(person.ConsentMark, id)] = "consent given", "yes"
		if c.FormValue("do") == "withdraw" {
			title, d.Set[person.Mark(person.ConsentMark, id)] = "consent taken back", ""
		}
	case "find":
		if s.Engine.Finder == nil {
			return s.NotDone(c, back, "No finder of addresses is connected.")
		}
		x := act.Find{Use: act.Use(c.FormValue("use"))}
		if err := x.Check(); err != nil {
			return s.NotDone(c, back, shell.Sentence(err))
		}
		kind, title, d.Find = "find", "find email addresses", string(x.Use)
	case "stop", "allow":
		title, d.Set[person.DoNotContact] = "do not contact", "yes"
		if c.FormValue("do") == "allow" {
			title, d.Set[person.DoNotContact] = "may be contacted", ""
		}
	case "erase":
		if c.FormValue("sure") != "erase" {
			return s.NotDone(c, back,
				"Nobody was erased: type the word “erase” to say that you are sure. It cannot be undone.")
		}
		kind, title = "erase", "erase people"
	case string(flow.PutIn), string(flow.TakeOut), string(flow.HoldBack), string(flow.LetGo):
		x := flow.ByHand{Do: flow.HandDeed(c.FormValue("do")), Sequence: shell.Number(c.FormValue("sequence"))}
		if x.Sequence == 0 {
			return s.NotDone(c, back, "Choose the sequence first.")
		}
		if title, err = s.Engine.CheckHand(ctx, x); err != nil {
			if store.IsNotFound(err) {
				return err
			}
			return s.NotDone(c, back, shell.Sentence(err))
		}
		kind, d.Way = "way", &store.HandWay{Do: string(x.Do), Sequence: x.Sequence}
	default:
		return echo.ErrBadRequest
	}
	batch, err := s.Engine.Bulk(ctx, kind, title, who, d, user)
	if err != nil {
		return s.NotDone(c, back, shell.Sentence(err))
	}
	return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/people/work/%d", batch))
}

// saveView keeps a list as it stands under a name.
func (s *Place) saveView(c *echo.Context) error {
	ctx := c.Request().Context()
	name, kind, to := person.Name(c.FormValue("name")), "people", "/people?"
	v, err := url.ParseQuery(c.FormValue("list"))
	if err != nil {
		return echo.ErrBadRequest
	}
	query := ""
	switch c.FormValue("kind") {
	case "companies":
		cat, err := s.Store.Catalogue(ctx)
		if err != nil {
			return err
		}
		kind, to, query = "companies", "/people/companies?",
			readCompaniesWith(v, companyColumnsWith(cat)).values().Encode()
	case "audiences":
		kind, to, query = "audiences", "/people/audiences?", readAudiences(v).values().Encode()
	default:
		q, _, err := s.listOf(c, v)
		if err != nil {
			return err
		}
		query = q.Values().Encode()
	}
	if name == "" {
		return s.NotDone(c, to+query, "Give the view a name first.")
	}
	owner := shell.UserOf(c).ID
	if c.FormValue("for") == "everybody" {
		owner = 0
	}
	if err := s.Store.SaveView(ctx, store.SavedView{List: kind, Name: name, Query: query}, owner); err != nil {
		return err
	}
	return s.Done(c, to+query, "Saved as “"+name+"”.")
}

func (s *Place) removeView(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Store.RemoveView(c.Request().Context(), id, shell.UserOf(c).ID); err != nil {
		return err
	}
	to := "/people"
	if kind := c.FormValue("kind"); kind == "companies" || kind == "audiences" {
		to += "/" + kind
	}
	return s.Done(c, to, "The saved view is gone; nobody in it is.")
}
