// Package mailserver is a stand-in for the mail servers of everybody that
// Ombak writes to. It takes every letter over SMTP (RFC 5321), keeps it as a
// file in the form of RFC 5322, and shows all mailboxes on a web page of its
// own, from which a letter can be answered. It knows nothing of Ombak but
// where its answers go.
package mailserver

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/textproto"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"time"

	gomsg "github.com/emersion/go-message/mail"
	"github.com/emersion/go-smtp"
)

// Letter is a letter that was taken.
type Letter struct {
	N         int    // running number, from 1
	To        string // of the envelope
	From      string // of the header: the address
	FromName  string
	Subject   string
	MessageID string
	At        time.Time // when it came, by the server's clock

	file string
}

// Options say how the server behaves.
type Options struct {
	Addr string           // where it listens
	Dir  string           // where letters are kept; empty: in memory only
	Now  func() time.Time // nil: the machine's clock
	On   func(*Letter)    // called with each letter that was taken, before the sender hears so; may be nil

	// Answer, where set, is asked about each recipient and each letter. An
	// error is the server's answer; *smtp.SMTPError says which.
	AnswerRcpt func(to string) error
	AnswerData func(to []string) error
}

// Server is a running stand-in.
type Server struct {
	o   Options
	srv *smtp.Server
	l   net.Listener

	mu      sync.RWMutex
	letters []*Letter
	sources map[int][]byte // where there is no Dir
}

// maxLetters bounds what is kept; the oldest go first.
const maxLetters = 100_000

// Start reads the letters that are there and listens.
func Start(o Options) (*Server, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	s := &Server{o: o, sources: map[int][]byte{}}
	if o.Dir != "" {
		if err := os.MkdirAll(o.Dir, 0o755); err != nil {
			return nil, fmt.Errorf("the stand-in’s mailbox: %w", err)
		}
		if err := s.load(); err != nil {
			return nil, err
		}
	}
	l, err := net.Listen("tcp", o.Addr)
	if err != nil {
		return nil, fmt.Errorf("the stand-in mail server: %w", err)
	}
	s.l = l
	s.srv = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{s: s}, nil }))
	s.srv.Domain = "standin.example"
	s.srv.MaxMessageBytes = 20 << 20
	s.srv.ReadTimeout, s.srv.WriteTimeout = time.Minute, time.Minute
	go func() {
		if err := s.srv.Serve(l); err != nil && !errors.Is(err, smtp.ErrServerClosed) {
			slog.Error("the stand-in mail server ended", "error", err)
		}
	}()
	return s, nil
}

// Addr is where it listens.
func (s *Server) Addr() string { return s.l.Addr().String() }

// Close ends it.
func (s *Server) Close() error { return s.srv.Close() }

type session struct {
	s  *Server
	to []string
}

func (x *session) Reset()                               { x.to = nil }
func (x *session) Logout() error                        { return nil }
func (x *session) Mail(string, *smtp.MailOptions) error { return nil }
func (x *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if f := x.s.o.AnswerRcpt; f != nil {
		if err := f(to); err != nil {
			return err
		}
	}
	x.to = append(x.to, strings.ToLower(to))
	return nil
}

func (x *session) Data(r io.Reader) error {
	source, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	if f := x.s.o.AnswerData; f != nil {
		if err := f(x.to); err != nil {
			return err
		}
	}
	for _, to := range x.to {
		if err := x.s.take(to, source); err != nil {
			return err
		}
	}
	return nil
}

func (s *Server) take(to string, source []byte) error {
	l := read(source)
	l.To, l.At = to, s.o.Now()
	s.mu.Lock()
	l.N = 1
	if n := len(s.letters); n > 0 {
		l.N = s.letters[n-1].N + 1
	}
	if s.o.Dir != "" {
		l.file = filepath.Join(s.o.Dir, fmt.Sprintf("%07d.eml", l.N))
		head := fmt.Sprintf("X-Envelope-To: %s\r\nX-Taken: %s\r\n", to, l.At.UTC().Format(time.RFC3339Nano))
		if err := os.WriteFile(l.file, append([]byte(head), source...), 0o644); err != nil {
			s.mu.Unlock()
			return err
		}
	} else {
		s.sources[l.N] = source
	}
	s.letters = append(s.letters, l)
	if len(s.letters) > maxLetters {
		old := s.letters[0]
		s.letters = s.letters[1:]
		delete(s.sources, old.N)
		if old.file != "" {
			os.Remove(old.file) // only makes room: a file that stays does no harm
		}
	}
	s.mu.Unlock()
	if s.o.On != nil {
		s.o.On(l)
	}
	return nil
}

// read takes what a list shows from a letter's header.
func read(source []byte) *Letter {
	l := &Letter{}
	r, err := gomsg.CreateReader(bytes.NewReader(source))
	if err != nil {
		l.Subject = "(a letter that cannot be read)"
		return l
	}
	defer r.Close()
	l.Subject, _ = r.Header.Subject()
	l.MessageID, _ = r.Header.MessageID()
	if from, err := r.Header.AddressList("From"); err == nil && len(from) > 0 {
		l.From, l.FromName = from[0].Address, from[0].Name
	}
	return l
}

func (s *Server) load() error {
	files, err := filepath.Glob(filepath.Join(s.o.Dir, "*.eml"))
	if err != nil {
		return err
	}
	sort.Strings(files)
	for _, f := range files {
		source, err := os.ReadFile(f)
		if err != nil {
			return fmt.Errorf("reading the stand-in’s mailbox: %w", err)
		}
		l := read(source)
		if _, err := fmt.Sscanf(filepath.Base(f), "%d.eml", &l.N); err != nil {
			continue
		}
		l.file = f
		if h, err := gomsg.CreateReader(bytes.NewReader(source)); err == nil {
			l.To = h.Header.Get(textproto.CanonicalMIMEHeaderKey("X-Envelope-To"))
			l.At, _ = time.Parse(time.RFC3339Nano, h.Header.Get("X-Taken"))
			h.Close()
		}
		s.letters = append(s.letters, l)
	}
	return nil
}

// Letters lists the newest letters first, those to an address that contains to
// or whose subject does, n at most.
func (s *Server) Letters(search string, n int) []*Letter {
	search = strings.ToLower(search)
	s.mu.RLock()
	defer s.mu.RUnlock()
	var out []*Letter
	for i := len(s.letters) - 1; i >= 0 && len(out) < n; i-- {
		l := s.letters[i]
		if search == "" || strings.Contains(l.To, search) || strings.Contains(strings.ToLower(l.Subject), search) {
			out = append(out, l)
		}
	}
	return out
}

// Count is how many letters are there.
func (s *Server) Count() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.letters)
}

// Letter finds one by number, nil where it is not there.
func (s *Server) Letter(n int) *Letter {
	s.mu.RLock()
	defer s.mu.RUnlock()
	i := sort.Search(len(s.letters), func(i int) bool { return s.letters[i].N >= n })
	if i < len(s.letters) && s.letters[i].N == n {
		return s.letters[i]
	}
	return nil
}

// Source is a letter as it came.
func (s *Server) Source(l *Letter) ([]byte, error) {
	if l.file != "" {
		return os.ReadFile(l.file)
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.sources[l.N], nil
}

// Parts are a letter's texts.
type Parts struct{ Text, HTML string }

// Read gives a letter's texts, as a mail reader would show them.
func (s *Server) Read(l *Letter) (Parts, error) {
	source, err := s.Source(l)
	if err != nil {
		return Parts{}, err
	}
	r, err := gomsg.CreateReader(bytes.NewReader(source))
	if err != nil {
		return Parts{Text: string(source)}, nil
	}
	defer r.Close()
	var p Parts
	for {
		part, err := r.NextPart()
		if err != nil {
			return p, nil // the end, or a letter cut off: what came before is shown
		}
		h, ok := part.Header.(*gomsg.InlineHeader)
		if !ok {
			continue
		}
		body, err := io.ReadAll(part.Body)
		if err != nil {
			return p, err
		}
		switch ct, _, _ := h.ContentType(); {
		case ct == "text/html" && p.HTML == "":
			p.HTML = string(body)
		case ct == "text/plain" && p.Text == "":
			p.Text = string(body)
		}
	}
}
