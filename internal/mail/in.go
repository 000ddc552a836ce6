package mail

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"time"

	"github.com/emersion/go-smtp"
	"golang.org/x/net/netutil"
)

// maxCallers is how many connections there are at a time; each can have one
// letter in memory.
const maxCallers = 100

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
	f    Handler
	from string
	to   []string
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	return nil
}
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, strings.ToLower(to))
	return nil
}

func (s *session) Data(r io.Reader) error {
	source, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m := Read(source)
	m.Envelope(s.from, s.to)
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if err := s.f(ctx, m); err != nil {
		slog.Error("a letter was not taken in", "error", err)
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "not taken now, try again"}
	}
	return nil
}
