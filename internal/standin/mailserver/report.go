package mailserver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	netmail "net/mail"
	"strings"
	"time"

	"github.com/emersion/go-smtp"
)

// Bounce sends a letter back as a mail server does that knows no such mailbox
// (RFC 3464), with an empty return path (RFC 5321, 4.5.5).
func (v *View) Bounce(l *Letter) error {
	domain := l.To[strings.LastIndexByte(l.To, '@')+1:]
	return v.report(l, "MAILER-DAEMON@"+domain, "Undelivered mail returned to sender", "delivery-status",
		"The mailbox "+l.To+" is not known here.\r\n",
		"message/delivery-status",
		fmt.Sprintf("Reporting-MTA: dns; %s\r\n\r\nOriginal-Recipient: rfc822;%s\r\nFinal-Recipient: "+
			"rfc822;%s\r\nAction: failed\r\nStatus: 5.1.1\r\nDiagnostic-Code: smtp; 550 5.1.1 no such mailbox\r\n",
			domain, l.To, l.To))
}

// Complain sends a letter on as a provider does whose reader called it unwanted
// (RFC 5965).
func (v *View) Complain(l *Letter) error {
	return v.report(l, "abuse@provider.example", "Complaint about a letter", "feedback-report",
		"A reader called this letter unwanted.\r\n",
		"message/feedback-report",
		"Feedback-Type: abuse\r\nUser-Agent: stand-in/1.0\r\nVersion: 1\r\nOriginal-Rcpt-To: <"+l.To+">\r\n")
}

func (v *View) report(l *Letter, from, subject, kind, words, partType, part string) error {
	if v.Answer == "" {
		return errors.New("nobody takes reports here")
	}
	source, err := v.Server.Source(l)
	if err != nil {
		return err
	}
	head, _, _ := strings.Cut(string(source), "\r\n\r\n")
	const b = "stand-in-report"
	text := fmt.Sprintf("From: <%s>\r\nTo: <%s>\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: "+
		"<%s.%d.%d@standin.example>\r\nMIME-Version: 1.0\r\nContent-Type: multipart/report; report-type=%s; "+
		"boundary=\"%s\"\r\n\r\n"+
		"--%s\r\nContent-Type: text/plain; charset=us-ascii\r\n\r\n%s\r\n--%s\r\nContent-Type: "+
		"%s\r\n\r\n%s\r\n--%s\r\nContent-Type: text/rfc822-headers\r\n\r\n%s\r\n\r\n--%s--\r\n",
		from, l.From, subject, v.Server.o.Now().Format(time.RFC1123Z), kind, l.N, time.Now().UnixNano(), kind, b, b,
		words, b, partType, part, b, head, b)
	c, err := smtp.Dial(v.Answer)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := c.Mail("", nil); err != nil {
		return err
	}
	if err := c.Rcpt(l.From, nil); err != nil {
		return err
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := io.WriteString(w, text); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return c.Quit()
}

// OneClick opts out as a mail program does whose reader presses its button: by
// a POST to the address in List-Unsubscribe (RFC 8058, 3.2).
func (v *View) OneClick(ctx context.Context, l *Letter) error {
	source, err := v.Server.Source(l)
	if err != nil {
		return err
	}
	m, err := netmail.ReadMessage(strings.NewReader(string(source)))
	if err != nil {
		return err
	}
	target := strings.Trim(strings.TrimSpace(m.Header.Get("List-Unsubscribe")), "<>")
	if target == "" || m.Header.Get("List-Unsubscribe-Post") != "List-Unsubscribe=One-Click" {
		return errors.New("the letter offers no way to opt out with one click")
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, target,
		strings.NewReader("List-Unsubscribe=One-Click"))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode >= 400 {
		return fmt.Errorf("opting out was answered %s", res.Status)
	}
	return nil
}
