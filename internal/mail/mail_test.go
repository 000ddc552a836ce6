package mail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	netmail "net/mail"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/emersion/go-message"

	"ombak/internal/standin/unruly"
)

var letter = Letter{
	ID: "t1.abc@mail.karang.example", FromName: "Ines Rådu", From: "ines@karang.example", To: "ana@fjord.example",
	ReturnPath: "bounce+t1.abc@mail.karang.example",
	Subject:    "Für Ngô Thị Hoa – drei Alarme", Text: "Grüße\n", HTML: "<p>Grüße</p>",
	OptOut: "https://ombak.example/u/1/x", Date: time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC),
}

// TestComposeAgainstReferenceReaders reads what is written with Go's own net/mail, mime and multipart.
func TestComposeAgainstReferenceReaders(t *testing.T) {
	var b bytes.Buffer
	if err := Write(&b, letter); err != nil {
		t.Fatal(err)
	}
	m, err := netmail.ReadMessage(&b)
	if err != nil {
		t.Fatal(err)
	}
	dec := new(mime.WordDecoder)
	subject, err := dec.DecodeHeader(m.Header.Get("Subject")) // RFC 2047
	if err != nil || subject != letter.Subject {
		t.Errorf("subject %q, %v", subject, err)
	}
	from, err := m.Header.AddressList("From")
	if err != nil || from[0].Name != letter.FromName || from[0].Address != letter.From {
		t.Errorf("from %v, %v", from, err)
	}
	for name, want := range map[string]string{
		"Message-ID":            "<t1.abc@mail.karang.example>",
		"List-Unsubscribe":      "<https://ombak.example/u/1/x>", // RFC 2369
		"List-Unsubscribe-Post": "List-Unsubscribe=One-Click",    // RFC 8058, 3.1
	} {
		if got := m.Header.Get(name); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	if d, err := m.Header.Date(); err != nil || !d.Equal(letter.Date) {
		t.Errorf("date %v, %v", d, err)
	}
	kind, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil || kind != "multipart/alternative" {
		t.Fatalf("content type %q, %v", kind, err)
	}
	r := multipart.NewReader(m.Body, params["boundary"])
	// RFC 2046, 5.1.4: the plainest first
	for _, want := range []struct{ kind, body string }{{"text/plain", "Grüße"}, {"text/html", "<p>Grüße</p>"}} {
		p, err := r.NextRawPart()
		if err != nil {
			t.Fatal(err)
		}
		var body io.Reader = p
		if p.Header.Get("Content-Transfer-Encoding") == "quoted-printable" {
			body = quotedprintable.NewReader(p)
		}
		text, err := io.ReadAll(body)
		if got, _, _ := mime.ParseMediaType(p.Header.Get("Content-Type")); got != want.kind ||
			strings.TrimSpace(string(text)) != want.body || err != nil {
			t.Errorf("part %s: %q, %v", got, text, err)
		}
	}
}

func TestHeadersCannotBeBroken(t *testing.T) {
	l := letter
	l.Subject, l.FromName = "Hello\r\nBcc: all@x.example", "Ines\r\nBcc: all@x.example"
	var b bytes.Buffer
	if err := Write(&b, l); err != nil {
		return // refusing is as good
	}
	m, err := netmail.ReadMessage(&b)
	if err == nil && m.Header.Get("Bcc") != "" {
		t.Errorf("a header broke out: %v", m.Header)
	}
	l.To = "a@b.example\r\nRCPT TO:<c@d.example>"
	if err := Write(&b, l); err == nil {
		t.Error("an address with a line break was taken")
	}
}

func TestReadTellsKindsApart(t *testing.T) {
	for _, c := range []struct {
		name, source string
		kind         Kind
		refs         string
		text         string
	}{
		{"an answer",
			"From: Ana <ANA@fjord.example>\r\nMessage-ID: <a@fjord.example>\r\nIn-Reply-To: " +
				"<t1.abc@mail.karang.example>\r\nSubject: Re: x\r\n\r\nYes.\r\n", FromPerson,
			"t1.abc@mail.karang.example", "Yes."},
		{"references, the nearest first",
			"From: a@b.example\r\nReferences: <one@x.example> <two@x.example>\r\n\r\nYes.\r\n", FromPerson,
			"two@x.example one@x.example", "Yes."},
		// RFC 3834, 5: Auto-Submitted tells automatic answers; its value "no" means a person.
		{"out of office", "From: a@b.example\r\nAuto-Submitted: auto-replied (vacation)\r\n\r\nAway.\r\n", Automatic,
			"", "Away."},
		{"explicitly not automatic", "From: a@b.example\r\nAuto-Submitted: no\r\n\r\nHere.\r\n", FromPerson, "",
			"Here."},
		// A report in the form of RFC 3464, with the example's fields; addresses ours.
		{"a bounce",
			"From: mailer-daemon@fjord.example\r\nContent-Type: multipart/report; report-type=delivery-status; " +
				"boundary=\"B\"\r\nMIME-Version: 1.0\r\n\r\n--B\r\n\r\nNot delivered.\r\n--B\r\nContent-Type: " +
				"message/delivery-status\r\n\r\nReporting-MTA: dns; fjord.example\r\n\r\nFinal-Recipient: rfc822; " +
				"ana@fjord.example\r\nAction: failed\r\nStatus: 5.1.1\r\n\r\n--B\r\nContent-Type: " +
				"message/rfc822\r\n\r\nMessage-ID: <t1.abc@mail.karang.example>\r\n\r\nHello\r\n--B--\r\n", Bounce,
			"t1.abc@mail.karang.example", "Not delivered."},
		{"only HTML", "From: a@b.example\r\nContent-Type: text/html; charset=utf-8\r\n\r\n<p>Yes &amp; no</p>\r\n",
			FromPerson, "", "Yes & no"},
		{"Latin-1", "From: a@b.example\r\nContent-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: " +
			"quoted-printable\r\n\r\nGr=FC=DFe\r\n", FromPerson, "", "Grüße"},
		{"cut off in a part",
			"From: a@b.example\r\nContent-Type: multipart/mixed; boundary=B\r\n\r\n--B\r\nContent-Type: " +
				"text/plain\r\n\r\nYes", FromPerson, "", "Yes"},
	} {
		m := Read([]byte(c.source))
		if m.Kind != c.kind || strings.Join(m.References, " ") != c.refs || !strings.Contains(m.Text, c.text) {
			t.Errorf("%s: %+v", c.name, m)
		}
		if m.From != strings.ToLower(m.From) {
			t.Errorf("%s: from %q", c.name, m.From)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(nested(3))
	f.Add(nested(40))
	f.Add([]byte("From: a@b.example\r\nSubject: x\r\n\r\nYes.\r\n"))
	f.Add([]byte("Content-Type: multipart/report; report-type=delivery-status; boundary=B\r\n\r\n--B\r\n"))
	f.Fuzz(func(t *testing.T, source []byte) {
		m := Read(source)
		if strings.Contains(m.Text+m.Said, "\x00") || !utf8.ValidString(m.Text+m.Said+m.Subject) {
			t.Errorf("text %q, subject %q", m.Text, m.Subject)
		}
		if strings.TrimSpace(m.Text) != "" && m.Said == "" {
			t.Errorf("%q says nothing", m.Text)
		}
	})
}

// TestFates sends to servers that misbehave in each way, over the real wire. What an answer means is RFC 5321, 4.2.1;
// where the connection breaks after the letter's end and before the answer, nobody can know (RFC 5321, 4.5.3.2.6).
func TestFates(t *testing.T) {
	for _, c := range []struct {
		name       string
		at, answer string
		want       Fate
		reader     bool // the refusal is about the reader
	}{
		{"takes it", "", "", Taken, false},
		{"greylists", "RCPT", "451 4.7.1 later", Later, false},
		{"has a mailbox that is full for now", "end", "452 4.2.2 full", Later, false},
		{"does not know the reader", "RCPT", "550 5.1.1 unknown", Refused, true},
		{"does not like the letter", "end", "554 5.7.1 no", Refused, false},
		{"does not like us", "MAIL", "550 5.7.1 go away", Refused, false},
		{"is closing", "greeting", "421 4.3.2 closing", Later, false},
		{"hangs up at once", "greeting", unruly.Hang, Later, false},
		{"hangs up at the reader", "RCPT", unruly.Hang, Later, false},
		{"hangs up before the letter", "DATA", unruly.Hang, Later, false},
		{"hangs up after the letter's end", "end", unruly.Hang, Unknown, false},
		{"is too slow to greet", "greeting", unruly.Slow, Later, false},
		{"is too slow for the reader", "RCPT", unruly.Slow, Later, false},
		{"is too slow to say that it has the letter", "end", unruly.Slow, Unknown, false},
	} {
		bad, err := unruly.Start(func(at string) string {
			if at == c.at {
				return c.answer
			}
			return ""
		})
		if err != nil {
			t.Fatal(err)
		}
		s, err := NewSender(bad.Addr())
		if err != nil {
			t.Fatal(err)
		}
		if c.answer == unruly.Slow {
			s.Patience = 300 * time.Millisecond
		}
		got, err := s.Send(context.Background(), letter)
		if got != c.want || (err == nil) != (got == Taken) || NoSuchReader(err) != c.reader {
			t.Errorf("a server that %s: %s, %v", c.name, got, err)
		}
		s.Close()
		bad.Close()
	}
	s, err := NewSender("127.0.0.1:1")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := s.Send(context.Background(), letter); got != Later || err == nil {
		t.Errorf("no server at all: %s, %v", got, err)
	}
	if _, err := NewSender("no port"); err == nil {
		t.Error("an address without a port was taken")
	}
}

func TestReceiver(t *testing.T) {
	var got []Received
	fail := true
	r, err := Listen("127.0.0.1:0", func(_ context.Context, m Received) error {
		if fail {
			return errors.New("not now")
		}
		got = append(got, m)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	s, err := NewSender(r.Addr())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	l := letter
	l.InReplyTo, l.Automatic = "t9@x.example", true
	if fate, _ := s.Send(t.Context(), l); fate != Later {
		t.Errorf("what cannot be kept now is %s", fate)
	}
	fail = false
	if fate, err := s.Send(t.Context(), l); fate != Taken {
		t.Fatalf("%s: %v", fate, err)
	}
	if m := got[0]; m.ID != l.ID || m.Kind != Automatic || m.References[0] != "t9@x.example" || m.To[0] != l.To ||
		m.Subject != l.Subject {
		t.Errorf("%+v", m)
	}
}

// TestThreads: an answer names what it answers, and References has the thread in its order (RFC 5322, 3.6.4), folded
// where it is long, as net/mail reads it.
func TestThreads(t *testing.T) {
	var thread []string
	for n := range 30 {
		thread = append(thread, fmt.Sprintf("t%d.0123456789ab@mail.karang.example", n))
	}
	for _, c := range []struct {
		before []string
		last   string
		want   []string
	}{
		{nil, "", nil},
		{nil, "a@x.example", []string{"a@x.example"}},
		{[]string{"a@x.example", "b@x.example"}, "b@x.example", []string{"a@x.example", "b@x.example"}},
		{[]string{"a@x.example"}, "b@x.example", []string{"a@x.example", "b@x.example"}},
		{thread, thread[29], thread},
	} {
		l := letter
		l.References, l.InReplyTo = c.before, c.last
		var b bytes.Buffer
		if err := Write(&b, l); err != nil {
			t.Fatal(err)
		}
		for _, line := range strings.Split(b.String(), "\r\n") {
			if len(line) > 998 { // RFC 5322, 2.1.1
				t.Errorf("a line of %d letters", len(line))
			}
		}
		m, err := netmail.ReadMessage(&b)
		if err != nil {
			t.Fatal(err)
		}
		var want string
		for _, id := range c.want {
			want += "<" + id + "> "
		}
		if got := strings.Join(strings.Fields(m.Header.Get("References")), " "); got != strings.TrimSpace(want) {
			t.Errorf("References: %s, want %s", got, want)
		}
		if got := strings.Trim(m.Header.Get("In-Reply-To"), "<>"); got != c.last {
			t.Errorf("In-Reply-To: %s, want %s", got, c.last)
		}
	}
}

// TestAccounts signs in before it sends, and says why a server does not let it in. A password never goes to another
// machine unprotected.
func TestAccounts(t *testing.T) {
	var said []string
	refuse := false
	srv, err := unruly.Start(func(at string) string {
		said = append(said, at)
		if at == "AUTH" && refuse {
			return "535 5.7.8 wrong password"
		}
		return ""
	})
	if err != nil {
		t.Fatal(err)
	}
	defer srv.Close()
	s, err := NewAccountSender(Account{Server: srv.Addr(), Login: "ines", Password: "pens"}, true)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Try(t.Context()); err != nil || len(srv.Taken()) != 0 {
		t.Errorf("trying: %v, %d letters", err, len(srv.Taken()))
	}
	if fate, err := s.Send(t.Context(), letter); fate != Taken || err != nil {
		t.Errorf("%s, %v", fate, err)
	}
	if all := strings.Join(said, " "); !strings.Contains(all, "AUTH MAIL") {
		t.Errorf("it said %s", all)
	}
	refuse = true
	if err := s.Try(t.Context()); err == nil ||
		!strings.HasSuffix(err.Error(), "it does not take the name and password") {
		t.Errorf("a wrong password: %v", err)
	}
	s.Close()
	if fate, err := s.Send(t.Context(), letter); fate != Later || err == nil {
		t.Errorf("sending with a wrong password: %s, %v", fate, err)
	}
	// Spoken to by a name, it must protect the password first, and this one cannot.
	_, port, err := net.SplitHostPort(srv.Addr())
	if err != nil {
		t.Fatal(err)
	}
	far, err := NewAccountSender(Account{Server: net.JoinHostPort("localhost", port), Login: "ines", Password: "pens"},
		true)
	if err != nil {
		t.Fatal(err)
	}
	defer far.Close()
	said, refuse = nil, false
	if err := far.Try(t.Context()); err == nil || strings.Contains(strings.Join(said, " "), "AUTH") {
		t.Errorf("without TLS it said %v: %v", said, err)
	}
	if _, err := NewAccountSender(Account{Server: "smtp.karang.example"}, true); err == nil {
		t.Error("a server without a port was taken")
	}
}

// nested is a letter whose parts lie so many levels deep, each with a text beside the next.
func nested(levels int) []byte {
	var b, end strings.Builder
	b.WriteString("From: ana@fjord.example\r\nSubject: deep\r\nMIME-Version: 1.0\r\n")
	for i := range levels {
		fmt.Fprintf(&b, "Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n", i, i)
		fmt.Fprintf(&end, "\r\n--b%d--", levels-1-i)
	}
	return []byte(b.String() + "Content-Type: text/plain\r\n\r\nthe bottom" + end.String() + "\r\n")
}

// However deep and however many the parts of a letter, few are walked through:
// the work grows with its size and no faster.
func TestPartsHaveLimits(t *testing.T) {
	for levels, want := range map[int]string{1: "the bottom", maxLevels: "the bottom", maxLevels + 1: "", 4000: ""} {
		if m := Read(nested(levels)); m.Text != want || m.From != "ana@fjord.example" || m.Subject != "deep" {
			t.Errorf("%d levels: %q of %q", levels, m.Text, m.From)
		}
	}
	var b strings.Builder
	b.WriteString("From: ana@fjord.example\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n")
	for range 50_000 {
		b.WriteString("--b\r\nContent-Type: message/rfc822\r\n\r\nMessage-ID: <t1.a@x.example>\r\n\r\n")
	}
	e, err := message.Read(strings.NewReader(b.String()))
	if err != nil {
		t.Fatal(err)
	}
	var m Received
	r := partReader{m: &m}
	r.walk(e, 0)
	if r.parts > maxParts+1 || len(m.References) > maxParts {
		t.Errorf("%d parts were read, %d references", r.parts, len(m.References))
	}
	if m := Read([]byte(b.String())); len(m.References) > 100 {
		t.Errorf("%d references", len(m.References))
	}
	// Of a header of 360 kB so much is read as there may be, and nothing is refused.
	long := "From: a@b.example\r\n" + strings.Repeat("X-Long: "+strings.Repeat("x", 900)+"\r\n", 400) + "\r\nx"
	if m := Read([]byte(long)); m.From != "a@b.example" && m.Text == "" {
		t.Errorf("a header of 360 kB: %+v", m)
	}
}

// Names of files keep their letters: RFC 2183, 2.3, written by RFC 2231, and read by the library's own mime package.
func TestNamesOfFilesKeepTheirLetters(t *testing.T) {
	for _, name := range []string{"Grüße – 水質.pdf", "plain.pdf", "with \"marks\".pdf", "two words.pdf"} {
		l := letter
		l.Files = []File{{Name: name, Type: "application/pdf", Data: []byte("x")}}
		var b bytes.Buffer
		if err := Write(&b, l); err != nil {
			t.Fatal(err)
		}
		source := strings.ReplaceAll(b.String(), "\r\n ", " ")
		for _, head := range []string{"Content-Disposition: ", "Content-Type: application/pdf"} {
			i := strings.Index(source, head)
			if i < 0 {
				t.Fatalf("%q: no %s", name, head)
			}
			line, _, _ := strings.Cut(source[i:], "\r\n")
			_, params, err := mime.ParseMediaType(strings.TrimSpace(line[strings.Index(line, ":")+1:]))
			if got := params["filename"] + params["name"]; err != nil || got != name || strings.Contains(line, "=?") {
				t.Errorf("%q is %q, %v: %s", name, got, err, line)
			}
		}
	}
}
