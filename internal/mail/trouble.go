package mail

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"strconv"
	"strings"
	"syscall"

	gomail "github.com/wneessen/go-mail"

	"ombak/internal/core/mailbox"
)

// Trouble is why a letter was not taken, in words for those who send it.
type Trouble struct {
	Words     string
	Server    string        // the server's own answer; empty: it gave none
	Unreached bool          // there was no connection: it is not about this letter
	Fault     mailbox.Fault // of a refusal for good
	cause     error
}

// Error says it.
func (t *Trouble) Error() string {
	if t.Server == "" {
		return t.Words
	}
	return t.Words + ": “" + t.Server + "”"
}

// Plain marks it as an error that users may read.
func (*Trouble) Plain() {}

// Unwrap is what the libraries say, for the log.
func (t *Trouble) Unwrap() error { return t.cause }

// stages says what a server did not take.
var stages = map[gomail.SendErrReason]string{
	gomail.ErrSMTPMailFrom:  "the mail server does not take letters from this sender",
	gomail.ErrSMTPRcptTo:    "the mail server does not take letters to this reader",
	gomail.ErrSMTPData:      "the mail server does not take the letter",
	gomail.ErrSMTPDataClose: "the mail server does not take the letter",
	gomail.ErrWriteContent:  "the connection broke while the letter was sent",
	gomail.ErrSMTPReset:     "the connection broke after the letter",
	gomail.ErrConnCheck:     "the connection was gone",
	gomail.ErrNoUnencoded:   "the mail server takes no letters in this encoding",
	gomail.ErrGetSender:     "the sender’s address cannot be used",
	gomail.ErrGetRcpts:      "the reader’s address cannot be used",
}

// troubleOf says what an error of sending to a reader means.
func troubleOf(err error, reader string) *Trouble {
	se, ok := errors.AsType[*gomail.SendError](err)
	if !ok {
		return &Trouble{Words: "the connection to the mail server broke", cause: err}
	}
	t := &Trouble{Words: stages[se.Reason], cause: err}
	if t.Words == "" {
		t.Words = "the mail server does not take the letter"
	}
	if se.ErrorCode() == 0 {
		if se.Reason == gomail.ErrSMTPDataClose || se.Reason == gomail.ErrAmbiguous {
			t.Words = "the mail server did not answer after the letter"
		} else if se.Reason == gomail.ErrSMTPMailFrom || se.Reason == gomail.ErrSMTPRcptTo ||
			se.Reason == gomail.ErrSMTPData {
			t.Words = "the mail server did not answer"
		}
		return t
	}
	// The library keeps the answer in its own sentence alone.
	answer, others, _ := strings.Cut(strings.TrimPrefix(se.Error(), se.Reason.String()), ", affected ")
	answer = strings.TrimSpace(strings.TrimPrefix(answer, ":"))
	if code, quoted, ok := strings.Cut(answer, " "); ok {
		if words, err := strconv.Unquote(quoted); err == nil {
			answer = code + " " + words
		}
	}
	answer = strings.Join(strings.Fields(answer), " ")
	if len(answer) > 300 {
		answer = strings.ToValidUTF8(answer[:300], "") + " …"
	}
	t.Server = answer
	_, status := codes(answer)
	if s := se.EnhancedStatusCode(); s != "" {
		status = s
	}
	t.Fault = mailbox.FaultOf(se.ErrorCode(), status, answer)
	switch {
	case se.Reason == gomail.ErrSMTPRcptTo:
		if to, _, _ := strings.Cut(others, ", affected "); t.Fault == mailbox.Reader &&
			!strings.Contains(strings.ToLower(to), strings.ToLower(reader)) {
			t.Fault, t.Words = mailbox.Unclear, "the mail server does not take letters to somebody who gets a copy"
		}
	case t.Fault == mailbox.Reader && (se.Reason == gomail.ErrSMTPMailFrom || !strings.HasPrefix(status, "5.1.")):
		t.Fault = mailbox.Ours // it was about the sender, or about the letter
	case t.Fault == mailbox.Unclear:
		t.Fault = mailbox.Ours
	}
	return t
}

// unreached says why there is no connection.
func (s *Sender) unreached(err error) *Trouble {
	t := &Trouble{Unreached: true, cause: err}
	why := "the connection broke"
	var dns *net.DNSError
	var timeout net.Error
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	var alert tls.AlertError
	var answer *textproto.Error
	switch {
	case errors.Is(err, ErrPrivate):
		why = ErrPrivate.Error()
	case NotLetIn(err):
		why = "it does not take the name and password"
	case errors.As(err, &unknown):
		why = "its certificate is by nobody that is trusted here"
	case errors.As(err, &name):
		why = "its certificate is for another name"
	case errors.As(err, &invalid):
		why = "its certificate is not valid"
	case errors.As(err, &record), errors.As(err, &alert):
		why = "TLS could not be agreed on"
	case strings.Contains(err.Error(), "does not support STARTTLS"):
		why = "it offers no TLS, and no password is sent without"
	case errors.As(err, &dns):
		why = "nobody knows its name"
	case errors.Is(err, syscall.ECONNREFUSED):
		why = "nothing listens there"
	case errors.As(err, &timeout) && timeout.Timeout():
		why = "it did not answer in time"
	case errors.As(err, &answer):
		why, t.Server = "it does not want us now",
			strings.Join(strings.Fields(fmt.Sprint(answer.Code, " ", answer.Msg)), " ")
	}
	t.Words = fmt.Sprintf("the mail server at %s is not reached: %s", net.JoinHostPort(s.host, fmt.Sprint(s.port)), why)
	return t
}

// NoSuchReader reports whether a refusal was about the reader's address, so
// that no other letter will reach it either.
func NoSuchReader(err error) bool { return FaultOf(err) == mailbox.Reader }

// FaultOf is what a refusal for good was about.
func FaultOf(err error) mailbox.Fault {
	if t, ok := errors.AsType[*Trouble](err); ok {
		return t.Fault
	}
	return mailbox.Unclear
}

// Unreached reports whether there was no connection at all.
func Unreached(err error) bool {
	t, ok := errors.AsType[*Trouble](err)
	return ok && t.Unreached
}

// NotLetIn reports whether a server refused a name and a password (RFC 4954, 6).
func NotLetIn(err error) bool {
	e, ok := errors.AsType[*textproto.Error](err)
	return ok && (e.Code == 535 || e.Code == 534 || e.Code == 530)
}
