package mailserver

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	nethtml "golang.org/x/net/html"

	"ombak/internal/mail"
)

//go:embed view
var files embed.FS

var views = template.Must(template.New("").Funcs(template.FuncMap{
	"at": func(t time.Time) string { return t.UTC().Format("Mon 2 Jan, 15:04") },
}).ParseFS(files, "view/*.html"))

// View is the mailbox as a web page.
type View struct {
	Server *Server
	Answer string // where answers go over SMTP: Ombak's listener for incoming mail
	Home   string // Ombak's own address, for the way back
}

type link struct {
	Text, URL string
	Hidden    bool // no reader sees it
}

type page struct {
	Search  string
	Letters []*Letter
	Letter  *Letter
	Parts   Parts
	Links   []link
	Source  string
	Tab     string
	Note    string
	Error   string
	Draft   string
	Home    string
	Count   int
}

// ServeHTTP shows the list, a letter, and takes an answer.
func (v *View) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Security-Policy",
		"default-src 'none'; style-src 'self'; img-src 'self'; frame-src 'self'; form-action 'self'; base-uri "+
			"'none'; frame-ancestors 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	switch {
	case r.URL.Path == "/view.css":
		http.ServeFileFS(w, r, files, "view/view.css")
	case r.URL.Path == "/":
		v.show(w, r, page{})
	case strings.HasPrefix(r.URL.Path, "/letter/"):
		v.letter(w, r)
	default:
		http.NotFound(w, r)
	}
}

func (v *View) letter(w http.ResponseWriter, r *http.Request) {
	rest := strings.Split(strings.TrimPrefix(r.URL.Path, "/letter/"), "/")
	n, err := strconv.Atoi(rest[0])
	l := v.Server.Letter(n)
	if err != nil || l == nil || len(rest) > 2 {
		http.NotFound(w, r)
		return
	}
	parts, err := v.Server.Read(l)
	if err != nil {
		http.Error(w, "the letter cannot be read: "+err.Error(), http.StatusInternalServerError)
		return
	}
	p := page{Letter: l, Parts: parts, Links: slices.DeleteFunc(links(parts.HTML), func(l link) bool {
		return l.Hidden
	}), Tab: r.URL.Query().Get("as")}
	if source, err := v.Server.Source(l); err == nil {
		p.Source = string(source)
	}
	switch {
	case len(rest) == 2 && rest[1] == "html":
		// The letter's own page: its links open outside, its pictures are fetched as a mail reader would.
		w.Header().Set("Content-Security-Policy",
			"default-src 'none'; style-src 'unsafe-inline'; img-src http: https: data:; frame-ancestors 'self'")
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, strings.Replace(parts.HTML, "<head>", `<head><base target="_blank">`, 1))
	case len(rest) == 2 && rest[1] == "answer" && r.Method == http.MethodPost:
		v.answer(w, r, p)
	case len(rest) == 2 && rest[1] == "do" && r.Method == http.MethodPost:
		v.does(w, r, p)
	case len(rest) == 1:
		p.Note = map[string]string{"1": "Your answer is on its way.", "bounce": "It went back as undelivered.",
			"complain":  "Your complaint is on its way.",
			"one-click": "Opted out with one click."}[r.URL.Query().Get("sent")]
		v.show(w, r, p)
	default:
		http.NotFound(w, r)
	}
}

func (v *View) answer(w http.ResponseWriter, r *http.Request, p page) {
	// A form of this page only: there is no sign-in whose cookie could be misused, but another site must not write mail
	// either.
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
		http.Error(w, "answers are written on this page", http.StatusForbidden)
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
	p.Draft = strings.TrimSpace(r.FormValue("text"))
	if p.Draft == "" {
		p.Error = "Write something first."
		v.show(w, r, p)
		return
	}
	if err := v.Reply(r.Context(), p.Letter, p.Draft, r.FormValue("automatic") != ""); err != nil {
		p.Error = "The answer was not taken: " + err.Error()
		v.show(w, r, p)
		return
	}
	http.Redirect(w, r, fmt.Sprintf("/letter/%d?sent=1", p.Letter.N), http.StatusSeeOther)
}

// does what a mail server or a mail program does with a letter, at a press.
func (v *View) does(w http.ResponseWriter, r *http.Request, p page) {
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
		http.Error(w, "this is done on this page", http.StatusForbidden)
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, 1<<16)
	what := r.FormValue("what")
	var err error
	switch what {
	case "bounce":
		err = v.Bounce(p.Letter)
	case "complain":
		err = v.Complain(p.Letter)
	case "one-click":
		err = v.OneClick(r.Context(), p.Letter)
	default:
		http.NotFound(w, r)
		return
	}
	if err != nil {
		p.Error = "That was not taken: " + err.Error()
		v.show(w, r, p)
		return
	}
	http.Redirect(w, r, fmt.Sprintf("/letter/%d?sent=%s", p.Letter.N, what), http.StatusSeeOther)
}

// Reply answers a letter as its reader, over SMTP.
func (v *View) Reply(ctx context.Context, l *Letter, text string, automatic bool) error {
	if v.Answer == "" {
		return errors.New("nobody takes answers here")
	}
	s, err := mail.NewSender(v.Answer)
	if err != nil {
		return err
	}
	defer s.Close()
	now := v.Server.o.Now()
	fate, err := s.Send(ctx, mail.Letter{
		ID:   fmt.Sprintf("answer.%d.%d@%s", l.N, time.Now().UnixNano(), l.To[strings.LastIndexByte(l.To, '@')+1:]),
		From: l.To, To: l.From, Subject: "Re: " + strings.TrimPrefix(l.Subject, "Re: "), Text: text + "\n",
		InReplyTo: l.MessageID, Automatic: automatic, Date: now,
	})
	if fate != mail.Taken {
		return fmt.Errorf("%s: %w", fate, err)
	}
	return nil
}

func (v *View) show(w http.ResponseWriter, r *http.Request, p page) {
	p.Search = r.URL.Query().Get("q")
	p.Letters = v.Server.Letters(p.Search, 200)
	p.Count = v.Server.Count()
	p.Home = v.Home
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	if p.Error != "" {
		w.WriteHeader(http.StatusUnprocessableEntity)
	}
	if err := views.ExecuteTemplate(w, "mailbox.html", p); err != nil {
		slog.Error("showing the mailbox", "error", err)
	}
}

// links lists the links of a letter's HTML with what they say.
func links(body string) []link {
	var out []link
	z := nethtml.NewTokenizer(strings.NewReader(body))
	in := false
	for {
		switch z.Next() {
		case nethtml.ErrorToken:
			return out
		case nethtml.StartTagToken:
			t := z.Token()
			if t.Data != "a" {
				continue
			}
			hidden := false
			for _, a := range t.Attr {
				hidden = hidden || a.Key == "style" && strings.Contains(a.Val, "display:none")
			}
			for _, a := range t.Attr {
				if a.Key == "href" && strings.HasPrefix(a.Val, "http") {
					out, in = append(out, link{URL: a.Val, Hidden: hidden}), true
				}
			}
		case nethtml.TextToken:
			if in {
				out[len(out)-1].Text += string(z.Text())
			}
		case nethtml.EndTagToken:
			if t := z.Token(); t.Data == "a" {
				in = false
			}
		}
	}
}

// Links lists the web links of a letter that a reader sees, and those that only
// a program finds.
func (s *Server) Links(l *Letter) (seen, hidden []string, err error) {
	p, err := s.Read(l)
	for _, x := range links(p.HTML) {
		if x.Hidden {
			hidden = append(hidden, x.URL)
		} else {
			seen = append(seen, x.URL)
		}
	}
	return seen, hidden, err
}
