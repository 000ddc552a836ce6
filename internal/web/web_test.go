package web

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"ombak/internal/core/page"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/mail"
	"ombak/internal/password"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
	"ombak/internal/web/shell"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var now = time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC)

type stopped struct{}

func (stopped) Now() time.Time { return now }

type noMail struct{}

func (noMail) Send(context.Context, mail.Letter) (mail.Fate, error) { return mail.Taken, nil }

// theirs is everybody's password as it is kept, made once.
var theirs = sync.OnceValue(func() string { return password.Hash("correct horse") })

// site is the interface with one user of each role; everybody's password is "correct horse".
type site struct {
	t   testing.TB
	s   *store.Store
	e   *engine.Engine
	x   *Server
	srv *httptest.Server
}

func newSite(t testing.TB) *site {
	t.Helper()
	ctx := t.Context()
	st := storetest.New(t)
	e, err := engine.New(ctx,
		base.Config{Store: st, Clock: stopped{}, Mail: noMail{}, URL: "http://ombak.example",
			Domain: "mail.karang.example", PrivateServers: true})
	if err != nil {
		t.Fatal(err)
	}
	hash := theirs()
	for _, role := range []string{"marketer", "rep", "lead", "admin"} {
		if _, err := st.AddUser(ctx,
			store.User{Name: "The " + role, Email: role + "@karang.example", Role: right.Role(role), PasswordHash: hash},
			now); err != nil {
			t.Fatal(err)
		}
	}
	server := New(ctx, shell.Config{Store: st, Engine: e})
	x := &site{t, st, e, server, httptest.NewServer(server.Handler())}
	t.Cleanup(x.srv.Close)
	return x
}

// visitor is a browser of its own. It tells, as browsers do, that its requests come from the site itself.
type visitor struct {
	*site
	c    *http.Client
	from string // what Sec-Fetch-Site says
	htmx bool   // a page that is there asks
}

func (x *site) visitor() *visitor {
	jar, err := cookiejar.New(nil)
	if err != nil {
		x.t.Fatal(err)
	}
	return &visitor{site: x, from: "same-origin", c: &http.Client{Jar: jar,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// The white space that a page is laid out by, and that nobody sees.
var between, within = regexp.MustCompile(`>\n *<`), regexp.MustCompile(`\n +`)

// asRead is a page with its words as a reader has them, whatever lines they stand on.
func asRead(page string) string {
	return within.ReplaceAllString(between.ReplaceAllString(page, "><"), " ")
}

func (v *visitor) do(method, path string, form url.Values) (*http.Response, string) {
	v.t.Helper()
	req, err := http.NewRequest(method, v.srv.URL+path, strings.NewReader(form.Encode()))
	if err != nil {
		v.t.Fatal(err)
	}
	req.Header.Set("User-Agent", "Mozilla/5.0 a test")
	if v.from != "" {
		req.Header.Set("Sec-Fetch-Site", v.from)
	}
	if v.htmx {
		req.Header.Set("HX-Request", "true")
	}
	if form != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	res, err := v.c.Do(req)
	if err != nil {
		v.t.Fatal(err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil {
		v.t.Fatal(err)
	}
	if strings.HasPrefix(res.Header.Get("Content-Type"), "text/html") {
		return res, asRead(string(body))
	}
	return res, string(body)
}

func (v *visitor) signIn(role string) *visitor {
	v.t.Helper()
	res, _ := v.do("POST", "/sign-in", url.Values{"email": {role + "@karang.example"}, "password": {"correct horse"}})
	if res.StatusCode != http.StatusSeeOther {
		v.t.Fatalf("signing in as %s: %s", role, res.Status)
	}
	return v
}

func TestSignIn(t *testing.T) {
	x := newSite(t)
	v := x.visitor()
	if res, _ := v.do("GET", "/people", nil); res.StatusCode != http.StatusSeeOther ||
		res.Header.Get("Location") != "/sign-in?next=/people" {
		t.Errorf("a stranger: %s to %s", res.Status, res.Header.Get("Location"))
	}
	for _, c := range []struct{ email, password string }{{"rep@karang.example", "wrong"},
		{"nobody@karang.example", "correct horse"}, {"", ""}, {"rep@karang.example", strings.Repeat("x", 5000)}} {
		res, body := v.do("POST", "/sign-in", url.Values{"email": {c.email}, "password": {c.password}})
		if res.StatusCode != http.StatusUnprocessableEntity ||
			!strings.Contains(body, "The address or the password is not right") {
			t.Errorf("%q with a password of %d letters: %s", c.email, len(c.password), res.Status)
		}
	}
	v.signIn("rep")
	if res, _ := v.do("GET", "/", nil); res.Header.Get("Location") != "/desk" {
		t.Errorf("a rep begins at %q", res.Header.Get("Location"))
	}
	v.do("POST", "/sign-out", url.Values{})
	if res, _ := v.do("GET", "/desk", nil); res.StatusCode != http.StatusSeeOther {
		t.Errorf("signed out and still in: %s", res.Status)
	}
	if res, _ := x.visitor().do("POST", "/sign-in/1", url.Values{}); res.StatusCode != http.StatusNotFound {
		t.Errorf("one press signs in outside the demo: %s", res.Status)
	}
}

func TestSignInIsLimited(t *testing.T) {
	v := newSite(t).visitor()
	for n := range 40 {
		res, _ := v.do("POST", "/sign-in", url.Values{"email": {"rep@karang.example"}, "password": {"guess"}})
		if res.StatusCode == http.StatusTooManyRequests {
			if n < 5 {
				t.Errorf("limited after %d tries", n)
			}
			return
		}
	}
	t.Error("40 guesses in a row were answered")
}

func TestNextStaysHere(t *testing.T) {
	for _, c := range []struct{ next, want string }{{"/people", "/people"}, {"//evil.example", "/"},
		{"https://evil.example", "/"}, {"/\\evil.example", "/"}, {"", "/"}, {"/\t/evil.example", "/"}, {"/\x00", "400"},
		{"/\u0085/evil.example", "/"}, {"/a\nb", "/"}, {"/people?rule=x&text=ø", "/people?rule=x&text=ø"}} {
		v := newSite(t).visitor()
		res, _ := v.do("POST", "/sign-in",
			url.Values{"email": {"lead@karang.example"}, "password": {"correct horse"}, "next": {c.next}})
		if c.want == "400" && res.StatusCode == http.StatusBadRequest {
			continue
		}
		if got := res.Header.Get("Location"); got != c.want {
			t.Errorf("next %q leads to %q", c.next, got)
		}
	}
}

// TestRoles asks for everything that changes something, as each role: what a role may not do, the server refuses.
func TestRoles(t *testing.T) {
	x := newSite(t)
	var seq int64
	err := x.s.InTx(t.Context(), func(tx store.Tx) error {
		var err error
		seq, err = tx.AddSequence(t.Context(), "Guide", sequence.NewPlan(), now)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	as := map[string]*visitor{}
	for _, role := range []string{"marketer", "rep", "lead", "admin"} {
		as[role] = x.visitor().signIn(role)
	}
	marketing, sales, all := "marketer lead admin", "rep lead admin", "marketer rep lead admin"
	for _, c := range []struct{ method, path, may string }{
		{"POST", "/sequences", marketing}, {"POST", fmt.Sprintf("/sequences/%d/insert", seq), marketing},
		{"POST", fmt.Sprintf("/sequences/%d/steps/1", seq), marketing},
		{"POST", fmt.Sprintf("/sequences/%d/steps/1/remove", seq), marketing},
		{"POST", fmt.Sprintf("/sequences/%d/undo", seq), marketing},
		{"POST", fmt.Sprintf("/sequences/%d/settings", seq), marketing},
		{"POST", fmt.Sprintf("/sequences/%d/launch", seq), marketing},
		{"POST", fmt.Sprintf("/sequences/%d/hold", seq), marketing}, {"POST", "/sequences/hold-all", marketing},
		{"POST", "/content/messages/new", marketing}, {"POST", "/content/messages/1", marketing},
		{"POST", "/content/messages/1/test", marketing}, {"GET", "/content/groups/new", marketing},
		{"POST", "/content/emails/new", marketing}, {"POST", "/content/emails/1/launch", marketing},
		{"POST", "/content/emails/1/stop", marketing}, {"POST", "/content/mailboxes/1", "lead admin"},
		{"POST", "/content/mailboxes/open", "lead admin"}, {"POST", "/content/mailboxes/1/server", "lead admin"},
		{"POST", "/content/shelf/new", marketing}, {"POST", "/content/upload", marketing},
		{"POST", "/content/sites", marketing}, {"POST", "/content/groups/new", marketing},
		{"POST", "/content/pages/new", marketing}, {"POST", "/content/pages/1", marketing},
		{"POST", "/content/pages/1/place", marketing}, {"POST", "/content/pages/1/remove", marketing},
		{"POST", "/scoring", marketing}, {"POST", "/people/1/hand-over", marketing},
		{"POST", "/touches/1/resolve", marketing},
		{"POST", "/people/export?form=csv", marketing}, {"POST", "/people/bulk", marketing}, {"GET", "/people/new", all},
		{"POST", "/people", all}, {"POST", "/people/1/field", all}, {"POST", "/people/1/mark", marketing},
		{"POST", "/people/1/notes", all}, {"POST", "/people/1/notes/1/remove", all},
		{"POST", "/people/1/changes/1/undo", marketing}, {"GET", "/people/1/everything", marketing},
		{"POST", "/people/1/erase", "lead admin"},
		{"POST", "/people/companies/1", all}, {"GET", "/people/audiences/new", marketing},
		{"POST", "/people/audiences/new", marketing}, {"POST", "/people/audiences/1/edit", marketing},
		{"POST", "/people/audiences/1/remove", marketing},
		{"POST", "/people/audiences/1/export", marketing}, {"POST", "/people/tags", marketing},
		{"POST", "/people/tags/1", marketing}, {"POST", "/people/tags/1/merge", marketing},
		{"POST", "/people/tags/clean", marketing},
		{"POST", "/people/fields", marketing}, {"POST", "/people/fields/1", marketing},
		{"POST", "/people/purposes", marketing}, {"GET", "/people/imports", marketing},
		{"POST", "/people/imports", marketing}, {"GET", "/people/imports/1", marketing},
		{"POST", "/people/imports/1", marketing}, {"POST", "/people/imports/1/start", marketing},
		{"GET", "/people/imports/1/to-mend.csv", marketing}, {"GET", "/people/work", marketing},
		{"POST", "/people/work/1/stop", marketing},
		{"POST", "/people/work/1/undo", marketing}, {"GET", "/people/doubles", marketing},
		{"GET", "/people/merge", marketing}, {"POST", "/people/merge", marketing},
		{"POST", "/people/not-double", marketing},
		{"POST", "/desk/calls/1", sales}, {"POST", "/desk/handoffs/1/accept", sales},
		{"POST", "/desk/handoffs/1/send-back", sales}, {"POST", "/pipeline/1/move", sales},
		{"POST", "/pipeline/1/amount", sales},
		{"POST", "/desk/handoffs/1/back", sales}, {"GET", "/sequences/hold-all", marketing},
		{"POST", "/sequences/hold-all/1/undo", marketing},
		{"GET", fmt.Sprintf("/sequences/%d/launch", seq), marketing}, {"POST", "/sequences/999/copy", marketing},
		{"GET", "/sequences/999/end", marketing},
		{"POST", "/sequences/999/end", marketing}, {"POST", "/sequences/999/remove", marketing},
		{"POST", "/sequences/999/back", marketing},
		{"POST", "/settings", "admin"}, {"POST", "/settings/mail", "admin"}, {"POST", "/settings/mail/test", "admin"},
		{"POST", "/settings/people", "admin"},
		{"POST", "/settings/people/999", "admin"}, {"POST", "/settings/people/999/leave", "admin"},
		{"POST", "/settings/people/invitations/1/remove", "admin"},
		{"POST", "/settings/stages", "lead admin"}, {"POST", "/settings/stages/999", "lead admin"},
		{"POST", "/settings/stages/999/move", "lead admin"},
		{"POST", "/settings/stages/999/remove", "lead admin"}, {"POST", "/settings/stages/usual", "lead admin"},
		{"POST", "/settings/grounds", "lead admin"},
		{"POST", "/settings/grounds/remove", "lead admin"}, {"POST", "/scoring/usual", marketing},
	} {
		for _, role := range []string{"marketer", "rep", "lead", "admin"} {
			res, _ := as[role].do(c.method, c.path, url.Values{})
			may := strings.Contains(c.may, role)
			if refused := res.StatusCode == http.StatusForbidden; refused == may {
				t.Errorf("%s %s as %s: %s", c.method, c.path, role, res.Status)
			}
		}
		if res, _ := x.visitor().do(c.method, c.path, url.Values{}); res.StatusCode != http.StatusUnauthorized &&
			res.StatusCode != http.StatusSeeOther {
			t.Errorf("%s %s as a stranger: %s", c.method, c.path, res.Status)
		}
	}
}

func TestOtherSitesCannotAct(t *testing.T) {
	x := newSite(t)
	for _, from := range []string{"cross-site", "same-site", ""} { // the last is an old browser without a token
		v := x.visitor().signIn("admin")
		v.from = from
		if res, _ := v.do("POST", "/sequences", url.Values{"name": {"Forged"}}); res.StatusCode < 400 {
			t.Errorf("from %q: %s", from, res.Status)
		}
	}
	list, err := x.s.Sequences(t.Context())
	if err != nil || len(list) != 0 {
		t.Errorf("%d sequences were forged, %v", len(list), err)
	}
}

// TestAnOldBrowserUsesTheToken signs in and acts without Sec-Fetch-Site, by the token in the form.
func TestAnOldBrowserUsesTheToken(t *testing.T) {
	v := newSite(t).visitor()
	v.from = ""
	token := func(path string) string {
		_, body := v.do("GET", path, nil)
		m := regexp.MustCompile(`name="csrf" content="([^"]+)"`).FindStringSubmatch(body)
		if m == nil {
			t.Fatalf("%s has no token", path)
		}
		return m[1]
	}
	res, _ := v.do("POST", "/sign-in",
		url.Values{"email": {"admin@karang.example"}, "password": {"correct horse"}, "_csrf": {token("/sign-in")}})
	if res.StatusCode != http.StatusSeeOther {
		t.Fatalf("signing in: %s", res.Status)
	}
	if res, _ := v.do("POST", "/sequences",
		url.Values{"name": {"Mine"}, "_csrf": {token("/sequences")}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("acting: %s", res.Status)
	}
}

func TestHeaders(t *testing.T) {
	v := newSite(t).visitor()
	res, body := v.do("GET", "/sign-in", nil)
	csp := res.Header.Get("Content-Security-Policy")
	if !strings.Contains(csp, "script-src 'self';") || strings.Contains(csp, "unsafe-eval") {
		t.Errorf("content security policy %q", csp)
	}
	for name, want := range map[string]string{"X-Content-Type-Options": "nosniff", "X-Frame-Options": "SAMEORIGIN",
		"Referrer-Policy": "same-origin"} {
		if got := res.Header.Get(name); got != want {
			t.Errorf("%s: %q", name, got)
		}
	}
	if regexp.MustCompile(`(?i)<script(>|[^>]*[^c"]>[^<])|\son[a-z]+=`).MatchString(body) {
		t.Error("the page has a script or handler of its own")
	}
	v.signIn("lead")
	for _, k := range v.c.Jar.Cookies(mustURL(t, v.srv.URL)) {
		if k.Name == "ombak" && k.Value == "" {
			t.Error("no session cookie")
		}
	}
	if res, _ := v.do("GET", "/today", nil); res.Header.Get("Cache-Control") != "no-store" {
		t.Errorf("a page about people may be kept: %q", res.Header.Get("Cache-Control"))
	}
}

func mustURL(t *testing.T, s string) *url.URL {
	u, err := url.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return u
}

func TestEveryPlaceAnswers(t *testing.T) {
	x := newSite(t)
	for _, role := range []string{"marketer", "rep", "lead", "admin"} {
		v := x.visitor().signIn(role)
		for _, path := range []string{"/today", "/people", "/people/count", "/people/companies", "/people/audiences",
			"/people/tags", "/people/values?field=country", "/content", "/sequences", "/scoring", "/scoring/fit",
			"/desk", "/pipeline", "/find", "/find?q=a"} {
			res, body := v.do("GET", path, nil)
			if res.StatusCode != http.StatusOK || strings.Contains(body, "<no value>") {
				t.Errorf("%s as %s: %s", path, role, res.Status)
			}
		}
	}
	v := x.visitor().signIn("admin")
	for _, path := range []string{"/content/emails", "/content/mailboxes", "/content/shelf", "/content/shelf/new",
		"/content/sites", "/people/new", "/content/groups", "/content/groups/new", "/signature",
		"/people/audiences/new", "/people/audiences/new?kind=hand", "/people/imports", "/people/work",
		"/people/doubles", "/people?rule={}", "/people?text=a&order=name&col=tags&col=email"} {
		if res, body := v.do("GET", path, nil); res.StatusCode != http.StatusOK ||
			strings.Contains(body, "<no value>") {
			t.Errorf("%s: %s", path, res.Status)
		}
	}
	for _, path := range []string{"/people/1", "/people/companies/9", "/people/audiences/9", "/people/imports/9",
		"/people/work/9", "/people/merge?keep=1&gone=1", "/people/values?field=shoe", "/people/x", "/people/-1",
		"/sequences/9", "/content/messages/9", "/content/emails/9", "/content/shelf/9", "/s/9", "/s/9/file",
		"/content/emails/9/people?which=sent", "/content/emails/9/reach", "/content/pages/9", "/nowhere", "/p/none",
		"/g/none", "/l/1/1/x", "/o/1/x.gif", "/h/1/x", "/u/1/x", "/o/1/x"} {
		res, body := v.do("GET", path, nil)
		if res.StatusCode != http.StatusNotFound || !strings.Contains(body, "There is nothing here") {
			t.Errorf("%s: %s", path, res.Status)
		}
	}
	if res, body := v.do("GET", "/readyz", nil); res.StatusCode != http.StatusOK || body != "ready\n" {
		t.Errorf("/readyz: %s %q", res.Status, body)
	}
	if res, _ := v.do("GET", "/metrics", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("the figures are open to everybody: %s", res.Status)
	}
	w := httptest.NewRecorder()
	x.x.Metrics().ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
	if !strings.Contains(w.Body.String(), "ombak_http_request_seconds_count") {
		t.Error("no requests are counted")
	}
}

// newPage keeps a page.
func (x *site) newPage(slug string, published bool, doc page.Document) int64 {
	x.t.Helper()
	var id int64
	x.must(x.s.InTx(x.t.Context(), func(tx store.Tx) (err error) {
		id, err = tx.SavePage(x.t.Context(),
			store.Page{Slug: slug, Doc: store.JSON[page.Document]{V: doc}, Published: published}, nil, now)
		return err
	}))
	return id
}

func TestPublicPageIsSafe(t *testing.T) {
	x := newSite(t)
	x.newPage("guide", true, page.New("Guide", "<p>Read.</p>", "Send"))
	x.newPage("hidden", false, page.New("Hidden", "<p>Read.</p>", "Send"))
	// One that came there before files were checked.
	if _, err := x.s.DB().ExecContext(t.Context(),
		"update page set file = '<script>alert(1)</script>', file_name = 'x.html', file_type = 'text/html; "+
			"charset=utf-8' where slug = 'guide'"); err != nil {
		t.Fatal(err)
	}
	v := x.visitor()
	if res, _ := v.do("GET", "/p/hidden", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("a page that is not published: %s", res.Status)
	}
	res, _ := v.do("GET", "/g/guide", nil)
	if res.StatusCode != http.StatusSeeOther || res.Header.Get("Location") != "/p/guide" {
		t.Errorf("the file without the form: %s", res.Status)
	}
	res, _ = v.do("GET", x.e.WithPass("/g/guide", time.Hour), nil)
	if !strings.HasPrefix(res.Header.Get("Content-Disposition"), "attachment") ||
		!strings.Contains(res.Header.Get("Content-Security-Policy"), "sandbox") {
		t.Errorf("a page of HTML that was uploaded is shown: %v", res.Header)
	}
	evil := `"><script>alert(1)</script>`
	res, body := v.do("POST", "/p/guide", url.Values{"f-first-name": {evil}, "f-email": {"x"}})
	if res.StatusCode != http.StatusUnprocessableEntity || strings.Contains(body, "<script>alert") {
		t.Errorf("%s, script in the page: %v", res.Status, strings.Contains(body, "<script>alert"))
	}
	for _, form := range []url.Values{
		{"f-first-name": {strings.Repeat("x", 4000)}, "f-last-name": {"x"}, "f-company": {"x"},
			"f-email": {"a@b.example"}},
		{"f-first-name": {"a"}, "f-last-name": {"x"}, "f-company": {"x"},
			"f-email": {"a@b.example\r\nBcc: c@d.example"}},
	} {
		if res, _ := v.do("POST", "/p/guide", form); res.StatusCode != http.StatusUnprocessableEntity {
			t.Errorf("%.60v: %s", form, res.Status)
		}
	}
	good := url.Values{"f-first-name": {"Ana"}, "f-last-name": {"Strand"}, "f-company": {"Fjord"},
		"f-email": {"ana@fjord.example"}}
	trap := url.Values{"website": {"http://spam.example"}}
	for k, w := range good {
		trap[k] = w
	}
	v.do("POST", "/p/guide", trap)
	if _, err := x.s.PersonByEmail(t.Context(), "ana@fjord.example"); !store.IsNotFound(err) {
		t.Errorf("who fills in what no person sees became a person: %v", err)
	}
	v.do("POST", "/p/guide", good)
	if p, err := x.s.PersonByEmail(t.Context(), "ana@fjord.example"); err != nil || p.Company != "Fjord" {
		t.Errorf("%+v, %v", p, err)
	}
}

// TestTheStylesheetIsFresh fails where templates or styles have changed since scripts/assets built app.css.
func TestTheStylesheetIsFresh(t *testing.T) {
	files, err := filepath.Glob("*/templates/*.html")
	if err != nil || len(files) == 0 {
		t.Fatal("no templates", err)
	}
	sort.Strings(files)
	styles, err := filepath.Glob("assets/src/styles/*.css")
	if err != nil || len(styles) == 0 {
		t.Fatal("no styles", err)
	}
	h := sha256.New()
	for _, f := range slices.Concat([]string{"assets/src/app.css"}, styles, files) {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		h.Write(b)
	}
	want := "/* made from " + hex.EncodeToString(h.Sum(nil))[:16] + " */"
	css, err := os.ReadFile("assets/dist/app.css")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(css), want) {
		t.Error("assets/dist/app.css is older than what it is made from: run scripts/assets")
	}
	for _, name := range []string{"app.js", "map.js", "board.js"} {
		src, err1 := os.ReadFile("assets/src/" + name)
		dist, err2 := os.ReadFile("assets/dist/" + name)
		if err1 != nil || err2 != nil || string(src) != string(dist) {
			t.Errorf("assets/dist/%s is not assets/src/%s: run scripts/assets", name, name)
		}
	}
}
