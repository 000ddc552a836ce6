package content

import (
	"crypto/rand"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/engine/post"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// byHandData is an email that somebody is about to write to one person.
type byHandData struct {
	P     store.Person
	B     post.ByHand
	Shelf []store.ShelfItem
	Why   string // they cannot be written to
	Wrong string
}

// byHand is the form of an email to one person, about something on the shelf.
func (s *Place) byHand(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	d := byHandData{B: post.ByHand{Person: id, Item: shell.Number(c.QueryParam("item")), Once: rand.Text()}}
	return s.showByHand(c, http.StatusOK, d)
}

func (s *Place) showByHand(c *echo.Context, code int, d byHandData) error {
	ctx := c.Request().Context()
	var err error
	if d.P, err = s.Store.Person(ctx, d.B.Person); err != nil {
		return err
	}
	if err := post.MayWrite(&d.P); err != nil {
		d.Why = shell.Sentence(err)
	}
	if d.Shelf, err = s.Store.Shelf(ctx, "", s.Engine.Now(), false); err != nil {
		return err
	}
	if d.Wrong == "" {
		for _, i := range d.Shelf {
			if i.ID == d.B.Item {
				d.B.Subject = i.Title
			}
		}
		hello := d.P.First
		if hello == "" {
			hello = "reader"
		}
		d.B.Text = "Dear " + hello + ",\n\n"
	}
	return s.PageCode(c, code, "byhand.html", "", "People", "To "+person.Full(d.P.First, d.P.Last, d.P.Email), d)
}

func (s *Place) sendByHand(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	u := shell.UserOf(c)
	d := byHandData{B: post.ByHand{Person: id, Item: shell.Number(c.FormValue("item")), Subject: c.FormValue("subject"),
		Text: c.FormValue("text"), Once: c.FormValue("once")}}
	if !s.Limits.Allow("byhand", fmt.Sprint(u.ID), 10*time.Second, 30) {
		d.Wrong = "You have sent many in a short time. Wait a minute."
		return s.showByHand(c, http.StatusTooManyRequests, d)
	}
	err = s.Engine.SendByHand(c.Request().Context(), d.B, u.ID)
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		d.Wrong = shell.Sentence(err)
		return s.showByHand(c, http.StatusUnprocessableEntity, d)
	}
	return s.Done(c, fmt.Sprintf("/people/%d", id), "It is on its way, from you.")
}

// sendFromShelf asks to whom an item of the shelf is to be sent.
func (s *Place) sendFromShelf(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	d := struct {
		I    store.ShelfItem
		Text string
		List []store.Person
	}{Text: strings.TrimSpace(c.QueryParam("text"))}
	if d.I, err = s.Store.ShelfItem(ctx, id); err != nil {
		return err
	}
	q := store.PeopleQuery{Text: d.Text, Order: store.ByScore, Limit: 12, Now: s.Engine.Now()}
	if d.Text == "" { // whoever owns people begins with theirs
		q.Rule = rule.FieldIs(person.Owner, shell.UserOf(c).Name)
	}
	if d.List, _, err = s.Store.People(ctx, q); err != nil {
		return err
	}
	return s.PageCode(c, http.StatusOK, "shelfsend.html", "sendlist", "Content", "Send “"+d.I.Title+"”", d)
}
