package post

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/mailbox"
	"ombak/internal/core/plainly"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// allot keeps the emails of a claimed batch that may go now; the others wait
// for their sender's account.
func (e *Post) allot(ctx context.Context, list []store.Outgoing) ([]store.Outgoing, error) {
	var users []int64
	for i := range list {
		if list[i].Sender != nil {
			users = append(users, *list[i].Sender)
		}
	}
	var now []store.Outgoing
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		now = now[:0]
		boxes, err := tx.LockMailboxes(ctx, users)
		if err != nil {
			return err
		}
		if len(boxes) == 0 {
			now = append(now, list...)
			return nil
		}
		by := map[int64][]store.Outgoing{}
		for _, o := range list {
			// What somebody waits for goes at once, whatever the account has sent.
			if o.Single || o.Sender == nil || boxes[*o.Sender].User == 0 {
				now = append(now, o)
				continue
			}
			by[*o.Sender] = append(by[*o.Sender], o)
		}
		var later []int64
		var at []time.Time
		for user, emails := range by {
			m := boxes[user]
			when, used := m.Box.V.Allot(m.Used(), len(emails), e.Now(), e.Zone())
			for i, o := range emails {
				if when[i].IsZero() {
					now = append(now, o)
				} else {
					later, at = append(later, o.ID), append(at, when[i])
				}
			}
			if err := tx.KeepUsed(ctx, user, used); err != nil {
				return err
			}
		}
		return tx.PutOffEmails(ctx, later, at)
	})
	return now, err
}

// SetMailbox keeps what is agreed about the account of a user's emails. Warming
// up begins on the day it is asked for.
func (e *Post) SetMailbox(ctx context.Context, user int64, b mailbox.Box) error {
	if err := b.Check(); err != nil {
		return err
	}
	if b.Begin > 0 && b.Began.IsZero() {
		b.Began = e.Now()
	}
	if b.Begin == 0 {
		b.Began = time.Time{}
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.SetMailbox(ctx, user, b) })
}

// ErrNoSeal is answered where there is no key to keep passwords with.
var ErrNoSeal = plainly.New("passwords cannot be kept here: the key to seal them with is missing")

// Reseal seals the passwords of mail servers anew that an earlier key has
// sealed, and answers how many. Several processes may do so at once.
func (e *Post) Reseal(ctx context.Context) (n int, err error) {
	if e.Seal == nil {
		return 0, nil
	}
	return n, e.Store.InTx(ctx, func(tx store.Tx) error {
		list, err := tx.LockMailAccounts(ctx)
		if err != nil {
			return err
		}
		for _, a := range list {
			fresh, ok := e.Seal.Renew(a.Secret)
			if !ok {
				continue
			}
			n++
			a.Secret = fresh
			if err := tx.SetMailAccount(ctx, a); err != nil {
				return err
			}
		}
		return nil
	})
}

// tryFor is how long a server that is tried may take.
const tryFor = 10 * time.Second

// SetMailAccount has a user's emails go out by a mail server of their own, and
// those of user 0 everybody's who has none, once it has let us in; an empty
// server gives it up. An empty password keeps the
// one there is, for the same server and login.
func (e *Post) SetMailAccount(ctx context.Context, user int64, server, login, password string) error {
	a := store.MailAccount{User: user, Server: strings.TrimSpace(server), Login: strings.TrimSpace(login)}
	if a.Server != "" {
		_, port, implicit, err := mail.ParseServer(a.Server)
		known := slices.Contains(mailPorts, port) || implicit || e.PrivateServers
		if err != nil || !known || len(a.Server) > 255 || len(a.Login) > 255 || len(password) > 1000 {
			return plainly.New("a mail server reads like smtp.karang.example:587, with one of the ports 25, 465, 587 " +
				"and 2525, " +
				"or like smtps://smtp.karang.example:2465 where TLS begins at once")
		}
		if e.Seal == nil {
			return ErrNoSeal
		}
		if password == "" && a.Login != "" {
			had, err := e.Store.MailAccounts(ctx, []int64{user})
			if err != nil {
				return err
			}
			if len(had) == 0 || had[0].Server != a.Server || had[0].Login != a.Login || had[0].Secret == nil {
				return plainly.New("type the password too")
			}
			if password, err = e.Seal.Open(had[0].Secret); err != nil {
				return plainly.Errorf("the password that was kept cannot be read (%w): type it anew", err)
			}
		}
		s, err := mail.NewAccountSender(mail.Account{Server: a.Server, Login: a.Login, Password: password},
			e.PrivateServers)
		if err != nil {
			return err
		}
		s.Patience, s.Trust = tryFor, e.Trust
		defer s.Close()
		if err := s.Try(ctx); err != nil {
			slog.Info("a mail server did not let us in", "user", user, "error", err)
			return whyNotIn(err)
		}
		if a.Login != "" {
			a.Secret = e.Seal.Seal(password)
		}
	} else {
		a.Login = ""
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.SetMailAccount(ctx, a) })
}

// mailPorts are those on which mail servers listen (RFC 5321, 6409, 8314; 2525
// is common practice, no source).
var mailPorts = []int{25, 465, 587, 2525}

// Why a mail server of one's own is not kept. What it answered is not told: it
// may be another's machine, and what listens there is not for us to find out.
var (
	ErrNoServer = plainly.New("no mail server answered there in a way we could use: check its name and port, and " +
		"that it offers TLS")
	ErrNoEntry = plainly.New("the mail server does not take that name and password")
)

func whyNotIn(err error) error {
	switch {
	case errors.Is(err, mail.ErrPrivate):
		return mail.ErrPrivate
	case mail.NotLetIn(err):
		return ErrNoEntry
	}
	return ErrNoServer
}

// account is a mail server that somebody's emails go out by, with the sender to
// it as long as nothing of it changes.
type account struct {
	is     string // server, login and sealed password
	sender *mail.Sender
}

// mailers are the ways out for some senders: their own server, else nothing. The
// one under 0 is everybody's, where it was named here and not for the machine.
func (e *Post) mailers(ctx context.Context, users []int64) (map[int64]base.Mailer, error) {
	list, err := e.Store.MailAccounts(ctx, append([]int64{0}, users...))
	if err != nil || len(list) == 0 {
		return nil, err
	}
	out := map[int64]base.Mailer{}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.accounts == nil {
		e.accounts = map[int64]account{}
	}
	for _, a := range list {
		is := fmt.Sprintf("%s\n%s\n%x", a.Server, a.Login, a.Secret)
		have, ok := e.accounts[a.User]
		if !ok || have.is != is {
			password := ""
			if a.Secret != nil {
				if e.Seal == nil {
					out[a.User] = closed{ErrNoSeal}
					continue
				}
				if password, err = e.Seal.Open(a.Secret); err != nil {
					out[a.User] = closed{plainly.Errorf("the password of the mailbox cannot be read: %w", err)}
					continue
				}
			}
			s, err := mail.NewAccountSender(mail.Account{Server: a.Server, Login: a.Login, Password: password},
				e.PrivateServers)
			if err != nil {
				out[a.User] = closed{err}
				continue
			}
			s.Signer, s.Trust, s.Conns, s.Patience = e.Signer, e.Trust, OutboxConns, e.Patience
			if have.sender != nil {
				defer have.sender.Close()
			}
			have = account{is, s}
			e.accounts[a.User] = have
		}
		out[a.User] = have.sender
	}
	return out, nil
}

// closed is a way out that cannot be taken now, and why.
type closed struct{ why error }

func (c closed) Send(context.Context, mail.Letter) (mail.Fate, error) { return mail.Later, c.why }

// SendPlain sends one letter about Ombak itself.
func (e *Post) SendPlain(ctx context.Context, from store.User, to, subject, text string) error {
	ways, err := e.mailers(ctx, []int64{from.ID})
	if err != nil {
		return err
	}
	way := e.Mail
	for _, w := range []base.Mailer{ways[0], ways[from.ID]} {
		if w != nil {
			way = w
		}
	}
	id := "o" + rand.Text() + "@" + e.Domain
	fate, err := way.Send(ctx,
		mail.Letter{ID: id, FromName: from.Name, From: from.Email, To: to, Subject: subject, Date: e.Now(),
			ReturnPath: from.Email, Text: text})
	if fate == mail.Taken {
		return nil
	}
	if err == nil {
		err = plainly.New("the mail server did not take it")
	}
	return err
}
