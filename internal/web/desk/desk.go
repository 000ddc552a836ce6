package desk

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/sync/errgroup"

	"ombak/internal/core/desk"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/core/touch"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// work is the item at hand, whole.
type work struct {
	Key     string // "call-12", of whatever kind of touch
	Kind    desk.Kind
	Person  int64
	Handoff *store.Handoff
	Touch   *store.Touch // what a step asks for: a call, a social touch, a task
	Task    *store.Task
	Answer  *answerForm
	Meeting *store.Booking
	Said    store.DeskItem
	Item    *sales.Item // its place in the list; nil: it is further down
}

type deskData struct {
	Day      *sales.Day
	Ask      sales.Ask
	Query    string // of the address, what is asked for: "kind=call"
	Now      *work
	At       int    // which of the list it is, from 1; 0: further down
	Before   string // the key of the one before it, and of the next
	After    string
	Since    int64 // when it was laid before the rep, in seconds
	Guide    string
	Words    string // ready to be copied
	Outcomes []sequence.Outcome
	Users    []store.User
	Reasons  []store.BackReason   // for which a handoff is sent back
	Onwards  []store.SequenceName // in which nurture can go on
	Joins    []store.Deal         // open ones at the company, which they could join
	Alerts   []shell.Bundle
	When     string // their reader takes them
	Times    []string
	Network  *networkForm // nil: they do not sell
	Unsure   []store.Incoming
	Undo     string // what was done a moment ago, "task-12"
	All      bool   // a lead sees everybody's
	Signals  []store.TimelineSignal
	Touches  []store.Touch // that the person had
	Notes    []store.Note
	There    []store.Colleague
	Shelf    []store.ShelfItem
	Wrong    string
	Room     string
	Whose    string // desk it is
	Phone    *onPhone

	item  string     // that is open, where the address does not say
	typed url.Values // what was typed and could not be kept
}

// Kinds lists the kinds of work that there are on desks.
func (deskData) Kinds() []desk.Kind {
	return desk.Kinds()
}

// Key is an item's in addresses and forms.
func (deskData) Key(x sales.Item) string { return keyOf(x.Row.Of, x.ID) }

// To is the address of an item in the list that is looked at; empty: of what is first.
func (d deskData) To(key string) string { return deskAt(d.Query, key) }

func deskAt(query, key string) string {
	to := "/desk"
	if key != "" {
		query = strings.TrimPrefix(query+"&item="+url.QueryEscape(key), "&")
	}
	if query != "" {
		to += "?" + query
	}
	return to
}

var keyWords = map[store.WorkKind]string{store.HandoffWork: "handoff", store.CallWork: "call", store.TaskWork: "task",
	store.AnswerWork: "answer", store.MeetingWork: "meeting"}

func keyOf(of store.WorkKind, id int64) string { return fmt.Sprintf("%s-%d", keyWords[of], id) }

// readKey reads an item's key; false: it is none.
func readKey(key string) (store.WorkKind, int64, bool) {
	word, number, _ := strings.Cut(key, "-")
	for of, w := range keyWords {
		if w == word {
			id := shell.Number(number)
			return of, id, id > 0
		}
	}
	return 0, 0, false
}

// asked reads what part of the desk is looked at.
func asked(c *echo.Context, get func(string) string) (sales.Ask, string) {
	u := shell.UserOf(c)
	ask := sales.Ask{User: u.ID, Kind: desk.Kind(get("kind")), Pool: get("pool") != ""}
	if u.Role != right.Rep {
		ask.User = 0
	}
	v := url.Values{}
	if rep := shell.Number(get("rep")); rep > 0 && (u.Role == right.Lead || u.Role == right.Admin) {
		ask.User = rep
		v.Set("rep", strconv.FormatInt(rep, 10))
	}
	if !ask.Kind.Known() {
		ask.Kind = ""
	} else {
		v.Set("kind", string(ask.Kind))
	}
	if ask.Pool {
		v.Set("pool", "1")
	}
	return ask, v.Encode()
}

func (s *Place) desk(c *echo.Context) error {
	return s.showDesk(c, http.StatusOK, deskData{item: c.QueryParam("item")})
}

func (s *Place) showDesk(c *echo.Context, code int, d deskData) error {
	ctx := c.Request().Context()
	u := shell.UserOf(c)
	d.Room = "desk"
	d.Ask, d.Query = asked(c, c.QueryParam)
	var err error
	d.All = d.Ask.User == 0
	if d.Whose = u.Name; d.Ask.User != 0 && d.Ask.User != u.ID {
		if d.Whose, err = s.Store.UserName(ctx, d.Ask.User); err != nil {
			return err
		}
	}
	if err := s.read(ctx, u, &d); err != nil {
		return err
	}
	// What may be an answer is an item like others.
	d.Unsure = slices.DeleteFunc(d.Unsure, func(m store.Incoming) bool { return m.Holds() })
	d.Times, d.Undo = sales.AlertTimes(), c.QueryParam("undo")
	if err := s.atHand(c.Request().Context(), shell.UserOf(c), &d, shell.Number(c.QueryParam("since"))); err != nil {
		return err
	}
	return s.PageCode(c, code, "desk.html", "desk", "Desk", "Desk", d)
}

// read reads the day, and beside it what else stands on a desk.
func (s *Place) read(ctx context.Context, u store.User, d *deskData) error {
	both, ctx := errgroup.WithContext(ctx)
	both.Go(func() (err error) {
		d.Day, err = s.Engine.Day(ctx, d.Ask)
		return err
	})
	both.Go(func() (err error) {
		if d.Alerts, err = s.Bundles(ctx, u.ID); err != nil {
			return err
		}
		if d.Unsure, err = s.Store.UnsureIncoming(ctx, 0, d.Ask.User, 20); err != nil {
			return err
		}
		if d.When, err = s.Store.AlertsTo(ctx, u.ID); err != nil {
			return err
		}
		d.Network, err = s.networkForm(ctx, u)
		return err
	})
	return both.Wait()
}

// atHand finds the item that is asked for, or the first, with all that is needed to do it; since is when that was
// opened before.
func (s *Place) atHand(ctx context.Context, u store.User, d *deskData, since int64) error {
	item := d.item
	if of, id, ok := readKey(item); ok {
		var err error
		if d.Now, err = s.open(ctx, of, id, d.Ask.User); err != nil {
			return err
		}
	}
	if d.Now == nil && len(d.Day.Items) > 0 {
		x := &d.Day.Items[0]
		var err error
		if d.Now, err = s.open(ctx, x.Row.Of, x.ID, d.Ask.User); err != nil {
			return err
		}
		if item != "" && d.Wrong == "" {
			d.Wrong = "What you had open is not on the desk any more. This is what comes first now."
		}
	}
	if d.Now == nil {
		return nil
	}
	for i := range d.Day.Items[:d.Day.Shown] {
		x := &d.Day.Items[i]
		if keyOf(x.Row.Of, x.ID) != d.Now.Key {
			continue
		}
		d.At, d.Now.Item = i+1, x
		if i > 0 {
			d.Before = keyOf(d.Day.Items[i-1].Row.Of, d.Day.Items[i-1].ID)
		}
		if i+1 < d.Day.Shown {
			d.After = keyOf(d.Day.Items[i+1].Row.Of, d.Day.Items[i+1].ID)
		}
	}
	d.Since = s.Engine.Now().Unix()
	if since > 0 && since < d.Since && d.Now.Key == item {
		d.Since = since
	}
	return s.around(ctx, d, u.ID)
}

// open reads an item that is still to be done and that a user may do; nil: there is none.
func (s *Place) open(ctx context.Context, of store.WorkKind, id, user int64) (*work, error) {
	may, err := s.Store.OnDesk(ctx, of, id, user, s.Engine.Now())
	if err != nil || !may {
		return nil, err
	}
	w := &work{Key: keyOf(of, id)}
	switch of {
	case store.HandoffWork:
		h, err := s.Store.Handoff(ctx, id)
		if err != nil {
			return nil, err
		}
		w.Handoff, w.Person, w.Kind = &h, h.Person, desk.Handoff
	case store.TaskWork:
		t, err := s.Store.Task(ctx, id)
		if err != nil {
			return nil, err
		}
		w.Task, w.Person, w.Kind = &t, t.Person, desk.Task
	case store.MeetingWork:
		b, err := s.Store.Booking(ctx, id)
		if err != nil {
			return nil, err
		}
		w.Meeting, w.Person, w.Kind = &b, b.Person, desk.Meeting
	case store.AnswerWork:
		in, err := s.Store.Incoming(ctx, id)
		if err != nil {
			return nil, err
		}
		w.Answer, w.Person, w.Kind = &answerForm{Letter: in}, *in.Person, desk.Answer
	default:
		t, err := s.Store.Touch(ctx, id)
		if err != nil {
			return nil, err
		}
		w.Touch, w.Person, w.Kind = &t, t.Person, kindOf(t.Kind)
	}
	w.Said, err = s.Store.DeskItem(ctx, of, id)
	return w, err
}

func kindOf(k touch.Kind) desk.Kind {
	switch k {
	case touch.Social:
		return desk.Social
	case touch.Task:
		return desk.Task
	}
	return desk.Call
}

// around reads what stands beside the item at hand.
func (s *Place) around(ctx context.Context, d *deskData, user int64) (err error) {
	if d.Now.Touch != nil {
		step, err := s.Engine.WorkOf(ctx, d.Now.Touch)
		if err != nil {
			return err
		}
		d.Outcomes = step.Outcomes()
		if d.Guide, err = s.told(ctx, step.Tells(), d.Now.Person, user); err != nil {
			return err
		}
		if d.Words, err = s.told(ctx, step.Words(), d.Now.Person, user); err != nil {
			return err
		}
	}
	if d.Now.Kind == desk.Call && s.Engine.Phone != nil {
		if d.Phone, err = s.onPhone(ctx, d.Now.Touch.ID, user); err != nil {
			return err
		}
	}
	if d.Now.Answer != nil {
		if d.Now.Answer, err = s.answerForm(ctx, d.Now.Answer.Letter, user, d.typed); err != nil {
			return err
		}
	}
	both, ctx := errgroup.WithContext(ctx)
	both.Go(func() error { return s.aroundPerson(ctx, d) })
	both.Go(func() error { return s.aroundItem(ctx, d) })
	return both.Wait()
}

// aroundPerson reads what is known of whom the item at hand is about.
func (s *Place) aroundPerson(ctx context.Context, d *deskData) (err error) {
	if d.Signals, err = s.Store.LastSignals(ctx, d.Now.Person, 6); err != nil {
		return err
	}
	if d.Touches, err = s.Store.LastTouchesOf(ctx, d.Now.Person, 5); err != nil {
		return err
	}
	if d.Notes, err = s.Store.Notes(ctx, d.Now.Person); err != nil {
		return err
	}
	d.Notes = d.Notes[:min(len(d.Notes), 3)]
	d.There, err = s.Store.AtTheCompany(ctx, d.Now.Person, 4)
	return err
}

// aroundItem reads what can be chosen from when the item at hand is done.
func (s *Place) aroundItem(ctx context.Context, d *deskData) (err error) {
	if d.Now.Handoff != nil {
		if d.Reasons, err = s.Store.BackReasons(ctx); err != nil {
			return err
		}
		if d.Onwards, err = s.Store.RunningNames(ctx); err != nil {
			return err
		}
		if d.Joins, err = s.Store.OpenDealsAt(ctx, d.Now.Person); err != nil {
			return err
		}
	}
	if d.Shelf, err = s.Store.Shelf(ctx, "", s.Engine.Now(), false); err != nil {
		return err
	}
	d.Shelf = d.Shelf[:min(len(d.Shelf), 4)]
	d.Users, err = s.Store.Users(ctx)
	return err
}

// told is what a step says with its merge fields filled in for one person. Where a field has
// no value, or is none, it is shown as it was written: a rep sees what to leave out.
func (s *Place) told(ctx context.Context, text string, who, user int64) (string, error) {
	if !strings.Contains(text, "{{") {
		return text, nil
	}
	said, err := s.Engine.TextFor(ctx, text, who, user)
	if _, plain := plainly.Says(err); err != nil && plain {
		return text, nil
	}
	return said, err
}

func (s *Place) finishWork(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	err = s.Engine.FinishWork(c.Request().Context(), id, shell.UserOf(c).ID, sequence.Outcome(c.FormValue("outcome")),
		c.FormValue("notes"))
	if errors.Is(err, base.ErrGone) {
		return s.NotDone(c, "/desk",
			"This is no longer on the desk: somebody else did it, or the sequence has gone on.")
	}
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if err != nil {
		return s.NotDone(c, fmt.Sprintf("/desk?item=call-%d", id), shell.Sentence(err))
	}
	s.took(c)
	note := "Noted: " + c.FormValue("outcome") + "."
	if next, err := s.Engine.NextTry(c.Request().Context(), id); err != nil {
		return err
	} else if !next.IsZero() {
		note += " It comes up again " + next.In(s.Engine.Zone()).Format("Mon 2 Jan, 15:04") + "."
	}
	return s.Done(c, backTo(c), note)
}

// backTo is the list that a form was sent from.
func backTo(c *echo.Context) string {
	v, err := url.ParseQuery(c.FormValue("desk"))
	if err != nil {
		return "/desk"
	}
	_, query := asked(c, v.Get)
	return deskAt(query, "")
}

// took keeps how long what a form was sent about took, where the form says it.
func (s *Place) took(c *echo.Context) {
	since := shell.Number(c.FormValue("since"))
	if since <= 0 {
		return
	}
	err := s.Engine.Took(c.Request().Context(), shell.UserOf(c).ID, desk.Kind(c.FormValue("of")), time.Unix(since, 0))
	if err != nil { // what was done is done
		slog.Warn("how long something took is not kept", "error", err)
	}
}

func (s *Place) accept(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	join := max(shell.Number(c.FormValue("join")), 0)
	deal, err := s.Engine.AcceptInto(c.Request().Context(), id, shell.UserOf(c).ID, join)
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if err != nil {
		return s.NotDone(c, "/desk", shell.Sentence(err))
	}
	s.took(c)
	words := "Accepted. A deal stands on the pipeline."
	if join != 0 {
		d, err := s.Store.Deal(c.Request().Context(), deal)
		if err != nil {
			return err
		}
		words = "Accepted. They take part in “" + d.Name + "”."
	}
	return s.DoneUndo(c, backTo(c), words,
		fmt.Sprintf("/desk/handoffs/%d/back", id))
}

// takeBack puts a handoff that was accepted or sent back on the desk again.
func (s *Place) takeBack(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	item := fmt.Sprintf("/desk?item=handoff-%d", id)
	switch err := s.Engine.TakeBack(c.Request().Context(), id, shell.UserOf(c).ID); {
	case err == nil:
		return s.Done(c, item, "It is back on the desk.")
	case errors.Is(err, sales.ErrMovedOn):
		return s.NotDone(c, "/desk", shell.Sentence(sales.ErrMovedOn))
	default:
		return shell.NotYours(err)
	}
}

// backOf reads why somebody is sent back. What the form leaves open is as the reason says, where it is one of those
// that were agreed; else the cool-off is the model's, and nurture goes on nowhere.
func (s *Place) backOf(c *echo.Context, id int64) (sales.Back, error) {
	ctx := c.Request().Context()
	b := sales.Back{Reason: strings.TrimSpace(c.FormValue("reason")), GoesOn: store.Nowhere}
	h, err := s.Store.Handoff(ctx, id)
	if err != nil && !store.IsNotFound(err) {
		return b, err
	}
	m, err := s.Store.ModelOf(ctx, h.Model)
	if err != nil && !store.IsNotFound(err) {
		return b, err
	}
	b.CoolOff = m.CoolOff
	list, err := s.Store.BackReasons(ctx)
	if err != nil {
		return b, err
	}
	for _, r := range list {
		if strings.EqualFold(r.Name, b.Reason) {
			b.CoolOff, b.GoesOn, b.Sequence, b.Step = r.CoolOff, r.GoesOn, r.Sequence, r.Step
		}
	}
	if days := strings.TrimSpace(c.FormValue("cool")); days != "" {
		if b.CoolOff, err = strconv.Atoi(days); err != nil {
			b.CoolOff = -1 // which no cool-off is
		}
	}
	switch on := c.FormValue("on"); on {
	case "":
	case store.Nowhere, store.WhereFrom:
		b.GoesOn, b.Sequence, b.Step = on, 0, 0
	default:
		b.GoesOn, b.Sequence, b.Step = store.OnWith, shell.Number(on), 0
	}
	return b, nil
}

func (s *Place) sendBack(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	b, err := s.backOf(c, id)
	if err != nil {
		return err
	}
	err = s.Engine.SendBack(c.Request().Context(), id, shell.UserOf(c).ID, b)
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if errors.Is(err, base.ErrGone) {
		return s.NotDone(c, "/desk", shell.Sentence(err))
	}
	if _, plain := plainly.Says(err); err != nil && plain {
		return s.NotDone(c, "/desk?item=handoff-"+strconv.FormatInt(id, 10), shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	s.took(c)
	return s.DoneUndo(c, backTo(c), "Sent back. Marketing sees your reason.", fmt.Sprintf("/desk/handoffs/%d/back", id))
}

// sortLetter takes whether a letter is from whom it seems to be from.
func (s *Place) sortLetter(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := shell.LocalPath(c.FormValue("back"))
	if to == "" {
		to = "/desk"
	}
	theirs := c.FormValue("theirs") == "yes"
	if err := s.Engine.Sort(c.Request().Context(), id, shell.UserOf(c).ID, theirs); err != nil {
		if store.IsNotFound(err) {
			return s.NotDone(c, to, "Somebody else has sorted this letter meanwhile.")
		}
		return err
	}
	if theirs {
		return s.Done(c, to, "Noted as theirs. It counts from when it came.")
	}
	return s.Done(c, to, "Noted as not theirs. What waited for it goes on.")
}

// Routes are those of the place Desk.
func (s *Place) Routes(in *echo.Group) {
	sells := shell.Allow(right.Rep, right.Lead, right.Admin)
	in.GET("/desk", s.desk)
	s.answerRoutes(in)
	s.bookingRoutes(in)
	s.writtenRoutes(in)
	s.loadRoutes(in)
	in.POST("/desk/calls/:id/dial", s.dial, sells)
	in.POST("/desk/calls/:id/hang-up", s.hangUp, sells)
	in.GET("/desk/calls/:id/phone", s.phoneState, sells)
	in.POST("/desk/tasks/:id", s.finishTask)
	in.POST("/desk/tasks/back", s.reopenTask)
	in.POST("/desk/alerts", s.seeAlerts)
	in.POST("/desk/alerts/when", s.setAlerts)
	in.POST("/desk/network", s.setNetwork, sells)
	in.POST("/desk/items/:key/take", s.take)
	in.POST("/desk/items/:key/later", s.later)
	in.POST("/desk/items/:key/now", s.comeUp)
	in.POST("/desk/items/:key/pass", s.passOn)
	in.POST("/desk/items/:key/pass/back", s.passBack)
	in.POST("/letters/:id/sort", s.sortLetter, shell.Allow(right.Marketer, right.Rep, right.Lead, right.Admin))
	in.POST("/desk/calls/:id", s.finishWork, sells)
	in.POST("/desk/handoffs/:id/accept", s.accept, sells)
	in.POST("/desk/handoffs/:id/send-back", s.sendBack, sells)
	in.POST("/desk/handoffs/:id/back", s.takeBack, sells)
}
