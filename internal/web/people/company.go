package people

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"
	"golang.org/x/sync/errgroup"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/engine/people"
	"ombak/internal/roster"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// companyColumnsWith are they and the workspace's own fields of companies.
func companyColumnsWith(cat *rule.Catalogue) []column {
	out := slices.Clone(companyColumns)
	for _, d := range cat.Own {
		if d.Company {
			out = append(out, column{key: string(d.Field), name: d.Name, right: d.Type == person.Number})
		}
	}
	return out
}

// companyColumns are the columns of the companies list, and which of them are
// shown where none are chosen.
var companyColumns = []column{
	{"industry", "industry", true, false}, {"country", "country", true, false}, {"size", "works there", true, true},
	{"revenue", "revenue", false, false},
	{"people", "people here", true, true}, {"deals", "open deals", true, true}, {"score", "highest score", true, true},
	{"since", "first met", false, false},
}

type companiesData struct {
	Rows       []companyRow
	Heads      []head
	Total      *int64 // nil: it is counted behind the page
	Query      store.CompanyQuery
	Address    string
	Countries  []string
	Industries []string
	Orders     []shell.Choice
	Columns    []shell.Choice
	Views      []store.SavedView
	Export     []shell.Choice
	More       string
	Sub        string
}

type companyRow struct {
	store.Company
	Cells []cell
}

// companyList is what a list of companies shows; all of it stands in the page's address.
type companyList struct {
	store.CompanyQuery
	Columns []string
}

func readCompanies(v url.Values) companyList { return readCompaniesWith(v, companyColumns) }

func readCompaniesWith(v url.Values, columns []column) companyList {
	l := companyList{CompanyQuery: store.CompanyQuery{Text: person.Name(v.Get("text")),
		Industry: person.Name(v.Get("industry")), Order: v.Get("order"), Limit: shell.PageOfPeople}}
	l.Country, _ = person.CountryCode(v.Get("country")) // what is no country is any
	if n, err := strconv.Atoi(v.Get("least")); err == nil && n > 0 && n < 10_000_000 {
		l.Least = n
	}
	if !slices.Contains(store.CompanyOrders(), l.Order) {
		l.Order = "name"
	}
	l.Columns = chosen(columns, v["col"])
	return l
}

func (l companyList) values() url.Values {
	v := url.Values{}
	for k, x := range map[string]string{"text": l.Text, "country": l.Country, "industry": l.Industry} {
		if x != "" {
			v.Set(k, x)
		}
	}
	if l.Least > 0 {
		v.Set("least", strconv.Itoa(l.Least))
	}
	if l.Order != "name" {
		v.Set("order", l.Order)
	}
	if !slices.Equal(l.Columns, usualOf(companyColumns)) {
		v["col"] = l.Columns
	}
	return v
}

// countCompanies counts those of a list, behind its page: with words it takes a while.
func (s *Place) countCompanies(c *echo.Context) error {
	ctx := c.Request().Context()
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	q := readCompaniesWith(c.QueryParams(), companyColumnsWith(cat)).CompanyQuery
	q.Order, q.After, q.Limit = "", store.Key{}, 0
	n, err := shell.Lately(ctx, s.Shell, &s.counts, q, func(ctx context.Context) (int64, error) {
		return s.Store.CountCompanies(ctx, q)
	})
	if err != nil {
		return err
	}
	return c.Render(http.StatusOK, "companies.html#count", shell.View{Data: &n})
}

func (s *Place) companies(c *echo.Context) error {
	ctx := c.Request().Context()
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	columns := companyColumnsWith(cat)
	l := readCompaniesWith(c.QueryParams(), columns)
	l.After = store.ParseKey(c.QueryParam("after"))
	d := companiesData{Query: l.CompanyQuery, Address: l.values().Encode(), Sub: "companies",
		Export: []shell.Choice{{Value: "csv", Words: "CSV", Chosen: false},
			{Value: "xlsx", Words: "Sheet (XLSX)", Chosen: false}, {Value: "json", Words: "JSON", Chosen: false}}}
	list, key, err := s.Store.Companies(ctx, l.CompanyQuery)
	if err != nil {
		return err
	}
	for _, x := range list {
		d.Rows = append(d.Rows, companyRow{x, s.companyCells(x, l.Columns)})
	}
	if len(list) == shell.PageOfPeople {
		v := l.values()
		v.Set("after", key.String())
		d.More = "/people/companies?" + v.Encode()
	}
	if l.After != (store.Key{}) && shell.IsHTMX(c) {
		return s.Page(c, "companies.html", "rows", "People", "Companies", d)
	}
	for _, x := range columns {
		shown := slices.Contains(l.Columns, x.key)
		d.Columns = append(d.Columns, shell.Choice{Value: x.key, Words: x.name, Chosen: shown})
		if shown {
			d.Heads = append(d.Heads, head{Key: x.key, Name: x.name, Num: x.right})
		}
	}
	for _, o := range store.CompanyOrders() {
		d.Orders = append(d.Orders,
			shell.Choice{Value: o,
				Words:  map[string]string{"name": "by name", "size": "largest first", "newest": "newest first"}[o],
				Chosen: o == l.Order})
	}
	if n := int64(len(list)); d.More == "" && l.After == (store.Key{}) {
		d.Total = &n
	}
	d.Countries, err = shell.Lately(ctx, s.Shell, &s.words, "countries", s.Store.CompanyCountries)
	if err != nil {
		return err
	}
	d.Countries = slices.Clone(d.Countries)
	sort.Slice(d.Countries, func(i, j int) bool {
		return person.CountryName(d.Countries[i]) < person.CountryName(d.Countries[j])
	})
	if d.Industries, err = shell.Lately(ctx, s.Shell, &s.words, "industries", s.Store.Industries); err != nil {
		return err
	}
	if d.Views, err = s.Store.SavedViews(ctx, "companies", shell.UserOf(c).ID); err != nil {
		return err
	}
	for i := range d.Views {
		d.Views[i].Here = d.Views[i].Query == d.Address
	}
	if shell.IsHTMX(c) {
		c.Response().Header().Set("HX-Push-Url", "/people/companies?"+d.Address)
	}
	return s.Page(c, "companies.html", "list", "People", "Companies", d)
}

func (s *Place) companyCells(x store.Company, columns []string) []cell {
	count := func(n int64) cell {
		if n == 0 {
			return cell{Num: true}
		}
		return cell{Text: shell.Thousands(n), Num: true}
	}
	var out []cell
	own := x.Values()
	for _, k := range columns {
		if _, ok := person.Field(k).OwnID(); ok {
			v := own[person.Field(k)]
			_, err := strconv.ParseFloat(v, 64)
			out = append(out, cell{Text: person.Shown(v), Num: err == nil})
			continue
		}
		out = append(out, map[string]cell{
			"industry": {Text: x.Industry}, "country": {Text: person.CountryName(x.Country)},
			"size": count(int64(x.Size)), "revenue": {Text: x.Revenue}, "people": count(x.People),
			"deals": count(x.Open),
			"score": {Text: strings.TrimSuffix(fmt.Sprintf("%.1f", x.Best), ".0"), Num: true},
			"since": {Text: x.Created.In(s.Engine.Zone()).Format(shell.DayForm)},
		}[k])
	}
	return out
}

// peopleOf leads from ticked companies to the people who work there, where
// whatever can be done to people can be done.
func (s *Place) peopleOf(c *echo.Context) error {
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	back := "/people/companies?" + form.Get("list")
	to := func(r rule.Rule) error {
		return c.Redirect(http.StatusSeeOther,
			"/people?"+shell.ListQuery{Rule: r, Order: store.ByCompany, Columns: shell.UsualColumns}.Values().Encode())
	}
	if form.Get("everybody") != "" {
		v, err := url.ParseQuery(form.Get("list"))
		if err != nil {
			return echo.ErrBadRequest
		}
		return to(readCompanies(v).people())
	}
	if len(form["id"]) == 0 {
		return s.NotDone(c, back, "Tick a company first.")
	}
	if len(form["id"]) > 150 {
		return s.NotDone(c, back, "Tick at most 150 companies, or describe their people.")
	}
	var ids []int64
	for _, id := range form["id"] {
		ids = append(ids, shell.Number(id))
	}
	list, err := s.Store.CompaniesByID(c.Request().Context(), ids)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return s.NotDone(c, back, "These companies are not there any more.")
	}
	var domains, names []string
	for _, x := range list {
		if x.Domain != "" {
			domains = append(domains, x.Domain)
		} else {
			names = append(names, x.Name)
		}
	}
	var r rule.Rule
	if len(domains) > 0 {
		r.Any = append(r.Any, rule.Rule{If: &rule.Condition{Field: person.Domain, Op: rule.OneOf, Values: domains}})
	}
	if len(names) > 0 {
		r.Any = append(r.Any, rule.Rule{If: &rule.Condition{Field: person.Company, Op: rule.OneOf, Values: names}})
	}
	return to(r)
}

// people is the list's description as a rule over the people who work there.
func (l companyList) people() rule.Rule {
	r := rule.Rule{All: []rule.Rule{{If: &rule.Condition{Field: person.Company, Op: rule.Known}}}}
	and := func(c rule.Condition) { r.All = append(r.All, rule.Rule{If: &c}) }
	if l.Country != "" {
		and(rule.Condition{Field: person.CompanyCountry, Op: rule.Is, Value: l.Country})
	}
	if l.Industry != "" {
		and(rule.Condition{Field: person.Industry, Op: rule.Is, Value: l.Industry})
	}
	if l.Least > 0 {
		and(rule.Condition{Field: person.Size, Op: rule.AtLeast, Value: strconv.Itoa(l.Least)})
	}
	if l.Text != "" {
		r.All = append(r.All,
			rule.Rule{Any: []rule.Rule{{If: &rule.Condition{Field: person.Company, Op: rule.Contains, Value: l.Text}},
				{If: &rule.Condition{Field: person.Domain, Op: rule.Contains, Value: l.Text}}}})
	}
	return r
}

// exportCompanies writes the list as a file.
func (s *Place) exportCompanies(c *echo.Context) error {
	f := roster.Form(c.QueryParam("form"))
	if f != roster.CSV && f != roster.XLSX && f != roster.JSON {
		return echo.ErrBadRequest
	}
	if err := s.Attach(c, f, s.FileName("companies")); err != nil {
		return err
	}
	w, err := roster.NewWriter(f, c.Response())
	if err != nil {
		return err
	}
	cat, err := s.Store.Catalogue(c.Request().Context())
	if err != nil {
		return err
	}
	heads := []string{"company", "company domain", "industry", "company size", "revenue", "company country", "people",
		"open deals", "highest score"}
	var own []person.Field
	for _, d := range cat.Own {
		if d.Company {
			heads, own = append(heads, d.Name), append(own, d.Field)
		}
	}
	if err := w.Head(heads); err != nil {
		return err
	}
	q := readCompanies(c.QueryParams()).CompanyQuery
	for q.Limit = 1000; ; {
		list, key, err := s.Store.Companies(c.Request().Context(), q)
		if err != nil {
			return err
		}
		for _, x := range list {
			size := ""
			if x.Size > 0 {
				size = strconv.Itoa(x.Size)
			}
			row := []string{x.Name, x.Domain, x.Industry, size, x.Revenue, x.Country, strconv.FormatInt(x.People, 10),
				strconv.FormatInt(x.Open, 10), strconv.FormatFloat(x.Best, 'f', -1, 64)}
			known := x.Values()
			for _, f := range own {
				row = append(row, person.Shown(known[f]))
			}
			if err := w.Row(row); err != nil {
				return err
			}
		}
		if len(list) < q.Limit {
			return w.Close()
		}
		q.After = key
	}
}

type companyData struct {
	C       store.Company
	Lines   []fieldLine
	People  []personRow
	Line    int
	All     string // address of the list of everybody there
	Changes []changeLine
	Sub     string

	Deals   []companyDeal // the newest, open ones first
	More    bool          // there are others
	Given   []store.Handoff
	Doings  []moment
	Names   map[int64]string // of whom the doings are
	Above   int              // people at or above the ready line, of those who are looked at
	ToLine  string           // the address of the list of them
	Visible int              // people who are looked at; 0: all
}

type companyDeal struct {
	store.Deal
	StageName string
}

// What a company’s page looks at: people, by their scores, and what happened with them of late.
const (
	companyPeople = 200
	companyLarge  = 1000 // people from which on they are put into their order once a minute
	companyShown  = 40
	companyDoings = 60
	companyLately = 62 // days in which what happened is looked for at first
	companyDeals  = 20
)

// joined reads what a company’s people did, were sent and said, to whom they were handed over, and its deals.
func (s *Place) joined(ctx context.Context, d *companyData, people []store.Person) error {
	of := store.Last{Most: companyDoings, First: s.Engine.Now().AddDate(0, 0, -companyLately)}
	d.Names = map[int64]string{}
	for _, p := range people {
		of.People = append(of.People, p.ID)
		d.Names[p.ID] = person.Full(p.First, p.Last, p.Email)
		if d.Line > 0 && p.Score >= float64(d.Line) {
			d.Above++
		}
	}
	if d.C.People > companyPeople {
		d.Visible = companyPeople
	}
	both, ctx := errgroup.WithContext(ctx)
	both.Go(func() (err error) {
		d.Doings, err = s.doings(ctx, of)
		return err
	})
	both.Go(func() (err error) {
		if d.Given, err = s.Store.HandoffsOf(ctx, store.Last{People: of.People, Most: companyDeals}); err != nil {
			return err
		}
		return s.dealsAt(ctx, d)
	})
	return both.Wait()
}

// dealsAt reads the newest deals of a company.
func (s *Place) dealsAt(ctx context.Context, d *companyData) error {
	q := store.DealQuery{Company: d.C.ID, State: store.EveryDeal, Order: "newest first"}
	deals, err := s.Store.Deals(ctx, q, companyDeals+1)
	if err != nil {
		return err
	}
	if d.More = len(deals) > companyDeals; d.More {
		deals = deals[:companyDeals]
	}
	stages, err := s.Store.Stages(ctx)
	if err != nil {
		return err
	}
	name := map[int64]string{}
	for _, st := range stages {
		name[st.ID] = st.Name
	}
	for _, x := range deals {
		d.Deals = append(d.Deals, companyDeal{x, name[x.Stage]})
	}
	return nil
}

func (s *Place) company(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	return s.showCompany(c, http.StatusOK, id, nil)
}

// best are the people of a company with the highest scores.
func (s *Place) best(ctx context.Context, c *store.Company) ([]store.Person, error) {
	read := func(ctx context.Context) ([]store.Person, error) {
		list, _, err := s.Store.People(ctx, store.PeopleQuery{Company: c.ID, Order: store.ByScore, Limit: companyPeople,
			Now: s.Engine.Now()})
		return list, err
	}
	if c.People < companyLarge {
		return read(ctx)
	}
	ids, err := shell.Lately(ctx, s.Shell, &s.first, c.ID, func(ctx context.Context) ([]int64, error) {
		list, err := read(ctx)
		ids := make([]int64, len(list))
		for i := range list {
			ids[i] = list[i].ID
		}
		return ids, err
	})
	if err != nil {
		return nil, err
	}
	known, err := s.Store.PeopleByID(ctx, ids)
	out := make([]store.Person, 0, len(ids))
	for _, id := range ids {
		if p := known[id]; p != nil && p.CompanyID != nil && *p.CompanyID == c.ID {
			out = append(out, *p)
		}
	}
	return out, err
}

func (s *Place) showCompany(c *echo.Context, code int, id int64, wrong *wrongField) error {
	ctx := c.Request().Context()
	d := companyData{Sub: "companies"}
	var err error
	if d.C, err = s.Store.Company(ctx, id); err != nil {
		return err
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	known := d.C.Values()
	for _, def := range cat.Fields() {
		if !def.Company {
			continue
		}
		l := lineOf(def, known[def.Field])
		if def.Field == person.Size && d.C.Size > 0 {
			l.Shown = shell.Thousands(d.C.Size) + " people"
		}
		if wrong != nil && wrong.Field == def.Field {
			l.Value, l.Wrong = wrong.Value, wrong.Why
		}
		d.Lines = append(d.Lines, l)
	}
	cond := rule.FieldIs(person.Company, d.C.Name)
	if d.C.Domain != "" {
		cond = rule.FieldIs(person.Domain, d.C.Domain)
	}
	people, err := s.best(ctx, &d.C)
	if err != nil {
		return err
	}
	if len(people) > 0 {
		d.C.Best = people[0].Score
	}
	if m, err := s.Store.Model(ctx); err == nil {
		d.Line = m.Line
	} else if !store.IsNotFound(err) {
		return err
	}
	if err := s.joined(ctx, &d, people); err != nil {
		return err
	}
	people = people[:min(len(people), companyShown)]
	if d.People, err = s.rows(c, people, []string{"title", "owner", "score"}, d.Line); err != nil {
		return err
	}
	listed := func(all ...rule.Rule) string {
		return "/people?" + shell.ListQuery{Rule: rule.Rule{All: all}, Order: store.ByScore,
			Columns: shell.UsualColumns}.Values().Encode()
	}
	d.All, d.ToLine = listed(cond), listed(cond, rule.ScoreAtLeast(d.Line))
	changes, err := s.Store.CompanyChanges(ctx, id)
	if err != nil {
		return err
	}
	for _, h := range changes {
		d.Changes = append(d.Changes, changeLine{h, changeWords(h, cat)})
	}
	return s.PageCode(c, code, "company.html", "", "People", d.C.Name, d)
}

func (s *Place) setCompany(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	f := person.Field(c.FormValue("field"))
	err = s.Engine.ChangeCompany(c.Request().Context(), id, person.Values{f: c.FormValue("value")}, shell.UserOf(c).ID)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		why := err
		if x, ok := errors.AsType[*people.FieldError](err); ok {
			why = x.Err
		}
		return s.showCompany(c, http.StatusUnprocessableEntity, id,
			&wrongField{f, strings.TrimSpace(c.FormValue("value")), shell.Sentence(why)})
	}
	return s.Done(c, fmt.Sprintf("/people/companies/%d", id), "Saved.")
}
