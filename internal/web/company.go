package web

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"sort"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/engine"
	"ombak/internal/store"
)

type companiesData struct {
	List       []store.Company
	Total      int64
	Text       string
	Country    string
	Industry   string
	Countries  []string
	Industries []string
	More       string
	Sub        string
}

func (s *Server) companies(c *echo.Context) error {
	ctx := c.Request().Context()
	d := companiesData{Text: person.Name(c.QueryParam("text")), Industry: person.Name(c.QueryParam("industry")), Sub: "companies"}
	d.Country, _ = person.CountryCode(c.QueryParam("country")) // what is no country is any
	q := store.CompanyQuery{Text: d.Text, Country: d.Country, Industry: d.Industry, After: store.ParseKey(c.QueryParam("after")), Limit: pageOfPeople}
	var key store.Key
	var err error
	if d.List, key, err = s.Store.Companies(ctx, q); err != nil {
		return err
	}
	v := url.Values{}
	for k, x := range map[string]string{"text": d.Text, "country": d.Country, "industry": d.Industry} {
		if x != "" {
			v.Set(k, x)
		}
	}
	address := "/people/companies?" + v.Encode()
	if len(d.List) == pageOfPeople {
		v.Set("after", key.String())
		d.More = "/people/companies?" + v.Encode()
	}
	if q.After != (store.Key{}) && isHTMX(c) {
		return s.page(c, "companies.html", "rows", "People", "Companies", d)
	}
	if d.Total, err = s.Store.CountCompanies(ctx, q); err != nil {
		return err
	}
	if d.Countries, err = s.Store.CompanyCountries(ctx); err != nil {
		return err
	}
	sort.Slice(d.Countries, func(i, j int) bool { return person.CountryName(d.Countries[i]) < person.CountryName(d.Countries[j]) })
	if d.Industries, err = s.Store.Industries(ctx); err != nil {
		return err
	}
	if isHTMX(c) {
		c.Response().Header().Set("HX-Push-Url", address)
	}
	return s.page(c, "companies.html", "list", "People", "Companies", d)
}

type companyData struct {
	C       store.Company
	Lines   []fieldLine
	People  []personRow
	Line    int
	All     string // address of the list of everybody there
	Changes []changeLine
	Sub     string
}

func (s *Server) company(c *echo.Context) error {
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	return s.showCompany(c, http.StatusOK, id, nil)
}

func (s *Server) showCompany(c *echo.Context, code int, id int64, wrong *wrongField) error {
	ctx := c.Request().Context()
	d := companyData{Sub: "companies"}
	var err error
	if d.C, err = s.Store.Company(ctx, id); err != nil {
		return err
	}
	line := func(f person.Field, value, shown, input string) {
		l := fieldLine{Field: f, Name: string(f), Value: value, Shown: shown, Input: input}
		if wrong != nil && wrong.Field == f {
			l.Value, l.Wrong = wrong.Value, wrong.Why
		}
		d.Lines = append(d.Lines, l)
	}
	line(person.Company, d.C.Name, d.C.Name, "text")
	line(person.Domain, d.C.Domain, d.C.Domain, "text")
	line(person.Industry, d.C.Industry, d.C.Industry, "text")
	size := ""
	if d.C.Size > 0 {
		size = fmt.Sprint(d.C.Size)
	}
	shown := size
	if size != "" {
		shown = thousands(d.C.Size) + " people"
	}
	line(person.Size, size, shown, "number")
	line(person.Revenue, d.C.Revenue, d.C.Revenue, "text")
	line(person.CompanyCountry, person.CountryName(d.C.Country), person.CountryName(d.C.Country), "text")
	cond := rule.FieldIs(person.Company, d.C.Name)
	if d.C.Domain != "" {
		cond = rule.FieldIs(person.Domain, d.C.Domain)
	}
	people, _, err := s.Store.People(ctx, store.PeopleQuery{Rule: cond, Order: store.ByScore, Limit: 40, Now: s.Engine.Now()})
	if err != nil {
		return err
	}
	if m, err := s.Store.Model(ctx); err == nil {
		d.Line = m.Line
	} else if !store.IsNotFound(err) {
		return err
	}
	if d.People, err = s.rows(c, people, []string{"title", "owner", "score"}, d.Line); err != nil {
		return err
	}
	d.All = "/people?" + listQuery{Rule: rule.Rule{All: []rule.Rule{cond}}, Order: store.ByScore, Columns: usualColumns}.values().Encode()
	changes, err := s.Store.CompanyChanges(ctx, id)
	if err != nil {
		return err
	}
	for _, h := range changes {
		d.Changes = append(d.Changes, changeLine{h, changeWords(h, &rule.Catalogue{})})
	}
	return s.pageCode(c, code, "company.html", "", "People", d.C.Name, d)
}

func (s *Server) setCompany(c *echo.Context) error {
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	f := person.Field(c.FormValue("field"))
	err = s.Engine.ChangeCompany(c.Request().Context(), id, person.Values{f: c.FormValue("value")}, userOf(c).ID)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		why := err
		if x, ok := errors.AsType[*engine.FieldError](err); ok {
			why = x.Err
		}
		return s.showCompany(c, http.StatusUnprocessableEntity, id, &wrongField{f, strings.TrimSpace(c.FormValue("value")), sentence(why)})
	}
	return s.done(c, fmt.Sprintf("/people/companies/%d", id), "Kept.")
}
