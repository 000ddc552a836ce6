// Package unruly is a mail server that misbehaves on purpose: it is slow,
// refuses for now or for good, and hangs up, at any point of RFC 5321's
// dialogue. What it had taken before is kept, also where it never said so.
package unruly

import (
	"bufio"
	"io"
	"net"
	"strings"
	"sync"
	"time"
)

// Hang hangs up instead of answering. Slow never answers, as long as whoever
// asks is willing to wait.
const (
	Hang = "hang up"
	Slow = "slow"
)

// Server is a running one.
type Server struct {
	l     net.Listener
	reply func(at string) string

	mu    sync.Mutex
	taken []string
	ended chan struct{}
}

// Start starts one on a free port of the loopback. reply is asked at each point
// (greeting, EHLO, MAIL, RCPT, DATA, and end for the end of a letter, AUTH …)
// what is answered; an empty answer is the one a good server gives.
func Start(reply func(at string) string) (*Server, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{l: l, reply: reply, ended: make(chan struct{})}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go s.talk(c)
		}
	}()
	return s, nil
}

// Addr is where it listens.
func (s *Server) Addr() string { return s.l.Addr().String() }

// Close ends it.
func (s *Server) Close() {
	close(s.ended)
	s.l.Close()
}

// Taken are the letters that came whole, whatever was answered then.
func (s *Server) Taken() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.taken...)
}

var usual = map[string]string{"greeting": "220 ready", "EHLO": "250-unruly.example\r\n250 AUTH PLAIN LOGIN",
	"DATA": "354 go on", "end": "250 taken", "QUIT": "221 bye", "AUTH": "235 welcome"}

func (s *Server) talk(c net.Conn) {
	defer c.Close()
	say := func(at string) (string, bool) {
		answer := s.reply(at)
		switch answer {
		case Hang:
			return "", false
		case Slow:
			select {
			case <-s.ended:
			case <-time.After(time.Minute):
			}
			return "", false
		case "":
			if answer = usual[at]; answer == "" {
				answer = "250 ok"
			}
		}
		_, err := io.WriteString(c, answer+"\r\n")
		return answer, err == nil
	}
	r := bufio.NewReader(c)
	if _, ok := say("greeting"); !ok {
		return
	}
	var letter strings.Builder
	data := false
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		switch trimmed := strings.TrimRight(line, "\r\n"); {
		case data && trimmed == ".":
			data = false
			s.mu.Lock()
			s.taken = append(s.taken, letter.String())
			s.mu.Unlock()
			letter.Reset()
			if answer, ok := say("end"); !ok {
				return
			} else if !strings.HasPrefix(answer, "2") { // it was refused after all
				s.mu.Lock()
				s.taken = s.taken[:len(s.taken)-1]
				s.mu.Unlock()
			}
		case data:
			letter.WriteString(line)
		default:
			word, _, _ := strings.Cut(strings.ToUpper(trimmed), " ")
			answer, ok := say(word)
			if !ok {
				return
			}
			data = word == "DATA" && strings.HasPrefix(answer, "354")
		}
	}
}
