package engine

import (
	"context"
	"errors"
	"fmt"
	"html"
	"log/slog"
	"strings"
	"time"

	"ombak/internal/core/message"
	"ombak/internal/core/signal"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// How an email that the mail server does not take now is tried again: after
// gaps that grow, so many times.
var gaps = []time.Duration{time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour, 4 * time.Hour, 8 * time.Hour, 16 * time.Hour}

// SendBatch claims up to n emails that are ready and sends them, one after the
// other. It answers how many it claimed.
//
// Each was claimed, with its Message-ID, before the mail server hears of it,
// and is marked once more when its turn comes, unless its reader has left by
// then. If this process dies between that mark and the note of what became of
// the email, it is held for a person to look at: never sent again by itself.
func (e *Engine) SendBatch(ctx context.Context, n int) (int, error) {
	worker := e.workerID()
	if worker == 0 {
		return 0, errors.New("an engine sends only as a registered worker")
	}
	list, err := e.Store.ClaimEmails(ctx, worker, e.Domain, e.Now(), n)
	if err != nil {
		return 0, err
	}
	for i := range list {
		// What is claimed is finished, even when we are asked to stop.
		if err := e.send(context.WithoutCancel(ctx), worker, &list[i]); err != nil {
			return len(list), err
		}
	}
	return len(list), nil
}

func (e *Engine) send(ctx context.Context, worker int64, o *store.Outgoing) error {
	letter, err := e.letter(o)
	if err != nil {
		return e.endEmail(ctx, o, "stopped", "", err.Error(), time.Time{})
	}
	if ok, err := e.Store.BeginSending(ctx, o.ID, worker); err != nil || !ok {
		return err
	}
	fate, err := e.Mail.Send(ctx, letter)
	switch fate {
	case mail.Taken:
		return e.endEmail(ctx, o, "sent", letter.Subject, "", time.Time{})
	case mail.Later:
		if o.Tries > len(gaps) {
			return e.endEmail(ctx, o, "stopped", letter.Subject, fmt.Sprintf("not taken in %d tries, the last: %v", o.Tries, err), time.Time{})
		}
		slog.Warn("an email is tried again later", "touch", o.ID, "tries", o.Tries, "error", err)
		return e.endEmail(ctx, o, "ready", letter.Subject, err.Error(), e.Now().Add(gaps[o.Tries-1]))
	case mail.Refused:
		if err := e.endEmail(ctx, o, "stopped", letter.Subject, err.Error(), time.Time{}); err != nil {
			return err
		}
		if !mail.NoSuchReader(err) {
			return nil
		}
		s := store.Signal{Person: o.Person, Touch: o.ID, Detail: "the mail server refused the address",
			Signal: signal.Signal{At: e.Now(), Kind: signal.Bounce, Place: signal.Place{Sequence: o.Sequence, Step: o.Step, Message: o.Message}}}
		return e.Record(ctx, s)
	}
	return e.endEmail(ctx, o, "held", letter.Subject, fmt.Sprintf("perhaps sent: %v", err), time.Time{})
}

// endEmail keeps what became of an email and has its enrolment looked at.
func (e *Engine) endEmail(ctx context.Context, o *store.Outgoing, state, subject, trouble string, ready time.Time) error {
	now := e.Now()
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err := store.EndTouch(ctx, tx, o.ID, state, subject, trouble, now, ready)
		if err != nil || !ok {
			return err
		}
		if state == "sent" {
			if err := store.WakeOne(ctx, tx, o.Enrolment, now); err != nil {
				return err
			}
			e.Nudge()
		}
		return store.Notify(ctx, tx, topic("sequence", o.Sequence))
	})
}

// letter writes the email for its reader.
func (e *Engine) letter(o *store.Outgoing) (mail.Letter, error) {
	if o.SenderID == nil {
		return mail.Letter{}, errors.New("nobody sends it: the reader has no owner and the message names no other sender")
	}
	if o.Email == "" {
		return mail.Letter{}, errors.New("the reader has no email address")
	}
	r, err := (&message.Message{Subject: o.Subject, Body: o.Body}).Render(Values(o), func(n int, _ string) string { return e.LinkURL(o.ID, n) })
	if err != nil {
		return mail.Letter{}, err
	}
	optOut := e.OptOutURL(o.ID)
	return mail.Letter{
		ID: o.MailID, FromName: *o.SenderName, From: *o.SenderEmail, To: o.Email, Subject: r.Subject, Date: e.Now(),
		ReturnPath: "bounce+" + strings.SplitN(o.MailID, "@", 2)[0] + "@" + e.Domain,
		Text:       r.Text + "\n--\nNo more mail from us: " + optOut + "\n",
		HTML:       Frame(r.HTML, optOut, e.PixelURL(o.ID)),
		OptOut:     optOut,
	}, nil
}

// Values are the merge fields of an email's reader.
func Values(o *store.Outgoing) message.Values {
	v := message.Values{
		"person.first_name": o.First, "person.last_name": o.Last, "person.title": o.Title, "person.email": o.Email,
		"person.country": o.Country, "person.city": o.City, "company.name": o.Company, "company.industry": o.Industry,
	}
	if o.SenderName != nil {
		v["sender.name"] = *o.SenderName
		v["sender.first_name"], _, _ = strings.Cut(*o.SenderName, " ")
	}
	if o.SenderEmail != nil {
		v["sender.email"] = *o.SenderEmail
	}
	if o.SenderPhone != nil {
		v["sender.phone"] = *o.SenderPhone
	}
	return v
}

// Frame puts a message's HTML into a whole page as mail readers show it, with
// the way to opt out and the picture that tells of an open, where given.
func Frame(body, optOut, pixel string) string {
	var b strings.Builder
	b.WriteString(`<!doctype html><html><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"></head>` +
		`<body style="margin:0;padding:24px;font:16px/1.55 -apple-system,Helvetica,Arial,sans-serif;color:#14232b;background:#fffefb"><div style="max-width:600px">`)
	b.WriteString(body)
	if optOut != "" {
		b.WriteString(`<p style="margin-top:32px;font-size:13px;color:#5b6b70"><a style="color:#5b6b70" href="` + html.EscapeString(optOut) + `">No more mail from us</a></p>`)
	}
	if pixel != "" {
		b.WriteString(`<img src="` + html.EscapeString(pixel) + `" width="1" height="1" alt="">`)
	}
	b.WriteString(`</div></body></html>`)
	return b.String()
}

// absolute makes an address of Ombak's own pages a whole one.
func (e *Engine) absolute(target string) string {
	if strings.HasPrefix(target, "/") && !strings.HasPrefix(target, "//") {
		return e.URL + target
	}
	return target
}

// Resolve is what a person decides about an email that is held or stopped:
// "sent" (it arrived after all), "again" (it did not: send it, under the same
// Message-ID) or "pass" (go on without it).
func (e *Engine) Resolve(ctx context.Context, touch int64, how string) error {
	state := map[string]string{"sent": "sent", "again": "ready", "pass": "passed"}[how]
	if state == "" {
		return fmt.Errorf("an email is sent, sent again or passed over, not %q", how)
	}
	t, err := e.Store.Touch(ctx, touch)
	if err != nil {
		return err
	}
	if t.State != "held" && t.State != "stopped" {
		return store.ErrNotFound
	}
	now := e.Now()
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err := store.EndTouch(ctx, tx, touch, state, "", "", now, now)
		if err != nil {
			return err
		}
		if !ok {
			return store.ErrNotFound
		}
		if err := store.WakeOne(ctx, tx, t.Enrolment, now); err != nil {
			return err
		}
		return store.Notify(ctx, tx, topic("sequence", t.Sequence))
	})
	if err == nil {
		e.Nudge()
	}
	return err
}
