package content

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/folder"
	"ombak/internal/core/mailing"
	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/post"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

func (s *Place) mailingRoutes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	m := in.Group("/content/emails")
	m.GET("", s.mailings)
	m.POST("/new", s.newMailing, writes)
	m.GET("/:id", s.mailing)
	m.POST("/:id", s.saveMailing, writes)
	m.GET("/:id/reach", s.reach)
	m.POST("/:id/launch", s.launchMailing, writes)
	m.POST("/:id/hold", s.holdMailing, writes)
	m.POST("/:id/stop", s.stopMailing, writes)
	m.POST("/:id/remove", s.removeMailing, writes)
	m.POST("/:id/clean", s.cleanBounced, writes)
}

type mailingsData struct {
	List []store.Mailing
	F    *shell.Folders
}

func (s *Place) mailings(c *echo.Context) error {
	list, err := s.Store.Mailings(c.Request().Context())
	if err != nil {
		return err
	}
	f, err := s.Folders(c, folder.Email, "/content/emails")
	if err != nil {
		return err
	}
	list = shell.InFolder(f, list, func(m *store.Mailing) int64 { return m.ID })
	return s.Page(c, "mailings.html", "", "Content", "One-off emails", mailingsData{shell.Firsts(f, list), f})
}

func (s *Place) newMailing(c *echo.Context) error {
	m := store.Mailing{Name: "One-off email"}
	if name := person.Name(c.FormValue("name")); name != "" {
		m.Name = name
	}
	m.Plan.V = mailing.NewPlan()
	id, err := s.Engine.SaveMailing(c.Request().Context(), m, shell.UserOf(c).ID)
	if err != nil {
		return err
	}
	return s.Done(c, fmt.Sprintf("/content/emails/%d", id), "")
}

type mailingData struct {
	M         store.Mailing
	Messages  []store.Message
	Audiences []store.Audience
	Purposes  []store.Purpose
	Choices   *shell.ActChoices
	When      string
	From, To  string // sending hours
	Wrong     string
	Unready   string
	Mark      string // of what would be sent to whom
	State     string // of the draft alone
	Zone      string
	Links     []linkLine
	Warned    int // findings of the proof that are not grave

	F       store.MailingFigures
	Left    []leftLine
	Tide    shell.Tide
	Over    bool
	Kept    []store.MessageName
	Exclude map[int64]bool
}

// linkLine is a link of the message: what pressing it does, and how often it
// was pressed.
type linkLine struct {
	message.Link
	For             string         // whose words it stands in; empty: everyone else's
	Acts            []shell.ActRow // and one that does nothing yet
	Does            []string       // in words
	People, Presses int64
}

type leftLine struct {
	Reason string
	N      int64
}

func (s *Place) mailing(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	m, err := s.Store.Mailing(c.Request().Context(), id)
	if err != nil {
		return err
	}
	return s.showMailing(c, http.StatusOK, m, "")
}

func clockOf(minutes int) string { return fmt.Sprintf("%02d:%02d", minutes/60, minutes%60) }

func (s *Place) showMailing(c *echo.Context, code int, m store.Mailing, wrong string) error {
	ctx := c.Request().Context()
	d := mailingData{M: m, Wrong: wrong, Zone: s.Engine.Zone().String(), Exclude: map[int64]bool{}}
	for _, id := range m.Excluded.V {
		d.Exclude[id] = true
	}
	var doc message.Document
	if m.Message != nil {
		msg, err := s.Store.MessageText(ctx, *m.Message)
		if err == nil {
			doc = msg.Doc.V
			if m.Version != nil && *m.Version != msg.Version {
				doc, err = s.Store.VersionDoc(ctx, *m.Message, *m.Version)
			}
		}
		if err != nil && !store.IsNotFound(err) {
			return err
		}
	}
	var err error
	if d.Choices, err = s.ActChoices(ctx); err != nil {
		return err
	}
	pressed := map[int]store.LinkFigures{}
	if m.State != "draft" {
		links, err := s.Store.MailingLinks(ctx, m.ID)
		if err != nil {
			return err
		}
		for _, l := range links {
			pressed[l.Link] = l
		}
	}
	for _, l := range doc.Links() {
		x := linkLine{Link: l, People: pressed[l.N].People, Presses: pressed[l.N].Presses}
		if x.Words == "" {
			x.Words = x.Target
		}
		if l.Group != message.Else {
			x.For = doc.GroupName(l.Group)
		}
		var acts []act.Act
		for _, a := range m.Acts.V {
			if a.Link == l.N {
				acts = append(acts, a.Act)
				x.Does = append(x.Does, a.Says(d.Choices))
			}
		}
		x.Acts = shell.ActRows(acts, act.OfLink(), d.Choices)
		d.Links = append(d.Links, x)
	}
	if m.State == "draft" {
		return s.showDraft(c, code, d)
	}
	if d.F, err = s.Store.MailingFigures(ctx, m.ID); err != nil {
		return err
	}
	left, err := s.Store.LeftOut(ctx, m.ID)
	if err != nil {
		return err
	}
	for _, r := range mailing.Reasons() {
		if left[r] > 0 {
			d.Left = append(d.Left, leftLine{string(r), left[r]})
		}
	}
	opens, clicks, err := s.Store.MailingHours(ctx, m.ID, 72)
	if err != nil {
		return err
	}
	d.Tide = shell.Tide{Name: "First opens, by the hour after an email went out", Each: "Hour",
		Names: [2]string{"Opened", "Clicked"}, W: 800, H: 190, Left: 40, Bottom: 24}
	for h := range opens {
		p := shell.TidePoint{Row: fmt.Sprint(h + 1), Value: float64(opens[h]), Second: float64(clicks[h]),
			Title: fmt.Sprintf("hour %d: %d opened, %d clicked", h+1, opens[h], clicks[h])}
		if h%12 == 0 {
			p.Tick = fmt.Sprintf("%d h", h)
		}
		d.Tide.Points = append(d.Tide.Points, p)
	}
	d.Tide.Layout()
	d.Over = m.State == "sending" && d.F.Waiting == 0
	return s.PageCode(c, code, "mailing.html", "results", "Content", m.Name, d)
}

func (s *Place) showDraft(c *echo.Context, code int, d mailingData) error {
	ctx := c.Request().Context()
	messages, err := s.Store.MessageNames(ctx)
	if err != nil {
		return err
	}
	for _, m := range messages {
		if m.Version > 0 {
			d.Kept = append(d.Kept, m)
		}
	}
	if d.Audiences, err = s.Store.Audiences(ctx); err != nil {
		return err
	}
	if d.Purposes, err = s.Store.Purposes(ctx); err != nil {
		return err
	}
	if at := d.M.Plan.V.At; !at.IsZero() {
		d.When = at.In(s.Engine.Zone()).Format("2006-01-02T15:04")
	}
	for _, list := range d.M.Plan.V.Hours.Days {
		if len(list) > 0 {
			d.From, d.To = clockOf(list[0].From), clockOf(list[0].To)
		}
	}
	if err := s.Engine.Ready(ctx, &d.M); err != nil {
		d.Unready = shell.Sentence(err)
	}
	if d.Mark, err = s.Engine.MailingMark(ctx, &d.M); err != nil {
		return err
	}
	is := d.M
	if code != http.StatusOK { // what was typed is not kept: what is there is what it was drawn from
		if is, err = s.Store.MailingText(ctx, d.M.ID); err != nil {
			return err
		}
	}
	d.State = mailingState(&is)
	return s.PageCode(c, code, "mailingdraft.html", "draft", "Content", d.M.Name, d)
}

// readMailing reads the draft's form into m.
func (s *Place) readMailing(v url.Values, m *store.Mailing) error {
	pick := func(name string) *int64 {
		if n := shell.Number(v.Get(name)); n > 0 {
			return &n
		}
		return nil
	}
	m.Name = person.Name(v.Get("name"))
	m.Message, m.Purpose, m.Audience = pick("message"), pick("purpose"), pick("audience")
	m.Excluded.V = nil
	for _, x := range v["exclude"] {
		if n := shell.Number(x); n > 0 && !slices.Contains(m.Excluded.V, n) && len(m.Excluded.V) < 20 {
			m.Excluded.V = append(m.Excluded.V, n)
		}
	}
	p := &m.Plan.V
	rest, err := strconv.Atoi(strings.TrimSpace(v.Get("rest")))
	if err != nil {
		return plainly.New("the rest is a whole number of days from 0 to 365")
	}
	p.Rest, p.WithDeals = rest, v.Get("deals") != ""
	p.At = time.Time{}
	if v.Get("when") == "date" {
		at, err := time.ParseInLocation("2006-01-02T15:04", v.Get("at"), s.Engine.Zone())
		if err != nil {
			return plainly.New("choose the day and the time")
		}
		p.At = at.UTC()
	}
	if v.Get("hours") == "any" {
		p.Hours = calendar.SendingHours{}
		for d := range p.Hours.Days {
			p.Hours.Days[d] = []calendar.Interval{{From: 0, To: 24 * 60}}
		}
	} else {
		from, err1 := shell.ClockTime(v.Get("from"))
		to, err2 := shell.ClockTime(v.Get("to"))
		if err1 != nil || err2 != nil {
			return plainly.New("sending hours read like 08:00 and 17:00")
		}
		p.Hours = calendar.OfficeHours(from, to)
	}
	p.Tags = mailing.Tags{Source: person.Name(v.Get("utm_source")), Medium: person.Name(v.Get("utm_medium")),
		Campaign: person.Name(v.Get("utm_campaign")), Content: person.Name(v.Get("utm_content"))}
	m.Acts.V = nil
	for i := range v["act_link"] {
		n, _ := strconv.Atoi(v["act_link"][i]) // what is no number is no link
		a := mailing.LinkAct{Link: n, Act: shell.TypedAct(v, i)}
		if n > 0 && a.Act != nil && slices.Contains(act.OfLink(), a.Kind()) && len(m.Acts.V) < 50 {
			m.Acts.V = append(m.Acts.V, a)
		}
	}
	return p.Check()
}

func (s *Place) saveMailing(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	m, err := s.Store.Mailing(ctx, id)
	if err != nil {
		return err
	}
	is := m
	at := fmt.Sprintf("/content/emails/%d", id)
	if m.State != "draft" {
		return s.NotDone(c, at, "It was launched already, and stays as it was.")
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	if err := s.readMailing(v, &m); err != nil {
		return s.showMailing(c, http.StatusUnprocessableEntity, m, shell.Sentence(err))
	}
	// A tab that changes nothing, or changes it to what is there, is in nobody's way.
	base := v.Get("base")
	_, err = s.Engine.SaveMailingSeen(ctx, m, shell.UserOf(c).ID, func(is *store.Mailing) bool {
		state := mailingState(is)
		return base == "" || base == state || state == mailingState(&m)
	})
	if errors.Is(err, post.ErrMailingOther) {
		return s.mailingConflicts(c, &is, &m, v)
	}
	if err != nil {
		return s.showMailing(c, http.StatusUnprocessableEntity, m, shell.Sentence(err))
	}
	if shell.IsHTMX(c) {
		if m, err = s.Store.Mailing(ctx, id); err != nil {
			return err
		}
		return s.showMailing(c, http.StatusOK, m, "")
	}
	return s.Done(c, at, "Saved.")
}

type reachData struct {
	M    store.Mailing
	R    post.Reach
	Not  []leftLine
	Zone *time.Location
}

func (s *Place) reach(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	d := reachData{Zone: s.Engine.Zone()}
	if d.M, err = s.Store.Mailing(c.Request().Context(), id); err != nil {
		return err
	}
	if d.R, err = s.Engine.Reach(c.Request().Context(), &d.M); err != nil {
		return err
	}
	for _, r := range mailing.Reasons() {
		if d.R.Not[r] > 0 {
			d.Not = append(d.Not, leftLine{string(r), d.R.Not[r]})
		}
	}
	return c.Render(http.StatusOK, "mailingdraft.html#reach", s.View(c, "Content", "", d))
}

func (s *Place) launchMailing(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	at := fmt.Sprintf("/content/emails/%d", id)
	if c.FormValue("sure") == "" {
		return s.NotDone(c, at, "Tick that you have seen who gets it, then send it.")
	}
	err = s.Engine.LaunchMailingSeen(c.Request().Context(), id, c.FormValue("seen"))
	switch {
	case errors.Is(err, post.ErrMailingOther):
		return s.NotDone(c, at, "Nothing was sent. "+shell.Sentence(err)+" Look again at who gets it and what.")
	case store.IsNotFound(err):
		return err
	case errors.Is(err, store.ErrOver):
		return s.NotDone(c, at, "It was launched already; nobody gets it twice.")
	case err != nil:
		return s.NotDone(c, at, shell.Sentence(err))
	}
	return s.Done(c, at, "On its way.")
}

func (s *Place) holdMailing(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	at := fmt.Sprintf("/content/emails/%d", id)
	hold := c.FormValue("do") != "on"
	if err := s.Engine.HoldMailing(c.Request().Context(), id, hold); errors.Is(err, store.ErrOver) {
		return s.NotDone(c, at, "That is not possible any more.")
	} else if err != nil {
		return err
	}
	return s.Done(c, at, shell.Either(hold, "Held: nothing goes out.", "It goes on."))
}

func (s *Place) stopMailing(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	at := fmt.Sprintf("/content/emails/%d", id)
	n, err := s.Engine.StopMailing(c.Request().Context(), id)
	if errors.Is(err, store.ErrOver) {
		return s.NotDone(c, at, "It is over already.")
	}
	if err != nil {
		return err
	}
	return s.Done(c, at, fmt.Sprintf("Stopped. %d had not gone out, and do not.", n))
}

func (s *Place) removeMailing(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	if err := s.Engine.RemoveMailing(ctx, id); errors.Is(err, store.ErrOver) {
		return s.NotDone(c, fmt.Sprintf("/content/emails/%d", id), "It was launched, and stays for its results.")
	} else if err != nil {
		return err
	}
	return s.Done(c, "/content/emails", "The draft is gone.")
}

func (s *Place) cleanBounced(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	batch, err := s.Engine.CleanBounced(c.Request().Context(), id, shell.UserOf(c).ID)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.NotDone(c, fmt.Sprintf("/content/emails/%d", id), shell.Sentence(err))
	}
	return s.Done(c, fmt.Sprintf("/people/work/%d", batch), "The addresses are being taken off; it can be undone here.")
}
