// Package readers plays the people that Ombak writes to. Each has a
// temperament, by which they open a letter, press its links, look at the page
// behind, answer, or stay silent; some hours or days later, in their time.
//
// They act as real people would: they fetch what a mail reader fetches over
// HTTP and answer over SMTP. From one seed the same letters lead to the same
// acts.
package readers

import (
	"bytes"
	"container/heap"
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"html"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"

	"ombak/internal/standin/mailserver"
)

// Temperament is how somebody is with mail.
type Temperament string

// The temperaments, from the most silent to the keenest.
const (
	Silent  Temperament = "silent"
	Glancer Temperament = "glances"
	Curious Temperament = "curious"
	Keen    Temperament = "keen"
	Talker  Temperament = "answers"
	Fed     Temperament = "fed up"
	Guarded Temperament = "guarded" // a program looks at every letter first
	Absent  Temperament = "absent"
	Gone    Temperament = "gone" // the mailbox is no more
)

// shares says how many of a hundred people have each temperament.
var shares = []struct {
	t Temperament
	n int
}{{Silent, 35}, {Glancer, 25}, {Curious, 17}, {Keen, 9}, {Talker, 4}, {Fed, 3}, {Guarded, 3}, {Absent, 2}, {Gone, 2}}

// Of is the temperament of an address: always the same for one seed.
func Of(seed uint64, address string) Temperament {
	n := int(random(seed, address, 0).IntN(100))
	for _, s := range shares {
		if n -= s.n; n < 0 {
			return s.t
		}
	}
	return Silent
}

func random(seed uint64, address string, nth int) *rand.Rand {
	h := fnv.New64a()
	fmt.Fprintf(h, "%s#%d", address, nth)
	return rand.New(rand.NewPCG(seed, h.Sum64()))
}

// World is everybody together.
type World struct {
	Seed uint64
	Mail *mailserver.Server
	View *mailserver.View // sends their answers

	mu    sync.Mutex
	queue queue
	order int
	nth   map[string]int  // address → letters so far
	waits map[string]bool // who has just asked for a letter
}

type act struct {
	at    time.Time
	order int // of equals, the first planned goes first
	what  string
	do    func(ctx context.Context) error
}

type queue []*act

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	if !q[i].at.Equal(q[j].at) {
		return q[i].at.Before(q[j].at)
	}
	return q[i].order < q[j].order
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(*act)) }
func (q *queue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

// Got plans what a reader does about a letter. Hand it to the mail server as
// its Options.On.
func (w *World) Got(l *mailserver.Letter) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.nth == nil {
		w.nth = map[string]int{}
	}
	w.nth[l.To]++
	r := random(w.Seed, l.To, w.nth[l.To])
	t := Of(w.Seed, l.To)
	chance := func(percent int) bool { return r.IntN(100) < percent }
	waits := w.waits[l.To]
	delete(w.waits, l.To)
	opens := map[Temperament]int{Silent: 6, Glancer: 60, Curious: 80, Keen: 96, Talker: 90, Fed: 70, Guarded: 30}[t]
	clicks := map[Temperament]int{Glancer: 12, Curious: 62, Keen: 90, Talker: 45, Guarded: 20}[t]
	answers := map[Temperament]int{Curious: 3, Keen: 9, Talker: 60}[t]
	leaves := map[Temperament]int{Fed: 75, Glancer: 1}[t]
	if waits && t != Gone && t != Absent {
		opens, clicks, leaves = 97, 85, 0
	}

	switch t {
	case Gone:
		w.plan(l.At.Add(time.Minute), "bounce", func(context.Context) error { return w.View.Bounce(l) })
		return
	case Absent:
		back := l.At.AddDate(0, 0, 6+r.IntN(9)).Format("2 January 2006")
		w.plan(l.At.Add(time.Minute), "answer by a program", func(ctx context.Context) error {
			return w.View.Reply(ctx, l,
				"I am out of the office and back on "+back+". For orders please call our harbour desk.", true)
		})
		return
	case Guarded:
		w.plan(l.At.Add(time.Second), "look at it by a program", func(ctx context.Context) error {
			return w.scan(ctx, l)
		})
	}

	// Half of all mail that is read at all is read within a few hours.
	at := l.At.Add(time.Duration(10+r.IntN(360)) * time.Minute)
	if chance(40) {
		at = at.Add(time.Duration(r.IntN(60)) * time.Hour)
	}
	if !chance(opens) {
		return
	}
	w.plan(at, "open", func(ctx context.Context) error { return w.fetch(ctx, l, "open") })
	if chance(30) {
		w.plan(at.Add(time.Duration(20+r.IntN(2000))*time.Minute), "open again", func(ctx context.Context) error {
			return w.fetch(ctx, l, "open")
		})
	}
	if chance(leaves) {
		w.plan(at.Add(2*time.Minute), "opt out", func(ctx context.Context) error { return w.fetch(ctx, l, "opt out") })
		return
	}
	if chance(clicks) {
		w.plan(at.Add(time.Duration(1+r.IntN(20))*time.Minute), "press a link", func(ctx context.Context) error {
			return w.fetch(ctx, l, "link")
		})
	}
	if chance(answers) {
		text := lines[r.IntN(len(lines))]
		w.plan(at.Add(time.Duration(15+r.IntN(600))*time.Minute), "answer", func(ctx context.Context) error {
			return w.View.Reply(ctx, l, text, false)
		})
	}
}

var lines = []string{
	"Thank you, this came at the right moment. We are replacing two sondes in spring. Could you call next week?",
	"Interesting. What does a buoy cost to run through a winter with ice?",
	"We have three pens at 14 m. Would the low-oxygen alarm reach a telephone without a network on site?",
	"Not for us this year, please ask again in autumn.",
	"I passed this on to our plant manager, who looks after the intake.",
}

// Asks says that somebody has just asked for a letter, and waits for it: most
// read it, and press what is in it.
func (w *World) Asks(address string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.waits == nil {
		w.waits = map[string]bool{}
	}
	w.waits[strings.ToLower(address)] = true
}

func (w *World) plan(at time.Time, what string, do func(context.Context) error) {
	w.order++
	heap.Push(&w.queue, &act{at, w.order, what, do})
}

// Next is when somebody acts next; zero where nobody will.
func (w *World) Next() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.queue) == 0 {
		return time.Time{}
	}
	return w.queue[0].at
}

// Act has everybody do what they planned up to an instant, one after the
// other. An act that fails is passed over and logged: people do not try twice.
func (w *World) Act(ctx context.Context, until time.Time) {
	for ctx.Err() == nil {
		w.mu.Lock()
		if len(w.queue) == 0 || w.queue[0].at.After(until) {
			w.mu.Unlock()
			return
		}
		a := heap.Pop(&w.queue).(*act)
		w.mu.Unlock()
		if err := a.do(ctx); err != nil {
			slog.Warn("a stand-in reader could not act", "what", a.what, "error", err)
		}
	}
}

// fetch does over HTTP what a reader's mail program or browser does.
func (w *World) fetch(ctx context.Context, l *mailserver.Letter, what string) error {
	p, err := w.Mail.Read(l)
	if err != nil {
		return err
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	c := &http.Client{Jar: jar, Timeout: 20 * time.Second, Transport: From(l.To)}
	defer c.CloseIdleConnections()
	switch what {
	case "open":
		before, after := `<img src="`, `"` // the last one is the one that counts; short letters have it behind them
		if strings.Contains(p.HTML, `background-image:url('`) {
			before, after = `background-image:url('`, `'`
		}
		i := strings.LastIndex(p.HTML, before)
		if i < 0 {
			return nil
		}
		u := html.UnescapeString(between(p.HTML[i:], before, after))
		if u == "" {
			return nil
		}
		return get(ctx, c, u)
	case "opt out":
		u := between(p.Text, "or less of it: ", "\n")
		if u == "" {
			return nil
		}
		return post(ctx, c, u)
	}
	links, _, err := w.Mail.Links(l)
	if err != nil || len(links) < 2 {
		return err
	}
	r := random(w.Seed, l.To+"/link", l.N)
	return w.follow(ctx, c, l, links[r.IntN(len(links)-1)]) // the last one is the way to opt out
}

// follow presses a link. Where it leads to a site that records visits, half of
// all people let it, and look at one page more; then their browser does what
// the site's script has it do.
func (w *World) follow(ctx context.Context, c *http.Client, l *mailserver.Letter, link string) error {
	at, page, err := visit(ctx, c, link)
	if err != nil {
		return err
	}
	script := recorder.FindStringSubmatch(page)
	r := random(w.Seed, l.To+"/consent", 0)
	if script == nil || r.IntN(2) == 0 {
		return nil
	}
	home := script[1]
	browser := fmt.Sprintf("%016x", r.Uint64())
	token := at.Query().Get("ombak_v")
	next := *at
	next.Path, next.RawQuery = "/buoys", ""
	for i, u := range []string{at.String(), next.String()} {
		body, err := json.Marshal(map[string]string{"v": browser, "u": u, "k": token})
		if err != nil {
			return err
		}
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, home+"/v", bytes.NewReader(body))
		if err != nil {
			return err
		}
		req.Header.Set("User-Agent", agent)
		req.Header.Set("Origin", at.Scheme+"://"+at.Host)
		if err := answered(c, req); err != nil {
			return err
		}
		if token = ""; i == 0 && r.IntN(2) == 0 {
			break
		}
	}
	return nil
}

// recorder is the script by which a site records visits.
var recorder = regexp.MustCompile(`<script src="(https?://[^"/]+)/v\.js"`)

// agent is what a stand-in reader's browser calls itself.
const agent = "Mozilla/5.0 (X11; Linux x86_64) stand-in reader"

// visit fetches a page, and answers where it was in the end.
func visit(ctx context.Context, c *http.Client, u string) (*url.URL, string, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u, nil)
	if err != nil {
		return nil, "", err
	}
	req.Header.Set("User-Agent", agent)
	res, err := c.Do(req)
	if err != nil {
		return nil, "", err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, 20<<20))
	if err == nil && res.StatusCode >= 400 {
		err = fmt.Errorf("%s answered %s", req.URL.Path, res.Status)
	}
	return res.Request.URL, string(b), err
}

// scan fetches the picture and every link of a letter at once, also those that
// no reader sees, as a program does that looks for what is dangerous.
func (w *World) scan(ctx context.Context, l *mailserver.Letter) error {
	if err := w.fetch(ctx, l, "open"); err != nil {
		return err
	}
	links, hidden, err := w.Mail.Links(l)
	if err != nil || len(links) < 2 {
		return err
	}
	c := &http.Client{Timeout: 20 * time.Second, Transport: From("scanner of " + l.To),
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}
	defer c.CloseIdleConnections()
	for _, u := range append(links[:len(links)-1], hidden...) {
		if err := get(ctx, c, u); err != nil {
			return err
		}
	}
	return nil
}

func between(s, a, b string) string {
	_, s, ok := strings.Cut(s, a)
	if !ok {
		return ""
	}
	s, _, _ = strings.Cut(s, b)
	return strings.TrimSpace(s)
}

func get(ctx context.Context, c *http.Client, u string) error {
	return do(ctx, c, http.MethodGet, u, "")
}

func post(ctx context.Context, c *http.Client, u string) error {
	return do(ctx, c, http.MethodPost, u, "List-Unsubscribe=One-Click") // RFC 8058, 3.2
}

func do(ctx context.Context, c *http.Client, method, u, body string) error {
	req, err := http.NewRequestWithContext(ctx, method, u, strings.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("User-Agent", agent)
	if body != "" {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	return answered(c, req)
}

// answered makes a request, whose answer must not be an error.
func answered(c *http.Client, req *http.Request) error {
	res, err := c.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(io.Discard, io.LimitReader(res.Body, 20<<20))
	if err == nil && res.StatusCode >= 400 {
		err = fmt.Errorf("%s answered %s", req.URL.Path, res.Status)
	}
	return err
}

// From makes requests come from an address of the loopback network that is
// somebody's own, as people come from networks of their own.
func From(somebody string) *http.Transport {
	h := fnv.New32a()
	h.Write([]byte(somebody))
	n := h.Sum32()
	d := &net.Dialer{Timeout: 5 * time.Second,
		LocalAddr: &net.TCPAddr{IP: net.IPv4(127, byte(1+n>>16%254), byte(n>>8), byte(1+n%254))}}
	return &http.Transport{DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		host, _, err := net.SplitHostPort(address)
		if ip := net.ParseIP(host); err == nil && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, network, address)
		}
		return d.DialContext(ctx, network, address)
	}}
}
