package mailserver

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"ombak/internal/mail"
)

func send(t *testing.T, s *Server, to, subject string) {
	t.Helper()
	out, err := mail.NewSender(s.Addr())
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	fate, err := out.Send(t.Context(),
		mail.Letter{ID: "x" + to, FromName: "Ines Radu", From: "ines@karang.example", To: to, Subject: subject,
			Text: "Hello\n",
			HTML: `<html><head></head><body><p>Hello <script>1</script> <a href="http://ombak.example/l/1">the ` +
				`guide</a></p></body></html>`, Date: time.Now()})
	if fate != mail.Taken {
		t.Fatal(err)
	}
}

func TestLettersAreKeptOverARestart(t *testing.T) {
	dir := t.TempDir()
	for n, want := range []int{1, 2} {
		s, err := Start(Options{Addr: "127.0.0.1:0", Dir: dir})
		if err != nil {
			t.Fatal(err)
		}
		send(t, s, "ana@fjord.example", "Guide")
		if got := s.Count(); got != want {
			t.Errorf("start %d: %d letters", n+1, got)
		}
		l := s.Letters("ANA@", 10)[0]
		if l.N != want || l.To != "ana@fjord.example" || l.From != "ines@karang.example" || l.FromName != "Ines Radu" ||
			l.At.IsZero() {
			t.Errorf("%+v", l)
		}
		s.Close()
	}
}

func TestView(t *testing.T) {
	s, err := Start(Options{Addr: "127.0.0.1:0"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var got []mail.Received
	in, err := mail.Listen("127.0.0.1:0", func(_ context.Context, m mail.Received) error {
		got = append(got, m)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	srv := httptest.NewServer(&View{Server: s, Answer: in.Addr()})
	defer srv.Close()
	ask := func(method, path, site string, form url.Values) (*http.Response, string) {
		t.Helper()
		req, err := http.NewRequest(method, srv.URL+path, strings.NewReader(form.Encode()))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Sec-Fetch-Site", site)
		if form != nil {
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		res, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res, string(b)
	}
	if _, body := ask("GET", "/", "none", nil); !strings.Contains(body, "No letter has come yet") {
		t.Error("an empty mailbox says nothing")
	}
	send(t, s, "ana@fjord.example", "<b>Guide</b>")
	if _, body := ask("GET", "/?q=ana", "none", nil); !strings.Contains(body, "&lt;b&gt;Guide") {
		t.Error("the list does not show the letter, or shows it unescaped")
	}
	if _, body := ask("GET", "/letter/1", "none", nil); !strings.Contains(body, `href="http://ombak.example/l/1"`) ||
		!strings.Contains(body, "the guide") {
		t.Error("the letter's links are not listed")
	}
	if _, body := ask("GET", "/letter/1?as=source", "none", nil); !strings.Contains(body, "Message-ID:") {
		t.Error("no source")
	}
	res, _ := ask("GET", "/letter/1/html", "none", nil)
	if csp := res.Header.Get("Content-Security-Policy"); !strings.Contains(csp, "default-src 'none'") ||
		strings.Contains(csp, "script-src") {
		t.Errorf("the letter's own page may run scripts: %q", csp)
	}
	for _, path := range []string{"/letter/9", "/letter/x", "/nowhere", "/letter/1/2/3"} {
		if res, _ := ask("GET", path, "none", nil); res.StatusCode != http.StatusNotFound {
			t.Errorf("%s: %s", path, res.Status)
		}
	}
	if res, _ := ask("POST", "/letter/1/answer", "cross-site",
		url.Values{"text": {"x"}}); res.StatusCode != http.StatusForbidden {
		t.Errorf("another site writes mail: %s", res.Status)
	}
	if res, body := ask("POST", "/letter/1/answer", "same-origin",
		url.Values{"text": {" "}}); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "Write something first") {
		t.Errorf("an empty answer: %s", res.Status)
	}
	if res, _ := ask("POST", "/letter/1/answer", "same-origin",
		url.Values{"text": {"Call me"}, "automatic": {"on"}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("an answer: %s", res.Status)
	}
	if len(got) != 1 || got[0].From != "ana@fjord.example" || got[0].Kind != mail.Automatic ||
		got[0].References[0] != "xana@fjord.example" || !strings.Contains(got[0].Text, "Call me") {
		t.Errorf("came in as %+v", got)
	}
}
