package content

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/mailbox"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

type mailboxesData struct {
	List    []mailboxLine
	Stopped []store.Outbox
	Records []shell.DnsRecord
	Wrong   string
	Of      int64 // whose form was wrong
	Own     bool  // it was the one of their own server
	Typed   [2]string
}

type mailboxLine struct {
	store.Mailbox
	Limit   int // today
	Today   int
	Warming bool
	Began   time.Time
	Health  string // what to look at, or nothing
}

// Shares of what was sent, over 30 days, from which an account wants care.
// Common practice, no source.
const (
	manyBounces    = 0.02
	manyComplaints = 0.001
)

// mailboxes shows the accounts that emails go out from: limits, warming up,
// health, and the DNS records by which receivers know them.
func (s *Place) mailboxes(c *echo.Context) error {
	return s.showMailboxes(c, http.StatusOK, mailboxesData{})
}

func (s *Place) showMailboxes(c *echo.Context, code int, d mailboxesData) error {
	now := s.Engine.Now()
	list, err := s.Store.Mailboxes(c.Request().Context(), now.AddDate(0, 0, -30))
	if err != nil {
		return err
	}
	if d.Stopped, err = s.Store.Stopped(c.Request().Context()); err != nil {
		return err
	}
	domains := map[string]bool{}
	for _, m := range list {
		l := mailboxLine{Mailbox: m, Limit: m.Box.V.Limit(now, s.Engine.Zone()), Warming: m.Box.V.Begin > 0,
			Began: m.Box.V.Began}
		if m.Day == now.In(s.Engine.Zone()).Format(time.DateOnly) {
			l.Today = m.Sent
		}
		switch {
		case m.Recent >= 50 && float64(m.Complained) > manyComplaints*float64(m.Recent):
			l.Health = "many complain: write to fewer, and only to those who agreed"
		case m.Recent >= 50 && float64(m.Bounced) > manyBounces*float64(m.Recent):
			l.Health = "many bounce: clean the list before the next email"
		}
		d.List = append(d.List, l)
		if _, domain, ok := strings.Cut(m.Email, "@"); ok && s.Engine.Signer != nil && !domains[domain] {
			domains[domain] = true
			name, text, err := s.Engine.Signer.Record(domain)
			if err != nil {
				return err
			}
			d.Records = append(d.Records, shell.DnsRecord{Name: name, Text: text})
		}
	}
	return s.PageCode(c, code, "mailboxes.html", "", "Content", "Mailboxes", d)
}

func (s *Place) setMailbox(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if _, err := s.Store.User(ctx, id); err != nil {
		return err
	}
	wrong := ""
	whole := func(name, what string) int {
		text := strings.TrimSpace(c.FormValue(name))
		if text == "" {
			return 0
		}
		n, err := strconv.Atoi(text)
		if err != nil && wrong == "" {
			wrong = fmt.Sprintf("%s is a whole number, and %q is none.", what, text)
		}
		return n
	}
	b := mailbox.Box{Daily: whole("daily", "The daily limit"), Begin: whole("begin", "The number to begin with"),
		Step: whole("step", "The number to grow by"), Gap: whole("gap", "The gap")}
	list, err := s.Store.Mailboxes(ctx, s.Engine.Now())
	if err != nil {
		return err
	}
	for _, m := range list {
		if m.User == id && m.Box.V.Begin == b.Begin {
			b.Began = m.Box.V.Began // it goes on warming up
		}
	}
	if wrong == "" {
		if err := s.Engine.SetMailbox(ctx, id, b); err != nil {
			wrong = shell.Sentence(err)
		}
	}
	if wrong != "" {
		return s.showMailboxes(c, http.StatusUnprocessableEntity, mailboxesData{Wrong: wrong, Of: id})
	}
	return s.Done(c, "/content/mailboxes", "Saved. It holds from the next email on.")
}

// setMailAccount has somebody's emails go out by a mail server of their own,
// once it has let us in.
func (s *Place) setMailAccount(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	u, err := s.Store.User(ctx, id)
	if err != nil {
		return err
	}
	if !s.Limits.Allow("account", fmt.Sprint(shell.UserOf(c).ID), 5*time.Second, 12) {
		return s.NotDone(c, "/content/mailboxes", "Too many tries. Wait a minute.")
	}
	server, login := c.FormValue("server"), c.FormValue("login")
	if err := s.Engine.SetMailAccount(ctx, id, server, login, c.FormValue("password")); err != nil {
		return s.showMailboxes(c, http.StatusUnprocessableEntity,
			mailboxesData{Wrong: shell.Sentence(err) + " Nothing was changed.", Of: id, Own: true,
				Typed: [2]string{server, login}})
	}
	if strings.TrimSpace(server) == "" {
		return s.Done(c, "/content/mailboxes", u.Name+"’s emails go out by everybody’s mail server again.")
	}
	return s.Done(c, "/content/mailboxes", "It let us in. "+u.Name+"’s emails go out by it from now on.")
}

// openOutbox lets letters go out again that were stopped because too many of
// them were refused.
func (s *Place) openOutbox(c *echo.Context) error {
	id, err := strconv.ParseInt(c.FormValue("outbox"), 10, 64)
	if err != nil || id < 0 {
		return echo.ErrNotFound
	}
	if err := s.Engine.OpenOutbox(c.Request().Context(), id); err != nil {
		return err
	}
	return s.Done(c, "/content/mailboxes", "Letters go out by it again. If they are refused again, it stops again.")
}
