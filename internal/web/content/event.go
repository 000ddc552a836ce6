package content

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/event"
	"ombak/internal/core/folder"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/engine/forms"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

func (s *Place) eventRoutes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	g := in.Group("/content/events")
	g.GET("", s.events)
	g.GET("/new", s.newEvent, writes)
	g.POST("/new", s.saveEvent, writes)
	g.GET("/:id", s.event)
	g.GET("/:id/edit", s.editEvent, writes)
	g.POST("/:id", s.saveEvent, writes)
	g.POST("/:id/cancel", s.cancelEvent, writes)
	g.POST("/:id/remove", s.removeEvent, writes)
	g.POST("/:id/people", s.eventPeople, writes)
}

// eventView is an event as it is shown.
type eventView struct {
	store.Event
	When string // "Monday 20 April 2026, 09:00 to 11:00"
	Over bool
}

// Full reports whether no seat is left.
func (e eventView) Full() bool { return e.Seats > 0 && e.Registered >= int64(e.Seats) }

// Off reports whether it is cancelled.
func (e eventView) Off() bool { return e.Cancelled != nil }

func (s *Place) viewEvent(e store.Event) eventView {
	x := e.Core()
	return eventView{e, shell.EventTime(&x, x.Location()), !s.Engine.Now().Before(e.Ends)}
}

type eventsData struct {
	Next, Past []eventView
	F          *shell.Folders
}

func (s *Place) events(c *echo.Context) error {
	list, err := s.Store.Events(c.Request().Context(), s.Engine.Now())
	if err != nil {
		return err
	}
	var d eventsData
	if d.F, err = s.Folders(c, folder.Event, "/content/events"); err != nil {
		return err
	}
	for _, e := range shell.InFolder(d.F, list, func(e *store.Event) int64 { return e.ID }) {
		if x := s.viewEvent(e); x.Over {
			d.Past = append(d.Past, x)
		} else {
			d.Next = append(d.Next, x)
		}
	}
	d.Past = shell.Firsts(d.F, d.Past)
	return s.Page(c, "events.html", "", "Content", "Events", d)
}

// eventForm is an event as it is typed.
type eventForm struct {
	ID                    int64
	Name, Note            string
	Day, From, EndDay, To string
	Zone, Place, Link     string
	Page                  int64
	Seats                 string
	Sequence              int64 // whose plan it is made for; 0: none
	Tell                  bool
	Subject, Text         string
	Registered            int64
	Pages                 []store.PageName
	Wrong                 string
}

func (s *Place) newEvent(c *echo.Context) error {
	now := s.Engine.Now().In(s.Engine.Zone()).AddDate(0, 0, 21)
	day := now.Format(time.DateOnly)
	f := eventForm{Day: day, From: "10:00", EndDay: day, To: "11:00", Zone: s.Engine.Workspace().Zone,
		Sequence: max(shell.Number(c.QueryParam("sequence")), 0)}
	return s.showEventForm(c, http.StatusOK, f)
}

func (s *Place) editEvent(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	e, err := s.Store.Event(c.Request().Context(), id)
	if err != nil {
		return err
	}
	x := e.Core()
	starts, ends := x.Starts.In(x.Location()), x.Ends.In(x.Location())
	f := eventForm{ID: id, Name: x.Name, Note: x.Note, Day: starts.Format(time.DateOnly), From: starts.Format("15:04"),
		EndDay: ends.Format(time.DateOnly), To: ends.Format("15:04"), Zone: x.Zone, Place: x.Place, Link: x.Link,
		Page: x.Page, Tell: true, Subject: "It has been moved: " + x.Name,
		Text: "Dear {{ person.first_name | default: \"reader\" }},\n\n{{ event.title }} is on {{ event.day }} at " +
			"{{ event.time }} now. Your place is kept.\n\nIf the new day does not suit you, cancel here: " +
			s.Engine.URL + fmt.Sprintf("/e/%d", id)}
	if x.Seats > 0 {
		f.Seats = strconv.Itoa(x.Seats)
	}
	return s.showEventForm(c, http.StatusOK, f)
}

func (s *Place) showEventForm(c *echo.Context, code int, f eventForm) error {
	ctx := c.Request().Context()
	var err error
	if f.Pages, err = s.Store.PageNames(ctx); err != nil {
		return err
	}
	title := "New event"
	if f.ID != 0 {
		e, err := s.Store.Event(ctx, f.ID)
		if err != nil {
			return err
		}
		f.Registered, title = e.Registered-e.Came-e.Away, e.Name
	}
	return s.PageCode(c, code, "eventform.html", "", "Content", title, f)
}

// typedEvent reads the form of an event.
func typedEvent(c *echo.Context, f *eventForm) (event.Event, error) {
	v := func(name string) string { return strings.TrimSpace(c.FormValue(name)) }
	*f = eventForm{ID: f.ID, Name: v("name"), Note: v("note"), Day: v("day"), From: v("from"), EndDay: v("end-day"),
		To: v("to"), Zone: v("zone"), Place: v("place"), Link: v("link"), Page: max(shell.Number(v("page")), 0),
		Seats: v("seats"), Sequence: max(shell.Number(v("sequence")), 0), Tell: v("tell") != "", Subject: v("subject"),
		Text: c.FormValue("text")}
	x := event.Event{ID: f.ID, Name: f.Name, Note: f.Note, Zone: f.Zone, Place: f.Place, Link: f.Link, Page: f.Page}
	loc := x.Location()
	var err error
	at := func(day, clock string) time.Time {
		t, e := time.ParseInLocation("2006-01-02 15:04", day+" "+clock, loc)
		if e != nil && err == nil {
			err = plainly.New("choose the day and the time at which it begins and ends")
		}
		return t
	}
	if f.EndDay == "" {
		f.EndDay = f.Day
	}
	x.Starts, x.Ends = at(f.Day, f.From).UTC(), at(f.EndDay, f.To).UTC()
	if f.Seats != "" {
		n, e := strconv.Atoi(f.Seats)
		if e != nil {
			err = plainly.New("the seats are a whole number; none is as many as come")
		}
		x.Seats = n
	}
	return x, err
}

func (s *Place) saveEvent(c *echo.Context) error {
	var f eventForm
	if c.Param("id") != "" {
		var err error
		if f.ID, err = shell.IDOf(c, "id"); err != nil {
			return err
		}
	}
	ctx, user := c.Request().Context(), shell.UserOf(c).ID
	x, err := typedEvent(c, &f)
	id, told := int64(0), int64(0)
	if err == nil && f.ID == 0 {
		id, err = s.Engine.AddEvent(ctx, x, f.Sequence, user)
	} else if err == nil {
		var w forms.Word
		if w, err = typedWord(f.Tell, f.Subject, f.Text); err == nil {
			id, told, err = s.Engine.SaveEvent(ctx, x, w, user)
		}
	}
	switch {
	case store.IsNotFound(err):
		return err
	case err != nil && id != 0: // it is there, and its sequence was changed meanwhile
		return s.NotDone(c, fmt.Sprintf("/content/events/%d", id), shell.Sentence(err))
	case err != nil:
		f.Wrong = shell.Sentence(err)
		return s.showEventForm(c, http.StatusUnprocessableEntity, f)
	case f.ID == 0 && f.Sequence != 0:
		return s.Done(c, fmt.Sprintf("/sequences/%d/parts", f.Sequence), "This is the sequence’s event.")
	}
	note := "Saved."
	if told > 0 {
		note = fmt.Sprintf("Saved; word goes to %s.", shell.PeopleWords(told))
	}
	return s.Done(c, fmt.Sprintf("/content/events/%d", id), note)
}

// typedWord is the word that is to go to those registered, if any is.
func typedWord(tell bool, subject, text string) (forms.Word, error) {
	w := forms.Word{Subject: strings.TrimSpace(subject), Text: strings.TrimSpace(text)}
	switch {
	case !tell:
		return forms.Word{}, nil
	case w.Subject == "" || w.Text == "":
		return w, plainly.New("write a subject and a few words to those who registered, or tell nobody")
	}
	return w, nil
}

// attendeesShown is how many lines of who comes are on a page.
const attendeesShown = 100

type eventData struct {
	E         eventView
	State     event.State
	States    []event.State
	List      []store.Attendance
	More      int64 // the line from which on there are more; 0: no more
	Audiences []store.Audience
	URL       string
	Word      forms.Word // of its cancelling
	Waiting   int64      // registered, and neither came nor stayed away
}

func (s *Place) event(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	e, err := s.Store.Event(ctx, id)
	if err != nil {
		return err
	}
	d := eventData{E: s.viewEvent(e), State: event.State(c.QueryParam("state")), States: event.States(),
		URL: s.Engine.URL + fmt.Sprintf("/e/%d", id), Waiting: e.Registered - e.Came - e.Away}
	if !slices.Contains(d.States, d.State) {
		d.State = event.None
	}
	before := max(shell.Number(c.QueryParam("before")), 0)
	if d.List, err = s.Store.Attendances(ctx, id, d.State, before, attendeesShown+1); err != nil {
		return err
	}
	if len(d.List) > attendeesShown {
		d.List = d.List[:attendeesShown]
		d.More = d.List[attendeesShown-1].ID
	}
	if d.Audiences, err = s.Store.Audiences(ctx); err != nil {
		return err
	}
	d.Word = forms.Word{Subject: "Cancelled: " + e.Name,
		Text: "Dear {{ person.first_name | default: \"reader\" }},\n\n" +
			"{{ event.title }} on {{ event.day }} does not take place. We are sorry."}
	return s.Page(c, "event.html", "who", "Content", e.Name, d)
}

func (s *Place) cancelEvent(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	off := c.FormValue("back") == ""
	told := int64(0)
	w, err := typedWord(c.FormValue("tell") != "", c.FormValue("subject"), c.FormValue("text"))
	if err == nil {
		told, err = s.Engine.CancelEvent(c.Request().Context(), id, off, w, shell.UserOf(c).ID)
	}
	to := fmt.Sprintf("/content/events/%d", id)
	switch {
	case store.IsNotFound(err):
		return err
	case err != nil:
		return s.NotDone(c, to, shell.Sentence(err))
	case off:
		return s.Done(c, to, fmt.Sprintf("Cancelled; word goes to %s.", shell.PeopleWords(told)))
	}
	return s.Done(c, to, "It takes place again.")
}

func (s *Place) removeEvent(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.RemoveEvent(c.Request().Context(), id); err != nil {
		if store.IsNotFound(err) {
			return err
		}
		return s.NotDone(c, fmt.Sprintf("/content/events/%d", id), shell.Sentence(err))
	}
	return s.Done(c, "/content/events", "Deleted.")
}

// mostAtOnce is how many people a list or an audience puts into an event at once.
const mostAtOnce = 5000

// eventPeople notes how people stand to an event: one of its list, addresses that were
// pasted, or an audience.
func (s *Place) eventPeople(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/content/events/%d", id)
	user := shell.UserOf(c).ID
	if c.FormValue("do") == "close" {
		n, err := s.Engine.CloseList(ctx, id, user)
		if store.IsNotFound(err) {
			return err
		}
		if err != nil {
			return s.NotDone(c, to, shell.Sentence(err))
		}
		return s.Done(c, to, fmt.Sprintf("Noted: %s stayed away.", shell.PeopleWords(int64(n))))
	}
	state := event.State(c.FormValue("do"))
	if !slices.Contains(event.States(), state) {
		return s.NotDone(c, to, "Choose how they stand to it.")
	}
	who, unknown, err := s.namedPeople(ctx, c)
	if err != nil {
		return s.NotDone(c, to, shell.Sentence(err))
	}
	n, why, err := s.Engine.Attend(ctx, id, who, state, store.Author{User: user, How: "by hand"})
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.NotDone(c, to, shell.Sentence(err))
	}
	note := fmt.Sprintf("Noted for %s.", shell.PeopleWords(int64(n)))
	if why != nil {
		note += " Not for the others: " + why.Error() + "."
	}
	if len(unknown) > 0 {
		note += fmt.Sprintf(" Nobody is known by %s.", strings.Join(unknown[:min(len(unknown), 5)], ", "))
		if len(unknown) > 5 {
			note += fmt.Sprintf(" Nor by %d more.", len(unknown)-5)
		}
	}
	return s.Done(c, to, note)
}

// namedPeople are those whom a form names: by number, by their addresses, or by an audience.
func (s *Place) namedPeople(ctx context.Context, c *echo.Context) (who []int64, unknown []string, err error) {
	if p := shell.Number(c.FormValue("person")); p > 0 {
		return []int64{p}, nil, nil
	}
	if a := shell.Number(c.FormValue("audience")); a > 0 {
		who, err := s.Engine.MembersOf(ctx, a)
		if len(who) > mostAtOnce {
			return nil, nil, plainly.Errorf("at most %d people at once", mostAtOnce)
		}
		return who, nil, err
	}
	words := strings.FieldsFunc(strings.ToLower(c.FormValue("list")), func(r rune) bool {
		return strings.ContainsRune(" ,;\r\n\t<>", r)
	})
	words = slices.DeleteFunc(words, func(w string) bool { return !strings.Contains(w, "@") })
	switch {
	case len(words) == 0:
		return nil, nil, plainly.New("name somebody: an address on each line, or an audience")
	case len(words) > mostAtOnce:
		return nil, nil, plainly.Errorf("at most %d people at once", mostAtOnce)
	}
	known, err := s.Store.PeopleByAddress(ctx, words)
	if err != nil {
		return nil, nil, err
	}
	for _, w := range words {
		if p := known[w]; p != 0 {
			who = append(who, p)
		} else {
			unknown = append(unknown, w)
		}
	}
	return who, unknown, nil
}
