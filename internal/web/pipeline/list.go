package pipeline

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/roster"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// pageOfDeals is how many deals a list shows at a time.
const pageOfDeals = 50

// listData is a list of deals.
type listData struct {
	pipes
	Q        store.DealQuery
	Stages   []pipeline.Stage
	Users    []store.User
	States   []store.DealState
	Plans    []store.DealPlanned
	Orders   []store.DealOrder
	Rows     []listRow
	Sum      store.DealSum
	More     string // the address of those that follow
	Any      bool   // there are deals at all
	Sells    bool
	Asks     bool   // something is asked for that leaves deals out
	Company  string // whose deals they are; empty: of all
	Sequence string // from which they come
	Export   []shell.Choice
}

type listRow struct {
	store.Deal
	StageName string
	Pipe      string
	Slow      bool
	Stayed    time.Duration // in its stage
}

// Values is the query as addresses have it, without where the list begins.
func values(q store.DealQuery) url.Values {
	v := url.Values{}
	for name, n := range map[string]int64{"pipe": q.Pipeline, "stage": q.Stage, "company": q.Company,
		"sequence": q.Sequence, "person": q.Person} {
		if n != 0 {
			v.Set(name, strconv.FormatInt(n, 10))
		}
	}
	if q.Rep != 0 {
		v.Set("rep", strconv.FormatInt(q.Rep, 10))
	}
	for name, text := range map[string]string{"state": string(q.State), "plan": string(q.Planned), "text": q.Text,
		"order": string(q.Order), "campaign": q.Campaign} {
		if text != "" {
			v.Set(name, text)
		}
	}
	return v
}

// Address is the query as an address has it.
func (d listData) Address() string { return values(d.Q).Encode() }

// queryOf reads which deals are meant.
func (s *Place) queryOf(ctx context.Context, v url.Values) (q store.DealQuery, err error) {
	known := func(name string) int64 { return max(shell.Number(v.Get(name)), 0) }
	q = store.DealQuery{Pipeline: known("pipe"), Stage: known("stage"), Company: known("company"),
		Sequence: known("sequence"), Person: known("person"), Rep: max(shell.Number(v.Get("rep")), store.NobodysDeals),
		State: store.DealState(v.Get("state")), Planned: store.DealPlanned(v.Get("plan")),
		Order: store.DealOrder(v.Get("order")), Text: strings.TrimSpace(v.Get("text")), Campaign: v.Get("campaign"),
		After: known("after")}
	if len(q.Text) > 200 || len(q.Campaign) > 200 || q.State != "" && !slices.Contains(store.DealStates(), q.State) ||
		!slices.Contains(store.DealPlans(), q.Planned) ||
		q.Order != "" && !slices.Contains(store.DealOrders(), q.Order) {
		return q, echo.ErrBadRequest
	}
	y, m, d := s.Engine.Now().In(s.Engine.Zone()).Date()
	q.Today = time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
	if q.Planned != store.TooLong {
		return q, nil
	}
	figures, err := s.Engine.StageFigures(ctx)
	q.Slow = map[int64]time.Time{}
	for _, f := range figures {
		if f.Slow > 0 {
			q.Slow[f.ID] = s.Engine.Now().Add(-f.Slow)
		}
	}
	return q, err
}

func (s *Place) list(c *echo.Context) error {
	ctx := c.Request().Context()
	q, err := s.queryOf(ctx, c.QueryParams())
	if err != nil {
		return err
	}
	d := listData{Q: q, States: store.DealStates(), Plans: store.DealPlans(), Orders: store.DealOrders()}
	if d.pipes.List, err = s.Store.Pipelines(ctx); err != nil {
		return err
	}
	figures, err := s.Engine.StageFigures(ctx)
	if err != nil {
		return err
	}
	rows, err := s.Store.Deals(ctx, q, pageOfDeals+1)
	if err != nil {
		return err
	}
	if len(rows) > pageOfDeals {
		rows = rows[:pageOfDeals]
		v := values(q)
		v.Set("after", strconv.FormatInt(rows[pageOfDeals-1].ID, 10))
		d.More = "/pipeline/list?" + v.Encode()
	}
	d.fill(rows, figures, s.Engine.Now())
	d.Sells = (shell.View{User: shell.UserOf(c)}).May(sellers...)
	if q.After != 0 && shell.IsHTMX(c) {
		return s.Page(c, "deals.html", "deal-rows", "Pipeline", "Deals", d)
	}
	if d.Sum, err = s.Store.SumDeals(ctx, q); err != nil {
		return err
	}
	if err := s.choices(ctx, &d); err != nil {
		return err
	}
	return s.Page(c, "deals.html", "", "Pipeline", "Deals", d)
}

// StagesOf lists the stages of a pipeline.
func (d listData) StagesOf(pipe int64) (out []pipeline.Stage) {
	for _, st := range d.Stages {
		if st.Pipeline == pipe {
			out = append(out, st)
		}
	}
	return out
}

// fill puts rows to what is known of their stages.
func (d *listData) fill(rows []store.Deal, figures []pipeline.Figures, now time.Time) {
	stages, pipe := map[int64]pipeline.Figures{}, map[int64]string{}
	for _, p := range d.pipes.List {
		pipe[p.ID] = p.Name
	}
	for _, f := range figures {
		stages[f.ID] = f
		d.Stages = append(d.Stages, f.Stage)
	}
	for _, x := range rows {
		f := stages[x.Stage]
		d.Rows = append(d.Rows, listRow{Deal: x, StageName: f.Name, Pipe: pipe[x.Pipeline],
			Slow: x.Closed == nil && f.Slow > 0 && now.Sub(x.Moved) > f.Slow, Stayed: now.Sub(x.Moved)})
	}
}

// choices reads what the sentence above a list chooses from, and the names of what it asks for.
func (s *Place) choices(ctx context.Context, d *listData) (err error) {
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	v := values(d.Q)
	v.Del("order")
	d.Asks = len(v) > 0
	d.Any = d.Sum.Deals > 0
	if !d.Any {
		all, err := s.Store.Deals(ctx, store.DealQuery{State: store.EveryDeal}, 1)
		if err != nil {
			return err
		}
		d.Any = len(all) > 0
	}
	if d.Q.Company != 0 {
		c, err := s.Store.Company(ctx, d.Q.Company)
		if err != nil {
			return err
		}
		d.Company = cmp.Or(c.Name, c.Domain)
	}
	if d.Q.Sequence != 0 {
		seq, err := s.Store.Sequence(ctx, d.Q.Sequence)
		if err != nil {
			return err
		}
		d.Sequence = seq.Name
	}
	d.Export = []shell.Choice{{Value: string(roster.CSV), Words: "CSV"}, {Value: string(roster.XLSX), Words: "XLSX"},
		{Value: string(roster.JSON), Words: "JSON"}}
	return nil
}

// chosen reads which deals an action is about: the ticked rows, or all as described; nil where none are. It answers
// where the list is.
func (s *Place) chosen(c *echo.Context) (q *store.DealQuery, back string, err error) {
	form, err := c.FormValues()
	if err != nil {
		return nil, "", err
	}
	v, err := url.ParseQuery(form.Get("list"))
	if err != nil || len(form["id"]) > 5000 {
		return nil, "", echo.ErrBadRequest
	}
	asked, err := s.queryOf(c.Request().Context(), v)
	if err != nil {
		return nil, "", err
	}
	back = "/pipeline/list?" + values(asked).Encode()
	asked.After = 0
	if form.Get("everybody") != "" {
		return &asked, back, nil
	}
	ids := []int64{}
	for _, text := range form["id"] {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return nil, "", echo.ErrBadRequest
		}
		ids = append(ids, n)
	}
	if len(ids) == 0 {
		return nil, back, nil
	}
	return &store.DealQuery{State: store.EveryDeal, IDs: ids, Today: asked.Today}, back, nil
}

// noneTicked is said where an action is about nothing.
const noneTicked = "Tick a deal first, or say that all are meant."

// bulk moves the chosen deals to a stage, or gives them to somebody.
func (s *Place) bulk(c *echo.Context) error {
	q, back, err := s.chosen(c)
	if err != nil {
		return err
	}
	if q == nil {
		return s.NotDone(c, back, noneTicked)
	}
	what, to := c.FormValue("do"), shell.Number(c.FormValue("stage"))
	if what == "owner" {
		to = shell.Number(c.FormValue("owner"))
	} else if what != "stage" || to == 0 {
		return echo.ErrBadRequest
	}
	did, err := s.Engine.BulkDeals(c.Request().Context(), *q, what, to, shell.UserOf(c).ID)
	if err != nil {
		return s.refused(c, back, err)
	}
	words := fmt.Sprintf("%s %s.", shell.Thousands(did.Did), map[string]string{"stage": "moved",
		"owner": "given"}[what])
	if did.NotOf > 0 {
		words += fmt.Sprintf(" %s are somebody else’s, and stay.", shell.Thousands(did.NotOf))
	}
	if did.Twice > 0 {
		words += fmt.Sprintf(" %s stay closed: nobody has two open deals.", shell.Thousands(did.Twice))
	}
	if did.Bulk == 0 {
		return s.Done(c, back, words)
	}
	return s.DoneUndo(c, back, words, fmt.Sprintf("/pipeline/list/%d/undo", did.Bulk))
}

// refused says why something was not done, where that is for users to know.
func (s *Place) refused(c *echo.Context, back string, err error) error {
	if store.IsNotFound(err) {
		return err
	}
	if _, plain := plainly.Says(err); plain {
		return s.NotDone(c, back, shell.Sentence(err))
	}
	return shell.NotYours(err)
}

// undoBulk takes back what was done with many deals.
func (s *Place) undoBulk(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	back, since, err := s.Engine.UndoBulk(c.Request().Context(), id, shell.UserOf(c).ID)
	if err != nil {
		return s.refused(c, "/pipeline/list", err)
	}
	words := fmt.Sprintf("%s as before.", shell.Thousands(back))
	if since > 0 {
		words += fmt.Sprintf(" %s have changed since, and stay.", shell.Thousands(since))
	}
	return s.Done(c, "/pipeline/list", words)
}

// emailBehind begins a one-off email to everybody behind the chosen deals.
func (s *Place) emailBehind(c *echo.Context) error {
	q, back, err := s.chosen(c)
	if err != nil {
		return err
	}
	if q == nil {
		return s.NotDone(c, back, noneTicked)
	}
	id, err := s.Engine.EmailBehind(c.Request().Context(), *q, shell.UserOf(c).ID)
	if err != nil {
		return s.refused(c, back, err)
	}
	return s.Done(c, fmt.Sprintf("/content/emails/%d", id),
		"Everybody behind these deals is in an audience of its own.")
}

// export writes the chosen deals, or all as described where none is ticked, as a file.
func (s *Place) export(c *echo.Context) error {
	f := roster.Form(c.FormValue("form"))
	if f == roster.VCard || roster.Types[f] == "" {
		return echo.ErrBadRequest
	}
	q, back, err := s.chosen(c)
	if err != nil {
		return err
	}
	if q == nil {
		v, err := url.ParseQuery(strings.TrimPrefix(back, "/pipeline/list?"))
		if err != nil {
			return echo.ErrBadRequest
		}
		all, err := s.queryOf(c.Request().Context(), v)
		if err != nil {
			return err
		}
		q = &all
	}
	if err := s.Attach(c, f, s.FileName("deals")); err != nil {
		return err
	}
	return s.Engine.ExportDeals(c.Request().Context(), *q, f, c.Response())
}

// newDealData is the form by which a deal is opened by hand.
type newDealData struct {
	pipes
	Stages []pipeline.Stage
	Money  []string
	Who    string // their address
	Full   string
	Typed  url.Values
	Wrong  string
}

// Was is what stands in a field.
func (d newDealData) Was(field string) string { return d.Typed.Get(field) }

// Chosen is the stage that was chosen; 0: none.
func (d newDealData) Chosen() int64 { return shell.Number(d.Typed.Get("stage")) }

func (s *Place) newDeal(c *echo.Context) error {
	v := c.QueryParams()
	return s.showNewDeal(c, http.StatusOK, v, "")
}

func (s *Place) showNewDeal(c *echo.Context, code int, typed url.Values, wrong string) error {
	ctx := c.Request().Context()
	d := newDealData{Typed: typed, Wrong: wrong, Who: typed.Get("who")}
	who, err := s.personOf(c, d.Who)
	if err != nil {
		return err
	}
	if who != 0 {
		p, err := s.Store.Person(ctx, who)
		if err != nil {
			return err
		}
		d.Full = strings.TrimSpace(p.First + " " + p.Last)
		d.Who = cmp.Or(p.Email, d.Who)
	}
	if d.pipes, err = s.pipesOf(c); err != nil {
		return err
	}
	if d.Stages, err = s.Store.Stages(ctx); err != nil {
		return err
	}
	if d.Money, err = s.currencies(ctx, ""); err != nil {
		return err
	}
	return s.PageCode(c, code, "newdeal.html", "", "Pipeline", "New deal", d)
}

// StagesOf lists the open stages of a pipeline.
func (d newDealData) StagesOf(pipe int64) (out []pipeline.Stage) {
	for _, st := range d.Stages {
		if st.Pipeline == pipe && !st.Closed() {
			out = append(out, st)
		}
	}
	return out
}

// openDeal opens a deal by hand.
func (s *Place) openDeal(c *echo.Context) error {
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	wrong := func(words string) error { return s.showNewDeal(c, http.StatusUnprocessableEntity, form, words) }
	who, err := s.personOf(c, form.Get("who"))
	if err != nil {
		return err
	}
	if who == 0 {
		return wrong("Nobody here has that email address.")
	}
	n := store.NewDeal{Person: who, Rep: shell.UserOf(c).ID, Name: form.Get("name"),
		Stage:    shell.Number(form.Get("stage")),
		Currency: cmp.Or(form.Get("currency"), s.Engine.Workspace().Currency)}
	if text := strings.TrimSpace(form.Get("amount")); text != "" {
		if n.Amount, err = pipeline.ParseAmount(text, n.Currency); err != nil {
			return wrong(shell.Sentence(err))
		}
	}
	id, err := s.Engine.OpenByHand(c.Request().Context(), n, shell.UserOf(c).ID)
	if _, plain := plainly.Says(err); err != nil && plain && !store.IsNotFound(err) {
		return wrong(shell.Sentence(err))
	}
	if err != nil {
		return shell.NotYours(err)
	}
	return s.Done(c, fmt.Sprintf("/pipeline/%d", id), "It is open.")
}
