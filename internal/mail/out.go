// Package mail carries letters out and in over SMTP (RFC 5321) in the form of
// RFC 5322.
//
// Out, it is told apart what became of a letter: taken, refused for now,
// refused for good, or not known. The last is the one that matters: between
// the end of a letter and the server's answer a broken connection leaves open
// whether it was taken, and such a letter must never be sent again by itself.
package mail

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	netmail "net/mail"
	"net/netip"
	"net/textproto"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// Letter is an email to one reader.
type Letter struct {
	ID         string // Message-ID without its brackets
	FromName   string
	From       string
	To         string
	ReturnPath string // where bounces go; empty: From
	Subject    string
	Text       string
	HTML       string
	OptOut     string   // address of the page and, by POST, of the one-click opt-out (RFC 8058); empty: none
	InReplyTo  string   // Message-ID without its brackets; empty: it answers nothing
	References []string // those before it in the thread, the first first; InReplyTo is added
	ReplyTo    string
	Cc, Bcc    []string
	Files      []File
	Invite     []byte // a calendar invitation (RFC 5545), or nil
	Automatic  bool   // says so, as RFC 3834 asks of automatic answers
	Date       time.Time
}

// File is an attachment.
type File struct {
	Name string
	Type string
	Data []byte
}

// Fate is what became of a letter.
type Fate int

// The fates. Taken: the server has it. Later: not taken, and worth another
// try. Refused: not taken, for good. Unknown: perhaps taken.
const (
	Taken Fate = iota
	Later
	Refused
	Unknown
)

// String says it in words.
func (f Fate) String() string {
	return [...]string{"taken", "not taken now", "refused", "unknown"}[f]
}

// Compose writes a letter as a MIME message (RFC 2045) with a plain text and,
// where there is one, an HTML part.
func Compose(l Letter) (*gomail.Msg, error) {
	m := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
	from := netmail.Address{Name: l.FromName, Address: l.From}
	m.FromMailAddress(&from)
	if err := m.To(l.To); err != nil {
		return nil, fmt.Errorf("the address %q: %w", l.To, err)
	}
	if l.ReturnPath != "" {
		if err := m.EnvelopeFrom(l.ReturnPath); err != nil {
			return nil, fmt.Errorf("the return path %q: %w", l.ReturnPath, err)
		}
	}
	m.Subject(l.Subject)
	m.SetMessageIDWithValue(l.ID)
	m.SetDateWithValue(l.Date)
	if l.OptOut != "" {
		m.SetGenHeader(gomail.HeaderListUnsubscribe, "<"+l.OptOut+">")                 // RFC 2369
		m.SetGenHeader(gomail.HeaderListUnsubscribePost, "List-Unsubscribe=One-Click") // RFC 8058
	}
	if l.InReplyTo != "" {
		m.SetGenHeader(gomail.HeaderInReplyTo, "<"+l.InReplyTo+">")
		var thread []string // RFC 5322, 3.6.4
		for _, id := range l.References {
			if id != l.InReplyTo {
				thread = append(thread, "<"+id+">")
			}
		}
		m.SetGenHeader(gomail.HeaderReferences, strings.Join(append(thread, "<"+l.InReplyTo+">"), " "))
	}
	if l.Automatic {
		m.SetGenHeader("Auto-Submitted", "auto-replied") // RFC 3834
	}
	if l.ReplyTo != "" {
		if err := m.ReplyTo(l.ReplyTo); err != nil {
			return nil, fmt.Errorf("the address for answers %q: %w", l.ReplyTo, err)
		}
	}
	if len(l.Cc) > 0 {
		if err := m.Cc(l.Cc...); err != nil {
			return nil, fmt.Errorf("who gets a copy: %w", err)
		}
	}
	if len(l.Bcc) > 0 {
		if err := m.Bcc(l.Bcc...); err != nil {
			return nil, fmt.Errorf("who gets a hidden copy: %w", err)
		}
	}
	m.SetBodyString(gomail.TypeTextPlain, l.Text)
	if l.HTML != "" {
		m.AddAlternativeString(gomail.TypeTextHTML, l.HTML)
	}
	if l.Invite != nil {
		m.AddAlternativeString("text/calendar; method=REQUEST", string(l.Invite))
		if err := m.AttachReader("invite.ics", bytes.NewReader(l.Invite), gomail.WithFileContentType("application/ics")); err != nil {
			return nil, fmt.Errorf("the invitation: %w", err)
		}
	}
	for _, f := range l.Files {
		if err := m.AttachReader(f.Name, bytes.NewReader(f.Data), gomail.WithFileContentType(gomail.ContentType(f.Type))); err != nil {
			return nil, fmt.Errorf("the file %q: %w", f.Name, err)
		}
	}
	return m, nil
}

// Write writes a letter's source to w.
func Write(w io.Writer, l Letter) error {
	m, err := Compose(l)
	if err != nil {
		return err
	}
	_, err = m.WriteTo(w)
	return err
}

// Sender sends letters to one mail server, over a connection that it keeps
// open between them. It is safe for use by several goroutines, which take
// turns.
type Sender struct {
	Signer   *Signer       // signs each letter; nil: none is signed
	Patience time.Duration // how long an answer is waited for; 0: 30 seconds

	host    string
	port    int
	account Account
	private bool // it may be on this machine or in a private network

	mu     sync.Mutex
	client *gomail.Client
	used   time.Time
}

// NewSender makes a sender to a server at host:port, which it does not reach
// for yet. The connection is upgraded to TLS where the server offers it.
func NewSender(address string) (*Sender, error) {
	host, p, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("the mail server's address %q: %w", address, err)
	}
	port, err := strconv.Atoi(p)
	if err != nil {
		return nil, fmt.Errorf("the mail server's address %q has no port number", address)
	}
	return &Sender{host: host, port: port}, nil
}

// Account is a mail account of somebody's own. The zero Account sends without
// signing in.
type Account struct {
	Server   string // host:port
	Login    string
	Password string
}

// NewAccountSender makes a sender that signs in to an account. A server on port
// 465 is spoken to in TLS from the first byte (RFC 8314); on any other it must
// offer TLS before it hears the password, unless it is this machine. A server
// on this machine or in a private network is reached only where private allows.
func NewAccountSender(a Account, private bool) (*Sender, error) {
	s, err := NewSender(a.Server)
	if err == nil {
		s.account, s.private = a, private
	}
	return s, err
}

// ErrPrivate is answered for a server in a network that is not for mailboxes.
var ErrPrivate = errors.New("it is in a private network, and the settings do not allow that")

// carrierNAT is the network that providers share among customers (RFC 6598).
var carrierNAT = netip.MustParsePrefix("100.64.0.0/10")

// public refuses to reach for what is not on the public network. It sees the
// address that was looked up, so no name can lead around it.
func public(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return ErrPrivate
	}
	ip := at.Addr().Unmap()
	if !ip.IsGlobalUnicast() || ip.IsPrivate() || ip.IsLoopback() || carrierNAT.Contains(ip) || inIPv4(ip) {
		return ErrPrivate
	}
	return nil
}

// inIPv4 reports whether an IPv6 address stands for an IPv4 one behind a
// translator (RFC 6052) or a tunnel (RFC 3056): what it leads to is not seen.
func inIPv4(ip netip.Addr) bool {
	return netip.MustParsePrefix("64:ff9b::/16").Contains(ip) || netip.MustParsePrefix("2002::/16").Contains(ip)
}

// Try reaches the server and signs in, and sends nothing.
func (s *Sender) Try(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.drop()
	err := s.connect(ctx)
	s.drop()
	return err
}

// keepFor is how long an idle connection is trusted to be still good.
const keepFor = 20 * time.Second

// Send sends one letter and tells what became of it. The error says why in
// words; it is nil exactly for Taken.
func (s *Sender) Send(ctx context.Context, l Letter) (Fate, error) {
	m, err := Compose(l)
	if err != nil {
		return Refused, err
	}
	if s.Signer != nil {
		if err := s.Signer.Sign(m, l.From); err != nil {
			return Refused, fmt.Errorf("signing: %w", err)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.connect(ctx); err != nil {
		return Later, fmt.Errorf("the mail server at %s is not reached: %w", net.JoinHostPort(s.host, strconv.Itoa(s.port)), err)
	}
	err = s.client.Send(m)
	s.used = time.Now()
	if err == nil {
		return Taken, nil
	}
	fate := judge(err, m.IsDelivered())
	if se, ok := errors.AsType[*gomail.SendError](err); !ok || se.ErrorCode() == 0 || fate == Taken {
		s.drop() // the connection itself is in doubt
	}
	if fate == Taken {
		return Taken, nil
	}
	return fate, fmt.Errorf("the mail server: %w", err)
}

// judge tells what an error of sending means. Only an answer of the server
// settles it: 4xx not now, 5xx never (RFC 5321, 4.2.1). Without one the letter
// was not taken, unless its end had been sent already.
func judge(err error, delivered bool) Fate {
	if delivered {
		return Taken // only the clearing up after it failed
	}
	se, ok := errors.AsType[*gomail.SendError](err)
	if !ok {
		return Unknown
	}
	switch code := se.ErrorCode(); {
	case code >= 500 && code != 503: // 503: we said something out of turn, which is not about this letter
		return Refused
	case code >= 400:
		return Later
	}
	switch se.Reason {
	case gomail.ErrSMTPDataClose, gomail.ErrAmbiguous:
		return Unknown
	case gomail.ErrGetSender, gomail.ErrGetRcpts, gomail.ErrNoUnencoded:
		return Refused
	}
	return Later
}

func (s *Sender) connect(ctx context.Context) error {
	if s.client != nil && time.Since(s.used) < keepFor {
		return nil
	}
	s.drop()
	patience := s.Patience
	if patience == 0 {
		patience = 30 * time.Second
	}
	options := []gomail.Option{gomail.WithPort(s.port), gomail.WithTimeout(patience), gomail.WithoutNoop(), gomail.WithTLSPolicy(gomail.TLSOpportunistic)}
	if s.account.Login != "" {
		auth := gomail.SMTPAuthAutoDiscover
		if ip := net.ParseIP(s.host); ip != nil && ip.IsLoopback() {
			auth = gomail.SMTPAuthPlainNoEnc
		} else {
			options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory))
		}
		options = append(options, gomail.WithSMTPAuth(auth), gomail.WithUsername(s.account.Login), gomail.WithPassword(s.account.Password))
	}
	// We say where to, and not the library: it knows no addresses of IPv6.
	to := net.JoinHostPort(s.host, strconv.Itoa(s.port))
	d := &net.Dialer{Timeout: patience}
	if !s.private && s.account.Server != "" {
		d.Control = public
	}
	dial := d.DialContext
	if s.port == 465 {
		secure := tls.Dialer{NetDialer: d, Config: &tls.Config{ServerName: s.host, MinVersion: tls.VersionTLS12}}
		dial = secure.DialContext
	}
	options = append(options, gomail.WithDialContextFunc(func(ctx context.Context, network, _ string) (net.Conn, error) {
		return dial(ctx, network, to)
	}))
	if s.port == 465 {
		options = append(options, gomail.WithSSL())
	}
	c, err := gomail.NewClient(s.host, options...)
	if err != nil {
		return err
	}
	if err := c.DialWithContext(ctx); err != nil {
		return err
	}
	s.client = c
	return nil
}

func (s *Sender) drop() {
	if s.client != nil {
		s.client.Close() // it is being given up: whether it says goodbye properly does not matter
		s.client = nil
	}
}

// Close ends the connection.
func (s *Sender) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.drop()
}

// NoSuchReader reports whether a refusal was about the reader's address, so
// that no other letter will reach it either.
func NoSuchReader(err error) bool {
	se, ok := errors.AsType[*gomail.SendError](err)
	return ok && se.Reason == gomail.ErrSMTPRcptTo && se.ErrorCode() >= 500
}

// NotLetIn reports whether a server refused a name and a password (RFC 4954, 6).
func NotLetIn(err error) bool {
	e, ok := errors.AsType[*textproto.Error](err)
	return ok && (e.Code == 535 || e.Code == 534 || e.Code == 530)
}
