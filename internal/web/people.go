package web

import (
	"fmt"
	"net/http"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

const pageOfPeople = 50

type peopleData struct {
	People    []store.Person
	Total     int64
	Filter    filter
	Countries []string
	Kinds     []signal.Kind
	More      string // address of the next page
	Line      int
}

// filter is the sentence above a list of people.
type filter struct {
	Country string
	Kind    signal.Kind
	N, Days int
	Text    string
	Order   store.Order
}

func readFilter(v url.Values) filter {
	num := func(name string, low, high, usual int) int {
		n, err := strconv.Atoi(v.Get(name))
		if err != nil || n < low || n > high {
			return usual
		}
		return n
	}
	f := filter{Country: person.Name(v.Get("country")), Text: person.Name(v.Get("text")), N: num("n", 1, 1000, 1), Days: num("days", 1, 3650, 30),
		Kind: signal.Kind(num("kind", 1, 1000, 0)), Order: store.Order(v.Get("order"))}
	if !f.Kind.Known() {
		f.Kind = 0
	}
	if f.Order != store.ByName && f.Order != store.Newest {
		f.Order = store.ByScore
	}
	return f
}

// rule is the filter as a rule over people.
func (f filter) rule() rule.Rule {
	var r rule.Rule
	if f.Country != "" {
		r.All = append(r.All, rule.FieldIs(rule.Country, f.Country))
	}
	if f.Kind != 0 {
		r.All = append(r.All, rule.Rule{If: &rule.Condition{Signal: &signal.Pattern{Kind: f.Kind}, Op: rule.AtLeast, N: f.N, Days: f.Days}})
	}
	return r
}

func (f filter) values() url.Values {
	v := url.Values{"order": {string(f.Order)}}
	if f.Country != "" {
		v.Set("country", f.Country)
	}
	if f.Text != "" {
		v.Set("text", f.Text)
	}
	if f.Kind != 0 {
		v.Set("kind", strconv.Itoa(int(f.Kind)))
		v.Set("n", strconv.Itoa(f.N))
		v.Set("days", strconv.Itoa(f.Days))
	}
	return v
}

func (s *Server) people(c *echo.Context) error {
	ctx := c.Request().Context()
	d := peopleData{Filter: readFilter(c.QueryParams()), Kinds: signal.Kinds()}
	after, _ := strconv.ParseInt(c.QueryParam("after"), 10, 64)
	q := store.PeopleQuery{Rule: d.Filter.rule(), Text: d.Filter.Text, Order: d.Filter.Order, After: after, Limit: pageOfPeople + 1, Now: s.Engine.Now()}
	var err error
	if d.People, err = s.Store.People(ctx, q); err != nil {
		return err
	}
	if len(d.People) > pageOfPeople {
		d.People = d.People[:pageOfPeople]
		v := d.Filter.values()
		v.Set("after", strconv.FormatInt(d.People[pageOfPeople-1].ID, 10))
		d.More = "/people?" + v.Encode()
	}
	if after != 0 && isHTMX(c) {
		return s.page(c, "people.html", "rows", "People", "People", d)
	}
	if d.Total, err = s.Store.CountPeople(ctx, q); err != nil {
		return err
	}
	if d.Countries, err = s.Store.Values(ctx, rule.Country, 40); err != nil {
		return err
	}
	for i := range d.Countries {
		d.Countries[i] = strings.ToUpper(d.Countries[i])
	}
	sort.Strings(d.Countries)
	if m, err := s.Store.Model(ctx); err == nil {
		d.Line = m.Line
	} else if !store.IsNotFound(err) {
		return err
	}
	if isHTMX(c) {
		c.Response().Header().Set("HX-Push-Url", "/people?"+d.Filter.values().Encode())
	}
	return s.page(c, "people.html", "list", "People", "People", d)
}

type personData struct {
	P        store.Person
	Line     int
	Tide     tide
	Ledger   []ledgerLine
	Sum      float64
	Times    []moment
	Ways     []wayLine
	Handoffs []store.Handoff
	Deals    []store.Deal
	Users    []store.User
	CanHand  bool
}

type ledgerLine struct {
	At, Until time.Time
	Kind      string
	Detail    string
	Points    int
	Worth     float64
	Over      bool
}

// moment is a line of a timeline.
type moment struct {
	At    time.Time
	Icon  string
	Text  string
	Said  string
	Quiet bool
}

type wayLine struct {
	store.Way
	StepTitle string
}

func (s *Server) person(c *echo.Context) error {
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	now := s.Engine.Now()
	var d personData
	if d.P, err = s.Store.Person(ctx, id); err != nil {
		return err
	}
	if d.Users, err = s.Store.Users(ctx); err != nil {
		return err
	}
	signals, err := s.Store.PersonSignals(ctx, id)
	if err != nil {
		return err
	}
	model, err := s.Store.Model(ctx)
	if err != nil && !store.IsNotFound(err) {
		return err
	}
	d.Line = model.Line
	ledger, err := s.Engine.Ledger(ctx, id)
	if err != nil {
		return err
	}
	d.Tide = scoreTide(&model.Model, ledger, now, s.Engine.Zone)
	for i := len(ledger) - 1; i >= 0; i-- {
		e := &ledger[i]
		d.Ledger = append(d.Ledger, ledgerLine{At: e.At, Until: e.Until, Kind: signals[e.Signal].Kind.String(), Points: e.Points, Worth: e.Worth(now), Over: e.Worth(now) == 0})
	}
	sort.SliceStable(d.Ledger, func(i, j int) bool { return d.Ledger[i].At.After(d.Ledger[j].At) })
	if len(d.Ledger) > 60 {
		d.Ledger = d.Ledger[:60]
	}
	d.Sum = score.Sum(ledger, now)
	if d.Handoffs, err = s.Store.PersonHandoffs(ctx, id); err != nil {
		return err
	}
	if d.Deals, err = s.Store.PersonDeals(ctx, id); err != nil {
		return err
	}
	d.CanHand = true
	for _, h := range d.Handoffs {
		d.CanHand = d.CanHand && h.State != "open"
	}
	for _, x := range d.Deals {
		d.CanHand = d.CanHand && x.Closed != nil
	}
	if err := s.timeline(c, &d, id); err != nil {
		return err
	}
	return s.page(c, "person.html", "person", "People", person.Full(d.P.First, d.P.Last, d.P.Email), d)
}

// timeline gathers all that happened with a person into one line of time.
func (s *Server) timeline(c *echo.Context, d *personData, id int64) error {
	ctx := c.Request().Context()
	add := func(at time.Time, icon, text, said string, quiet bool) {
		d.Times = append(d.Times, moment{at, icon, text, said, quiet})
	}
	signals, err := s.Store.PersonTimeline(ctx, id)
	if err != nil {
		return err
	}
	for _, x := range signals {
		if x.Kind == signal.Reply || x.Kind == signal.AutomaticReply || x.Kind == signal.CallAnswered {
			continue // the mail or the call itself tells more
		}
		text := strings.ToUpper(x.Kind.Did()[:1]) + x.Kind.Did()[1:]
		if x.Detail != "" {
			text += ": " + x.Detail
		}
		if x.Machine != "" {
			text += " — not counted: " + x.Machine
		}
		add(x.At, signalIcons[x.Kind], text, "", x.Machine != "")
	}
	mails, err := s.Store.PersonIncoming(ctx, id)
	if err != nil {
		return err
	}
	for _, m := range mails {
		text := "Answered: " + m.Subject
		if m.Kind == signal.AutomaticReply {
			text = "Automatic answer: " + m.Subject
		} else if m.Kind == signal.Bounce {
			text = "Bounce report: " + m.Subject
		}
		add(m.At, "chat-circle-text", text, strings.TrimSpace(m.Body), false)
	}
	touches, err := s.Store.PersonTouches(ctx, id)
	if err != nil {
		return err
	}
	for _, t := range touches {
		switch {
		case t.Kind == "email" && t.State == "sent":
			add(*t.Done, "envelope-simple", "Got the email “"+t.Subject+"”", "", false)
		case t.Kind == "email" && (t.State == "held" || t.State == "stopped"):
			add(t.Made, "warning", "An email is "+t.State+": "+t.Trouble, "", false)
		case t.Kind == "email" && t.State == "ready":
			add(t.Ready, "envelope-simple", "An email is ready to go out", "", true)
		case t.Kind == "email" && t.State == "withdrawn":
			add(*t.Done, "envelope-simple", "An email was withdrawn: "+t.Trouble, "", true)
		case t.Kind == "call" && t.State == "done":
			add(*t.Done, "phone", "Call: "+t.Outcome, t.Notes, false)
		case t.Kind == "call" && t.State == "desk":
			add(t.Made, "phone", "A call is on the desk", "", false)
		case t.Kind == "call" && t.State == "missed":
			add(*t.Done, "phone", "Nobody called in time", "", true)
		}
	}
	for _, h := range d.Handoffs {
		to := h.RepName
		if to == "" {
			to = "the pool"
		}
		by := map[string]string{"crossing": "the score crossed the ready line", "step": "a sequence asked for it", "hand": "by hand"}[h.MadeBy]
		add(h.Made, "handshake", fmt.Sprintf("Handed over to %s: %s", to, by), "", false)
		if h.Decided != nil {
			add(*h.Decided, "handshake", fmt.Sprintf("%s by %s", strings.ToUpper(h.State[:1])+h.State[1:], h.RepName), h.Reason, false)
		}
	}
	moves, err := s.Store.PersonMoves(ctx, id)
	if err != nil {
		return err
	}
	for _, m := range moves {
		add(m.At, "kanban", "Deal in stage "+m.Stage, "", false)
	}
	ways, err := s.Store.PersonWays(ctx, id)
	if err != nil {
		return err
	}
	logs, err := s.Store.PersonLogs(ctx, id)
	if err != nil {
		return err
	}
	plans := map[int64]*sequence.Plan{}
	var versions []int64
	for _, w := range ways {
		versions = append(versions, w.Version)
	}
	for _, l := range logs {
		versions = append(versions, l.Version)
	}
	list, err := s.Store.Versions(ctx, versions)
	if err != nil {
		return err
	}
	for _, v := range list {
		plans[v.ID] = v.Plan.V
	}
	title := func(version int64, step int32) string {
		if p := plans[version]; p != nil {
			if x := p.Step(sequence.StepID(step)); x != nil {
				return x.About().Title
			}
		}
		return "a step"
	}
	for _, w := range ways {
		d.Ways = append(d.Ways, wayLine{w, title(w.Version, w.Step)})
		add(w.Entered, "waves", "Entered “"+w.Name+"”", "", false)
	}
	for _, l := range logs {
		switch {
		case l.Exit == "" && (l.Reason == string(sequence.Finished) || l.Reason == string(sequence.HandedOver)):
			add(l.At, "flag", "Came to the end of the sequence: “"+title(l.Version, l.Step)+"”", "", true)
		case l.Exit == "":
			add(l.At, "flag", "Left the sequence at “"+title(l.Version, l.Step)+"”: "+l.Reason, "", false)
		case l.Exit != "next" && l.Exit != "done":
			add(l.At, "arrow-right", fmt.Sprintf("“%s”: %s", title(l.Version, l.Step), l.Exit), "", true)
		}
	}
	add(d.P.Created, "user", "First met, from "+orUnknown(d.P.Source), "", false)
	sort.SliceStable(d.Times, func(i, j int) bool { return d.Times[i].At.After(d.Times[j].At) })
	return nil
}

func orUnknown(s string) string {
	if s == "" {
		return "an unknown source"
	}
	return s
}

var signalIcons = map[signal.Kind]string{
	signal.PageView: "globe", signal.Form: "note-pencil", signal.Download: "download-simple", signal.Open: "eye", signal.Click: "cursor-click",
	signal.OptOut: "prohibit", signal.Bounce: "warning", signal.Complaint: "warning", signal.Meeting: "calendar-blank",
}

// scoreTide draws a person's score over the last 90 days, and how it runs out
// over the next 30 if nothing more happens.
func scoreTide(m *score.Model, ledger []score.Entry, now time.Time, zone *time.Location) tide {
	from, to := now.AddDate(0, 0, -90), now.AddDate(0, 0, 30)
	whole := to.Sub(from).Seconds()
	t := tide{W: 720, H: 170, Left: 34, Bottom: 22, Steps: true, Mark: float64(m.Line), MarkText: "ready line"}
	past := true
	add := func(at time.Time, v float64) {
		t.Points = append(t.Points, tidePoint{X: max(at.Sub(from).Seconds()/whole, 1e-9), Value: v, Title: at.In(zone).Format("Mon 2 Jan, 15:04") + fmt.Sprintf(": %g", v)})
	}
	for _, x := range m.Tides(ledger, from, to) {
		if past && x.At.After(now) {
			add(now, m.Shown(score.Sum(ledger, now)))
			t.Now, past = len(t.Points)-1, false
		}
		add(x.At, x.Value)
	}
	if past {
		add(now, m.Shown(score.Sum(ledger, now)))
		t.Now = len(t.Points) - 1
	}
	add(to, m.Shown(score.Sum(ledger, to)))
	t.layout()
	return t
}

func (s *Server) setOwner(c *echo.Context) error {
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	owner, err := strconv.ParseInt(c.FormValue("owner"), 10, 64)
	if err != nil || owner < 0 {
		return echo.NewHTTPError(http.StatusBadRequest, "no such owner")
	}
	if owner != 0 {
		if _, err := s.Store.User(c.Request().Context(), owner); err != nil {
			return err
		}
	}
	if err := s.Store.SetOwner(c.Request().Context(), id, owner); err != nil {
		return err
	}
	return s.done(c, fmt.Sprintf("/people/%d", id), "Owner changed.")
}

func (s *Server) handOver(c *echo.Context) error {
	id, err := idOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/people/%d", id)
	if err := s.Engine.HandOver(c.Request().Context(), id); err != nil {
		return s.notDone(c, to, sentence(err))
	}
	return s.done(c, to, "Handed over.")
}

// sentence makes an error a sentence for people.
func sentence(err error) string {
	t := err.Error()
	return strings.ToUpper(t[:1]) + t[1:] + "."
}
