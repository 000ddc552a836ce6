package web

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"ombak/internal/core/event"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/right"
	"ombak/internal/core/signal"
	"ombak/internal/store"
)

// watching is the site, behind what counts how many statements each of its pages asks.
type watching struct {
	*site
	srv  *httptest.Server
	last atomic.Pointer[store.Watched]
}

func (x *site) watching() *watching {
	w := &watching{site: x}
	w.srv = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		ctx, watched := store.Watch(r.Context())
		w.last.Store(watched)
		x.srv.Config.Handler.ServeHTTP(rw, r.WithContext(ctx))
	}))
	x.t.Cleanup(w.srv.Close)
	return w
}

// asked is how many statements a page asks of the database as a visitor.
func (w *watching) asked(v *visitor, path string) (n, code int) {
	w.t.Helper()
	req, err := http.NewRequest(http.MethodGet, w.srv.URL+path, nil)
	w.must(err)
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	res, err := v.c.Do(req)
	w.must(err)
	_, err = io.Copy(io.Discard, res.Body)
	w.must(errors.Join(err, res.Body.Close()))
	n, _ = w.last.Load().Asked()
	return n, res.StatusCode
}

// crowd adds so many of everything that pages list, about somebody and beside them.
func (x *site) crowd(round, n int) {
	x.t.Helper()
	ctx := x.t.Context()
	m := x.visitor().signIn("admin")
	rep, author := x.userOf(right.Rep), x.userOf(right.Marketer)
	stages, err := x.s.Stages(ctx)
	x.must(err)
	for i := range n {
		k := round*100 + i
		name := fmt.Sprint("Extra ", k)
		p := x.meet(store.NewPerson{First: name, Last: "Crowd", Email: fmt.Sprintf("p%d@fjord.example", k),
			Company: "Fjord Farms", Country: "NO"})
		for _, f := range []struct {
			path string
			form url.Values
		}{{"/sequences", url.Values{"name": {name}}}, {"/people/tags", url.Values{"name": {name}}},
			{"/people/audiences/new", url.Values{"kind": {"hand"}, "name": {name}}},
			{"/people/1/mark", url.Values{"mark": {"tag"}, "on": {"1"}, "what": {name}}},
			{"/people/1/notes", url.Values{"text": {name}}},
			{"/content/emails/new", nil}, {"/content/groups/new", url.Values{"name": {name},
				"rule": {`{"if":{"field":"country","op":"is","value":"NO"}}`}}},
			{"/people/views", url.Values{"name": {name}, "list": {"text=oban"}}},
			{"/settings/teams", url.Values{"name": {name}}},
			{"/people/fields", url.Values{"name": {name}, "type": {"number"}}}} {
			if res, body := m.do("POST", f.path, f.form); res.StatusCode >= 400 {
				x.t.Fatalf("%s: %s %.200s", f.path, res.Status, body)
			}
		}
		x.must(x.e.HandOver(ctx, p))
		x.newPage(fmt.Sprint("page-", k), true, page.New(name, "<p>Read.</p>", "Send"))
		x.must(x.s.InTx(ctx, func(tx store.Tx) error {
			if _, err := tx.SaveMessage(ctx, store.Message{Name: name, SenderID: &author, Doc: store.JSON[message.Document]{
				V: message.Simple(name, "<p>Hello.</p>")}}, author, now); err != nil {
				return err
			}
			if _, err := tx.SaveEvent(ctx, event.Event{Name: name, Starts: now.Add(time.Hour), Ends: now.Add(2 * time.Hour),
				Zone: "UTC"}, author, now); err != nil {
				return err
			}
			if err := tx.AddSignals(ctx, []store.Signal{{Person: 1, Signal: signal.Signal{At: now, Kind: signal.PageView}}}); err != nil {
				return err
			}
			return tx.AddTasks(ctx, []store.NewTask{{Person: p, To: rep, Words: name, How: "a test", At: now}}, time.UTC)
		}))
		x.exec(fmt.Sprintf("insert into deal (person_id, stage_id, rep_id, name, currency, opened_at, moved_at) values "+
			"(%d, %d, %d, '%s', 'EUR', now(), now())", x.meet(store.NewPerson{First: name, Email: fmt.Sprintf("d%d@x.example", k)}),
			stages[k%2].ID, rep, name))
		x.exec(fmt.Sprintf("insert into incoming (mail_id, person_id, at, kind, sender, subject, body, said) values "+
			"('m%d', 1, now(), 6, 'ana@fjord.example', 'Re: guide', 'Yes', 'Yes')", k))
	}
}

// Whatever there is more of, a page asks as much of the database as before: what it lists is read at once.
func TestStatementsDoNotGrow(t *testing.T) {
	x := furnished(t)
	x.crowd(1, 3)
	x.settle()
	w := x.watching()
	admin, rep := x.visitor().signIn("admin"), x.visitor().signIn("rep")
	type page struct {
		v    *visitor
		path string
	}
	before := map[page]int{}
	var list []page
	for _, p := range x.x.Pages() {
		if strings.Contains(p, "sign-out") || p == "/events" {
			continue // they end what the others need, or never end
		}
		named := strings.NewReplacer(":slug", "guide", ":token", "none", ":signature", "none", ":picture", "none.gif").Replace(p)
		var parts []string
		for _, part := range strings.Split(named, "/") {
			if strings.HasPrefix(part, ":") || part == "*" {
				part = "1"
			}
			parts = append(parts, part)
		}
		for _, v := range []*visitor{admin, rep} {
			at := page{v, strings.Join(parts, "/")}
			for range 2 { // what is remembered from the first time on is not asked for by the second
				n, code := w.asked(v, at.path)
				if before[at] = n; code >= 500 {
					t.Fatalf("%s: %d", at.path, code)
				}
			}
			list = append(list, at)
		}
	}
	x.crowd(2, 5)
	x.settle()
	much := 0
	for _, at := range list {
		if before[at] > 5 {
			much++
		}
		w.asked(at.v, at.path)
		if n, _ := w.asked(at.v, at.path); n > before[at] {
			t.Errorf("%s asks %d statements, and %d where there is more", at.path, before[at], n)
		}
	}
	if much < 60 {
		t.Errorf("only %d pages ask for anything", much)
	}
}
