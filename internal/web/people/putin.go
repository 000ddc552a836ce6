package people

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// mostPut is how many people are put in at a time.
const mostPut = 100

// putInData is what somebody sees before they put people into a sequence.
type putInData struct {
	Open     []store.SequenceName // into which they may
	Sequence store.SequenceName   // the one that is chosen; its id is 0 where none is
	People   []store.Person
	Bars     map[int64]string // why some are not let in
	At       int64            // whose first email is shown; 0: nobody's
	Email    *firstEmail
	Query    string // of the address, without whose email is shown
	Lets     int
}

// firstEmail is what goes out first to one of them.
type firstEmail struct {
	Message int64
	Subject string
	Text    string
	From    string
	Wrong   string // it would not go out, and why
	Edited  bool   // it has words for them alone
}

// putIn shows what would go out first, before somebody is put into a sequence.
func (s *Place) putIn(c *echo.Context) error {
	ctx := c.Request().Context()
	d := putInData{}
	var err error
	if d.Open, err = s.openFor(c); err != nil {
		return err
	}
	ids := idsOf(c.QueryParams()["id"])
	if len(ids) == 0 {
		return s.NotDone(c, "/people", "Tick somebody first.")
	}
	for _, id := range ids {
		p, err := s.Store.Person(ctx, id)
		if store.IsNotFound(err) {
			continue // erased meanwhile
		}
		if err != nil {
			return err
		}
		d.People = append(d.People, p)
	}
	v := url.Values{}
	for _, p := range d.People {
		v.Add("id", fmt.Sprint(p.ID))
	}
	chosen := shell.Number(c.QueryParam("sequence"))
	if i := slices.IndexFunc(d.Open, func(x store.SequenceName) bool { return x.ID == chosen }); i >= 0 {
		d.Sequence = d.Open[i]
		v.Set("sequence", fmt.Sprint(chosen))
	}
	d.Query = v.Encode()
	if d.Sequence.ID != 0 && len(d.People) > 0 {
		if err := s.firstOf(c, &d); err != nil {
			return err
		}
	}
	return s.PageCode(c, http.StatusOK, "putin.html", "", "People", "Put into a sequence", d)
}

// choosePutIn takes who was ticked on a list, and leads to what would go out to them.
func (s *Place) choosePutIn(c *echo.Context) error {
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	v := url.Values{}
	for _, id := range idsOf(form["id"]) {
		v.Add("id", fmt.Sprint(id))
	}
	return c.Redirect(http.StatusSeeOther, "/people/put-in?"+v.Encode())
}

// openFor lists the sequences into which a user may put people: all that run, for a marketer; those that
// are open to them, for a rep.
func (s *Place) openFor(c *echo.Context) ([]store.SequenceName, error) {
	ctx := c.Request().Context()
	if shell.UserOf(c).Role == right.Rep {
		return s.Store.OpenToReps(ctx)
	}
	return s.Store.RunningNames(ctx)
}

func idsOf(list []string) (ids []int64) {
	for _, x := range list {
		if id := shell.Number(x); id > 0 && !slices.Contains(ids, id) && len(ids) < mostPut {
			ids = append(ids, id)
		}
	}
	return ids
}

// firstOf finds who is let in, and what goes out first to whoever is looked at.
func (s *Place) firstOf(c *echo.Context, d *putInData) error {
	ctx := c.Request().Context()
	ids := make([]int64, len(d.People))
	for i, p := range d.People {
		ids[i] = p.ID
	}
	var err error
	if d.Bars, err = s.Store.Bars(ctx, d.Sequence.ID, ids, s.Engine.Now()); err != nil {
		return err
	}
	d.At = shell.Number(c.QueryParam("at"))
	if !slices.Contains(ids, d.At) {
		d.At = 0
	}
	for _, id := range ids {
		if d.Bars[id] == "" {
			if d.Lets++; d.At == 0 {
				d.At = id
			}
		}
	}
	if d.At == 0 {
		d.At = ids[0]
	}
	q, err := s.Store.Sequence(ctx, d.Sequence.ID)
	if err == nil && q.Version == nil {
		err = store.ErrNotFound
	}
	if err != nil {
		return err
	}
	v, err := s.Store.Version(ctx, *q.Version)
	if err != nil {
		return err
	}
	emails := v.Plan.V.NextEmails(v.Plan.V.Start)
	if len(emails) == 0 || emails[0].Message == 0 {
		return nil
	}
	return s.firstEmail(c, d, v.Plan.V, emails[0])
}

// firstEmail writes it as they would get it.
func (s *Place) firstEmail(c *echo.Context, d *putInData, plan *sequence.Plan, e *sequence.Email) error {
	ctx := c.Request().Context()
	m, err := s.Store.MessageText(ctx, e.Message)
	if err != nil {
		return err
	}
	sender := m.SenderID
	if by := plan.SenderOf(e.ID); by > 0 {
		sender = &by
	}
	r, err := s.Engine.WriteFor(ctx, &m.Doc.V, e.Message, d.At, m.FromOwner, sender, -1)
	d.Email = &firstEmail{Message: e.Message, Subject: r.Subject, Text: r.Text, From: r.Sender.Name}
	if text, plain := plainly.Says(err); plain {
		d.Email.Wrong, err = text, nil
	}
	if err != nil {
		return err
	}
	edit, err := s.Store.PersonalEdit(ctx, e.Message, d.At)
	d.Email.Edited = edit != nil
	return err
}

// Who is a person's name.
func (putInData) Who(p store.Person) string { return person.Full(p.First, p.Last, p.Email) }

// Said is the letter without what stands below every letter.
func (f firstEmail) Said() string { return message.Above(f.Text) }

// putInNow puts them in.
func (s *Place) putInNow(c *echo.Context) error {
	ctx := c.Request().Context()
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	ids := idsOf(form["id"])
	seq := shell.Number(form.Get("sequence"))
	open, err := s.openFor(c)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(open, func(x store.SequenceName) bool { return x.ID == seq }) {
		return shell.NotYours(base.ErrNotYours)
	}
	if len(ids) == 0 {
		return s.NotDone(c, "/people", "Tick somebody first.")
	}
	n, err := s.Engine.Hand(ctx, flow.ByHand{Do: flow.PutIn, Sequence: seq}, ids...)
	back := "/people/put-in?" + url.Values{"id": form["id"], "sequence": {fmt.Sprint(seq)}}.Encode()
	if _, plain := plainly.Says(err); plain {
		return s.NotDone(c, back, shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	if n == 0 {
		return s.NotDone(c, back, "It lets none of them in.")
	}
	to := "/people"
	if len(ids) == 1 {
		to = fmt.Sprintf("/people/%d", ids[0])
	}
	return s.Done(c, to, fmt.Sprintf("Put in: %d of %d.", n, len(ids)))
}

// takeOut takes somebody off a sequence, with the reason, as whoever sells may for who is theirs.
func (s *Place) takeOut(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	to := fmt.Sprintf("/people/%d", id)
	err = s.Engine.TakeOut(c.Request().Context(), id, shell.Number(c.FormValue("sequence")), shell.UserOf(c).ID,
		c.FormValue("why"))
	switch {
	case errors.Is(err, base.ErrNotYours):
		return shell.NotYours(err)
	case store.IsNotFound(err):
		return s.NotDone(c, to, "They are not on it any more.")
	}
	if _, plain := plainly.Says(err); plain {
		return s.NotDone(c, to, shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, to, "Taken out. Nothing more of it goes out to them.")
}
