package mail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"time"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // letters come in many
	gomsg "github.com/emersion/go-message/mail"
	"github.com/emersion/go-smtp"
	"github.com/k3a/html2text"
	"golang.org/x/net/netutil"
)

// Kind is what an incoming letter is.
type Kind int

// The kinds. Automatic is an automatic answer (RFC 3834), Bounce a report that
// an address takes no letters (RFC 3464), NotNow one that a letter is late or
// was given up without fault of the address, Complaint a reader's complaint
// (RFC 5965), Notice any other report.
const (
	FromPerson Kind = iota
	Automatic
	Bounce
	NotNow
	Complaint
	Notice
)

// String names a kind.
func (k Kind) String() string {
	return [...]string{"from a person", "automatic", "bounce", "not now", "complaint", "notice"}[k]
}

// Received is a letter that came in.
type Received struct {
	ID         string   // Message-ID without brackets
	From       string   // address, in lower case
	To         []string // of the envelope
	Subject    string
	Text       string
	References []string // Message-IDs it answers to, the nearest first
	Kind       Kind
	About      []Recipient // what a delivery report says
	Against    []string    // whom a complaint is from: the addresses it was sent to
}

// Limits of what is taken in.
const (
	MaxLetter = 10 << 20
	maxText   = 200_000
)

// Limits of what is read of a letter. Each level costs a walk through all that lies within it, so that a small letter
// of many levels could keep a core busy for minutes; no program that people write with comes near any of them.
const (
	maxLevels = 10
	maxParts  = 200
	maxHeader = 256 << 10 // bytes of one part's header

	maxCallers = 100 // connections at a time; each can have one letter in memory
)

// Read reads a letter's source. What cannot be read as RFC 5322 is an error; a
// part in an unknown character set or encoding is passed over, and so are the
// parts below the tenth level and after the two hundredth.
func Read(source []byte) (Received, error) {
	e, err := message.ReadWithOptions(bytes.NewReader(source), &message.ReadOptions{MaxHeaderBytes: maxHeader})
	if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		return Received{}, fmt.Errorf("this is no letter: %w", err)
	}
	h := gomsg.Header{Header: e.Header}
	var m Received
	m.ID, _ = h.MessageID()
	m.Subject, _ = h.Subject()
	if from, err := h.AddressList("From"); err == nil && len(from) > 0 {
		m.From = strings.ToLower(from[0].Address)
	}
	if ids, err := h.MsgIDList("In-Reply-To"); err == nil {
		m.References = append(m.References, ids...)
	}
	if ids, err := h.MsgIDList("References"); err == nil {
		for i := len(ids) - 1; i >= 0; i-- {
			m.References = append(m.References, ids[i])
		}
	}
	if automatic(func(key string) string {
		if key == "Subject" {
			return m.Subject
		}
		return h.Get(key)
	}) {
		m.Kind = Automatic
	}
	kind, params, _ := h.ContentType()
	report := ""
	if strings.EqualFold(kind, "multipart/report") {
		report, m.Kind = strings.ToLower(params["report-type"]), Notice
	}
	r := partReader{m: &m}
	r.walk(e, 0)
	if report == "delivery-status" {
		m.Kind = verdict(m.About)
	}
	if m.Text == "" && r.html != "" {
		m.Text = html2text.HTML2Text(r.html)
	}
	// What answers to very much answers to nothing in particular: the nearest are enough.
	m.References = m.References[:min(len(m.References), 100)]
	return m, nil
}

// partReader goes through the parts of a letter.
type partReader struct {
	m     *Received
	html  string
	parts int
}

// walk reads a part and those within it. A letter that was cut off keeps what came before.
func (r *partReader) walk(e *message.Entity, level int) {
	if r.parts++; r.parts > maxParts {
		return
	}
	parts := e.MultipartReader()
	if parts == nil {
		r.part(e)
		return
	}
	for level < maxLevels && r.parts <= maxParts {
		p, err := parts.NextPart()
		if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
			return // the end, as a rule
		}
		if err == nil {
			r.walk(p, level+1)
		}
	}
}

// part reads what has no parts of its own.
func (r *partReader) part(e *message.Entity) {
	m := r.m
	ct, _, _ := e.Header.ContentType()
	body, err := io.ReadAll(io.LimitReader(e.Body, maxText))
	if err != nil && len(body) == 0 {
		return
	}
	text := strings.ToValidUTF8(strings.ReplaceAll(string(body), "\x00", ""), "�")
	switch {
	case ct == "text/plain" && m.Text == "":
		m.Text = text
	case ct == "text/html" && r.html == "":
		r.html = text
	case ct == "message/delivery-status" || ct == "message/global-delivery-status":
		if len(m.Text) < maxText {
			m.Text += text
		}
		m.About = append(m.About, deliveryReport(text)...)
	case ct == "message/feedback-report":
		yes, about := complaint(text)
		m.Against = append(m.Against, about...)
		if yes {
			m.Kind = Complaint
		}
	case ct == "message/rfc822" || ct == "text/rfc822-headers":
		inner, err := message.ReadWithOptions(strings.NewReader(text), &message.ReadOptions{MaxHeaderBytes: maxHeader})
		if err != nil && !message.IsUnknownCharset(err) {
			return
		}
		ih := gomsg.Header{Header: inner.Header}
		if to, err := ih.AddressList("To"); err == nil && m.Kind == Complaint && len(m.Against) == 0 {
			for _, a := range to {
				m.Against = append(m.Against, strings.ToLower(a.Address))
			}
		}
		if id, err := ih.MessageID(); err == nil && id != "" {
			m.References = append(m.References, id)
		}
	}
}

// Handler takes a letter in. An error keeps the other side in charge of it: it
// is told to try again later.
type Handler func(ctx context.Context, m Received) error

// Receiver is the listener for mail that comes in.
type Receiver struct {
	srv *smtp.Server
	l   net.Listener
}

// Listen takes letters at an address and hands each to f. It relays nothing:
// every recipient is taken to be ours, and what f does not know it drops.
func Listen(address string, f Handler) (*Receiver, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listening for mail: %w", err)
	}
	l = netutil.LimitListener(l, maxCallers)
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{f: f}, nil }))
	s.Domain = "ombak"
	s.MaxMessageBytes = MaxLetter
	s.MaxRecipients = 20
	s.ReadTimeout, s.WriteTimeout = time.Minute, time.Minute
	r := &Receiver{srv: s, l: l}
	go func() {
		if err := s.Serve(l); err != nil && !errors.Is(err, smtp.ErrServerClosed) {
			slog.Error("the listener for mail ended", "error", err)
		}
	}()
	return r, nil
}

// Addr is where it listens.
func (r *Receiver) Addr() string { return r.l.Addr().String() }

// Close stops listening and ends open connections.
func (r *Receiver) Close() error { return r.srv.Close() }

type session struct {
	f  Handler
	to []string
}

func (s *session) Reset()                               { s.to = nil }
func (s *session) Logout() error                        { return nil }
func (s *session) Mail(string, *smtp.MailOptions) error { return nil }
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, strings.ToLower(to))
	return nil
}

func (s *session) Data(r io.Reader) error {
	source, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m, err := Read(source)
	if err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "this cannot be read as a letter"}
	}
	m.To = s.to
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if err := s.f(ctx, m); err != nil {
		slog.Error("a letter was not taken in", "error", err)
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "not taken now, try again"}
	}
	return nil
}
