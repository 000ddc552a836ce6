package people

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/engine/people"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type audienceData struct {
	A       store.Audience
	Words   string
	Use     []store.Use
	Moves   []store.Move
	Tide    shell.Tide
	Members []personRow
	Later   string // where they are found, until they are
	Heads   []string
	More    string
	Line    int
	Joined  int64 // in the last 30 days
	Left    int64
	Users   []store.User
	Export  []shell.Choice
	Sub     string
	Address string // as a list of people
}

func (s *Place) audience(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	now := s.Engine.Now()
	d := audienceData{Sub: "audiences", Heads: []string{"company", "country", "score"}}
	if d.A, err = s.Store.Audience(ctx, id); err != nil {
		return err
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	if d.A.Live {
		d.Words = d.A.Rule.V.Sentence(cat)
	}
	if d.Use, err = s.Store.AudienceUse(ctx, id); err != nil {
		return err
	}
	if d.Moves, err = s.Store.Moves(ctx, id, 12); err != nil {
		return err
	}
	from := now.AddDate(0, 0, -30)
	days, err := shell.Lately(ctx, s.Shell, &s.moves, id, func(ctx context.Context) ([]store.DayMoves, error) {
		return s.Store.MovesByDay(ctx, id, from, s.Engine.Zone().String())
	})
	if err != nil {
		return err
	}
	for _, x := range days {
		d.Joined, d.Left = d.Joined+x.Joined, d.Left+x.Left
	}
	d.Tide = memberTide(d.A.Members, days, now, s.Engine.Zone())
	in := rule.ThingIs(rule.Audience, id)
	list := shell.ListQuery{Rule: rule.Rule{All: []rule.Rule{in}}, Order: store.ByScore, Columns: shell.UsualColumns}
	d.Address = list.Values().Encode()
	all := shell.IsHTMX(c) && c.QueryParam("members") != ""
	q := store.PeopleQuery{Rule: in, Order: store.ByScore, Limit: 25, Now: now,
		After: store.ParseKey(c.QueryParam("after"))}
	q.AtOnce = !all && q.After == store.Key{}
	members, key, err := s.Store.People(ctx, q)
	if errors.Is(err, store.ErrLonger) {
		d.Later = fmt.Sprintf("/people/audiences/%d?members=all", id)
	} else if err != nil {
		return err
	}
	if m, err := s.Store.Model(ctx); err == nil {
		d.Line = m.Line
	} else if !store.IsNotFound(err) {
		return err
	}
	if d.Members, err = s.rows(c, members, d.Heads, d.Line); err != nil {
		return err
	}
	if len(members) == 25 {
		d.More = fmt.Sprintf("/people/audiences/%d?after=%s", id, url.QueryEscape(key.String()))
	}
	if c.QueryParam("after") != "" && shell.IsHTMX(c) {
		return s.Page(c, "audience.html", "rows", "People", d.A.Name, d)
	}
	if all {
		return s.Page(c, "audience.html", "members", "People", d.A.Name, d)
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	d.Export = []shell.Choice{{Value: "csv", Words: "CSV", Chosen: false},
		{Value: "xlsx", Words: "Sheet (XLSX)", Chosen: false}, {Value: "vcard", Words: "Cards (vCard)", Chosen: false},
		{Value: "json", Words: "JSON", Chosen: false}}
	return s.Page(c, "audience.html", "audience", "People", d.A.Name, d)
}

// memberTide draws how many were in an audience at the end of each of the last
// 30 days, worked back from how many are in it now.
func memberTide(now int64, days []store.DayMoves, at time.Time, zone *time.Location) shell.Tide {
	t := shell.Tide{Name: "Members over 30 days", Each: "Day", Names: [2]string{"Members at its end"}, Level: true,
		Unfinished: true, W: 720, H: 150, Left: 44, Bottom: 22}
	by := map[string]store.DayMoves{}
	for _, d := range days {
		by[d.Day.In(zone).Format(time.DateOnly)] = d
	}
	values := make([]int64, 31)
	v := now
	for i := 30; i >= 0; i-- {
		values[i] = v
		d := by[at.In(zone).AddDate(0, 0, i-30).Format(time.DateOnly)]
		v -= d.Joined - d.Left
	}
	for i, v := range values {
		day := at.In(zone).AddDate(0, 0, i-30)
		d := by[day.Format(time.DateOnly)]
		p := shell.TidePoint{X: float64(i) / 30, Row: day.Format(shell.DayForm), Value: float64(v),
			Title: fmt.Sprintf("%s: %s people, %d joined, %d left", day.Format("Mon 2 Jan"), shell.Thousands(v),
				d.Joined, d.Left)}
		if i%5 == 0 && i < 30 { // the last would stand beyond the edge
			p.Tick = day.Format("2 Jan")
		}
		t.Points = append(t.Points, p)
	}
	t.Now = 30
	t.Layout()
	return t
}

type audienceForm struct {
	A       store.Audience
	Editor  shell.RuleView
	Words   string
	Wrong   string
	Who     whoNow
	Unready string
	Users   []store.User
	Sub     string
}

// audienceEditor shows the editor of a new audience or of one that is there.
// While the rule is being made it is called again with the form as it stands.
func (s *Place) audienceEditor(c *echo.Context) error {
	ctx := c.Request().Context()
	d := audienceForm{Sub: "audiences", A: store.Audience{Live: c.QueryParam("kind") != "hand"}}
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		if d.A, err = s.Store.Audience(ctx, id); err != nil {
			return err
		}
	}
	return s.showAudienceForm(c, http.StatusOK, d)
}

func (s *Place) showAudienceForm(c *echo.Context, code int, d audienceForm) error {
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
		d.A.Rule.V = r
		if v.Has("name") {
			d.A.Name, d.A.Note = person.Name(v.Get("name")), person.Name(v.Get("note"))
		}
	}
	if d.A.Live {
		d.Editor = shell.ViewRule(d.A.Rule.V, cat)
		whole := shell.Complete(d.A.Rule.V, cat)
		d.Words = whole.Sentence(cat)
		if err := d.A.Rule.V.Check(cat); err != nil {
			d.Unready = shell.Sentence(err)
		}
		if whole.Asks() {
			n, err := s.Engine.Roughly(ctx, store.PeopleQuery{Rule: whole, Now: s.Engine.Now()})
			if err != nil {
				return err
			}
			if n.About {
				d.Who = whoNow{Count: n.N,
					Later: "/people/audiences/who?" + shell.ListQuery{Rule: whole}.Values().Encode()}
			} else if d.Who, err = s.whoNow(ctx, whole); err != nil {
				return err
			}
		}
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	title := "New audience"
	if d.A.ID != 0 {
		title = d.A.Name
	}
	return s.PageCode(c, code, "audienceform.html", "form", "People", title, d)
}

// whoNow is for whom a rule holds now: how many, and some of them, with why each.
type whoNow struct {
	Count   int64
	Counted bool
	Later   string // where they are counted, until they are
	Sample  []people.Reason
}

func (s *Place) whoNow(ctx context.Context, whole rule.Rule) (w whoNow, err error) {
	now := s.Engine.Now()
	q := store.PeopleQuery{Rule: whole, Order: store.ByScore, Limit: 6, Now: now}
	w.Counted = true
	if w.Count, err = s.Engine.HowMany(ctx, q); err != nil {
		return w, err
	}
	sample, _, err := s.Store.People(ctx, q)
	if err != nil {
		return w, err
	}
	w.Sample, err = s.Engine.Reasons(ctx, &whole, sample, now)
	return w, err
}

// audienceWho answers for whom a rule holds now; the form comes first.
func (s *Place) audienceWho(c *echo.Context) error {
	ctx := c.Request().Context()
	q, cat, err := s.listOf(c, c.QueryParams())
	if err != nil {
		return err
	}
	whole := q.People(cat, s.Engine.Now()).Rule
	if !whole.Asks() {
		return echo.ErrBadRequest
	}
	w, err := s.whoNow(ctx, whole)
	if err != nil {
		return err
	}
	return c.Render(http.StatusOK, "audienceform.html#counted", shell.View{Data: w})
}

func (s *Place) saveAudience(c *echo.Context) error {
	ctx := c.Request().Context()
	a := store.Audience{Live: c.FormValue("kind") != "hand"}
	if c.Param("id") != "" {
		id, err := shell.IDOf(c, "id")
		if err != nil {
			return err
		}
		if a, err = s.Store.Audience(ctx, id); err != nil {
			return err
		}
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	a.Name, a.Note = person.Name(v.Get("name")), person.Name(v.Get("note"))
	if owner := shell.Number(v.Get("owner")); owner != 0 {
		a.OwnerID = &owner
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	if r, there, err := shell.ReadRule(v, cat); err != nil {
		return echo.ErrBadRequest.Wrap(err)
	} else if there && a.Live {
		a.Rule.V = r
	}
	if v.Get("do") != "" && v.Get("do") != "save" { // an edit of the rule without the page's script
		return s.showAudienceForm(c, http.StatusOK, audienceForm{A: a, Sub: "audiences"})
	}
	id, err := s.Engine.SaveAudience(ctx, a)
	if err != nil {
		if store.IsNotFound(err) {
			return err
		}
		return s.showAudienceForm(c, http.StatusUnprocessableEntity,
			audienceForm{A: a, Wrong: shell.Sentence(err), Sub: "audiences"})
	}
	return s.Done(c, fmt.Sprintf("/people/audiences/%d", id), "Saved.")
}

func (s *Place) removeAudience(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	err = s.Engine.RemoveAudience(c.Request().Context(), id)
	if errors.Is(err, people.ErrInUse) {
		return s.NotDone(c, fmt.Sprintf("/people/audiences/%d", id), shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, "/people/audiences", "The audience is gone; its people are still here.")
}

func (s *Place) exportAudience(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if _, err := s.Store.Audience(c.Request().Context(), id); err != nil {
		return err
	}
	return s.writeList(c, store.PeopleQuery{Rule: rule.ThingIs(rule.Audience, id), Now: s.Engine.Now()},
		fmt.Sprintf("audience-%d", id))
}
