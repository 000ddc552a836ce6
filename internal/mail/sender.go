package mail

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	gomail "github.com/wneessen/go-mail"

	"ombak/internal/core/plainly"
)

// Sender sends letters to one mail server, over connections that it keeps open
// between them. It is safe for use by several goroutines.
type Sender struct {
	Signer   *Signer        // signs each letter; nil: none is signed
	Patience time.Duration  // how long an answer is waited for; 0: 30 seconds
	Conns    int            // connections at a time; 0: one
	Trust    *x509.CertPool // whose certificates are trusted; nil: those the machine trusts

	host     string
	port     int
	implicit bool // TLS begins with the first byte
	account  Account
	private  bool // it may be on this machine or in a private network

	mu    sync.Mutex
	turn  chan struct{} // closed, and made anew, when a connection is given back
	free  []*conn
	open  int
	most  int       // what the server let be open, as it was at an instant; 0: nothing is known
	at    time.Time // of that
	plain time.Time // until then it is spoken to without TLS: what it offers does not work
}

// conn is a connection to the server.
type conn struct {
	client *gomail.Client
	used   time.Time
}

// submissions is the port on which TLS begins with the first byte (RFC 8314).
const submissions = 465

// ParseServer reads the address of a mail server: host:port, on port 465 or
// where it begins with smtps:// with TLS from the first byte.
func ParseServer(address string) (host string, port int, implicit bool, err error) {
	rest, secure := strings.CutPrefix(address, "smtps://")
	rest = strings.TrimSuffix(strings.TrimPrefix(rest, "smtp://"), "/")
	host, p, err := net.SplitHostPort(rest)
	if err != nil {
		return "", 0, false, plainly.Errorf("the mail server's address %q: %w", address, err)
	}
	port, err = strconv.Atoi(p)
	if err != nil || port < 1 || port > 65535 || host == "" {
		return "", 0, false, plainly.Errorf("the mail server's address %q has no host or no port number", address)
	}
	return host, port, secure || port == submissions, nil
}

// NewSender makes a sender to a server, which it does not reach for yet. The
// connection is upgraded to TLS where the server offers it, whoever made its
// certificate: who could stand between could as well take the offer away (RFC
// 7435, 1.2). Where what it offers does not work, it is spoken to without.
func NewSender(address string) (*Sender, error) {
	host, port, implicit, err := ParseServer(address)
	if err != nil {
		return nil, err
	}
	return &Sender{host: host, port: port, implicit: implicit, turn: make(chan struct{})}, nil
}

// Account is a mail account of somebody's own. The zero Account sends without
// signing in.
type Account struct {
	Server   string // as ParseServer reads it
	Login    string
	Password string
}

// NewAccountSender makes a sender that signs in to an account: the server must
// offer TLS, by a certificate that is trusted, before it hears the password,
// unless it is this machine. A server on this machine or in a private network is
// reached only where private allows.
func NewAccountSender(a Account, private bool) (*Sender, error) {
	s, err := NewSender(a.Server)
	if err == nil {
		s.account, s.private = a, private
	}
	return s, err
}

// ErrPrivate is answered for a server in a network that is not for mailboxes.
var ErrPrivate = plainly.New("it is in a private network, and the settings do not allow that")

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
	c, err := s.dial(ctx)
	if err != nil {
		return err
	}
	c.client.Close() // it is being given up: whether it says goodbye properly does not matter
	return nil
}

// keepFor is how long an idle connection is trusted to be still good.
const keepFor = 20 * time.Second

// Send sends one letter and tells what became of it. The error says why, as a
// *Trouble; it is nil exactly for Taken.
func (s *Sender) Send(ctx context.Context, l Letter) (Fate, error) {
	m, err := Compose(l)
	if err != nil {
		return Refused, &Trouble{Words: "the letter cannot be written: one of its addresses cannot be used", cause: err}
	}
	if s.Signer != nil {
		if err := s.Signer.Sign(m, l.From); err != nil {
			return Refused, &Trouble{Words: "the letter cannot be signed", cause: err}
		}
	}
	c, err := s.take(ctx)
	if err != nil {
		return Later, err
	}
	err = c.client.Send(m)
	if err == nil {
		s.giveBack(c, true)
		return Taken, nil
	}
	fate := judge(err, m.IsDelivered())
	se, ok := errors.AsType[*gomail.SendError](err)
	// else the connection itself is in doubt
	s.giveBack(c, ok && se.ErrorCode() != 0 && se.ErrorCode() != 421 && fate != Taken)
	if fate == Taken {
		return Taken, nil
	}
	t := troubleOf(err, l.To)
	slog.Debug("a letter was not taken", "server", s.host, "id", l.ID, "error", err)
	return fate, t
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

// mostFor is how long a server is believed that it lets no more connections be open.
const mostFor = 10 * time.Minute

// take takes a connection: one that is free, else a new one, else it waits. A
// server that lets no more be open is asked for no more.
func (s *Sender) take(ctx context.Context) (*conn, error) {
	for {
		s.mu.Lock()
		for len(s.free) > 0 {
			c := s.free[len(s.free)-1]
			s.free = s.free[:len(s.free)-1]
			if time.Since(c.used) < keepFor {
				s.mu.Unlock()
				return c, nil
			}
			s.open--
			c.client.Close() // it has been idle: whether it says goodbye properly does not matter
		}
		limit := max(s.Conns, 1)
		if s.most > 0 && time.Since(s.at) < mostFor {
			limit = min(limit, s.most)
		}
		turn := s.turn
		if s.open < limit {
			s.open++
			s.mu.Unlock()
			c, err := s.dial(ctx)
			if err == nil {
				return c, nil
			}
			s.mu.Lock()
			s.open--
			others := s.open
			if others > 0 {
				s.most, s.at = others, time.Now()
			}
			s.next()
			s.mu.Unlock()
			if others == 0 {
				return nil, err
			}
			continue
		}
		s.mu.Unlock()
		select {
		case <-turn:
		case <-ctx.Done():
			return nil, &Trouble{Words: "there was no turn for it", Unreached: true, cause: ctx.Err()}
		}
	}
}

// next has those who wait look again; the lock is held.
func (s *Sender) next() {
	close(s.turn)
	s.turn = make(chan struct{})
}

func (s *Sender) giveBack(c *conn, good bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if good {
		c.used = time.Now()
		s.free = append(s.free, c)
	} else {
		s.open--
		c.client.Close() // it is being given up: whether it says goodbye properly does not matter
	}
	s.next()
}

// plainFor is how long a server whose TLS does not work is spoken to without.
const plainFor = time.Hour

// dial opens a connection and signs in.
func (s *Sender) dial(ctx context.Context) (*conn, error) {
	s.mu.Lock()
	plain := time.Now().Before(s.plain)
	s.mu.Unlock()
	c, upgrading, err := s.dialOnce(ctx, plain)
	if err != nil && upgrading && !plain && s.opportunistic() && s.account.Login == "" && !NotLetIn(err) &&
		ctx.Err() == nil {
		var again error
		if c, _, again = s.dialOnce(ctx, true); again == nil {
			slog.Warn("the mail server's TLS does not work; it is spoken to without", "server", s.host, "error", err)
			s.mu.Lock()
			s.plain = time.Now().Add(plainFor)
			s.mu.Unlock()
			err = nil
		}
	}
	if err != nil {
		slog.Info("a mail server is not reached", "server", s.host, "port", s.port, "error", err)
		return nil, s.unreached(err)
	}
	return c, nil
}

// opportunistic reports whether TLS is taken where it is offered and not asked for.
func (s *Sender) opportunistic() bool {
	ip := net.ParseIP(s.host)
	return !s.implicit && (s.account.Login == "" || ip != nil && ip.IsLoopback())
}

// watched notes when a connection is asked to go on in TLS.
type watched struct {
	net.Conn
	upgrading *bool
}

func (w *watched) Write(b []byte) (int, error) {
	if bytes.HasPrefix(b, []byte("STARTTLS")) {
		*w.upgrading = true
	}
	return w.Conn.Write(b)
}

// dialOnce opens a connection. upgrading: it was to go on in TLS, whatever went
// wrong then.
func (s *Sender) dialOnce(ctx context.Context, plain bool) (_ *conn, upgrading bool, err error) {
	patience := s.Patience
	if patience == 0 {
		patience = 30 * time.Second
	}
	secure := &tls.Config{ServerName: s.host, MinVersion: tls.VersionTLS12, RootCAs: s.Trust}
	policy := gomail.TLSMandatory
	if s.opportunistic() {
		policy, secure.InsecureSkipVerify = gomail.TLSOpportunistic, true
	}
	if plain {
		policy = gomail.NoTLS
	}
	if s.implicit {
		// The connection is TLS's when the library gets it. Asked for TLS as well it would take it for plain (it looks
		// only
		// where it has dialled itself) and send no password; so it takes what is offered: nothing more.
		policy = gomail.TLSOpportunistic
	}
	options := []gomail.Option{
		gomail.WithPort(s.port), gomail.WithTimeout(patience), gomail.WithoutNoop(), gomail.WithoutRset(),
		gomail.WithTLSPolicy(policy), gomail.WithTLSConfig(secure),
	}
	if s.account.Login != "" {
		auth := gomail.SMTPAuthAutoDiscover
		if s.opportunistic() { // this machine
			auth = gomail.SMTPAuthPlainNoEnc
		}
		options = append(options, gomail.WithSMTPAuth(auth), gomail.WithUsername(s.account.Login),
			gomail.WithPassword(s.account.Password))
	}
	// We say where to, and not the library: it knows no addresses of IPv6.
	to := net.JoinHostPort(s.host, strconv.Itoa(s.port))
	d := &net.Dialer{Timeout: patience}
	if !s.private && s.account.Server != "" {
		d.Control = public
	}
	dial := d.DialContext
	if s.implicit {
		dial = (&tls.Dialer{NetDialer: d, Config: secure}).DialContext
	}
	options = append(options,
		gomail.WithDialContextFunc(func(ctx context.Context, network, _ string) (net.Conn, error) {
			c, err := dial(ctx, network, to)
			if err != nil || s.implicit { // the library asks whether it is TLS's
				return c, err
			}
			return &watched{c, &upgrading}, nil
		}))
	client, err := gomail.NewClient(s.host, options...)
	if err != nil {
		return nil, false, err
	}
	if err := client.DialWithContext(ctx); err != nil {
		return nil, upgrading, err
	}
	return &conn{client, time.Now()}, upgrading, nil
}

// Close ends the connections that nobody uses.
func (s *Sender) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.free {
		s.open--
		c.client.Close() // it is being given up: whether it says goodbye properly does not matter
	}
	s.free = nil
	s.next()
}
