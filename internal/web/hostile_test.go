package web

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/net/http/httpguts"

	"ombak/internal/core/page"
	"ombak/internal/engine/forms"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// Guessing from many places does not lock out whom an account belongs to,
// where they have signed in before.
func TestNobodyLocksTheOwnerOut(t *testing.T) {
	x := newSite(t)
	owner := x.visitor().signIn("lead")
	owner.do("POST", "/sign-out", url.Values{})
	for range 200 { // as strangers from everywhere would leave it
		x.x.Limits.Allow("account", "lead@karang.example", 10*time.Second, 60)
	}
	form := url.Values{"email": {"lead@karang.example"}, "password": {"correct horse"}}
	if res, _ := x.visitor().do("POST", "/sign-in", form); res.StatusCode != http.StatusTooManyRequests {
		t.Errorf("guesses from everywhere are not limited: %s", res.Status)
	}
	if res, _ := owner.do("POST", "/sign-in", form); res.StatusCode != http.StatusSeeOther {
		t.Errorf("the owner is locked out: %s", res.Status)
	}
	// What tells their browser from others opens nothing, and is good for one address.
	token := x.e.BrowserToken("lead@karang.example")
	if x.e.IsBrowserToken("rep@karang.example", token) || x.e.IsBrowserToken("lead@karang.example", token+"x") ||
		x.e.IsBrowserToken("", "") {
		t.Error("a token of one is taken for another's")
	}
}

func TestHTTPS(t *testing.T) {
	x := newSite(t)
	for _, secure := range []bool{false, true} {
		h := New(t.Context(), shell.Config{Store: x.s, Engine: x.e, Secure: secure}).Handler()
		w := httptest.NewRecorder()
		r := httptest.NewRequest("POST", "/sign-in",
			strings.NewReader("email=lead%40karang.example&password=correct+horse"))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		r.Header.Set("Sec-Fetch-Site", "same-origin")
		h.ServeHTTP(w, r)
		if got := w.Header().Get("Strict-Transport-Security") != ""; got != secure {
			t.Errorf("secure %v: %q", secure, w.Header().Get("Strict-Transport-Security"))
		}
		for _, k := range w.Result().Cookies() {
			if k.Secure != secure || !k.HttpOnly {
				t.Errorf("secure %v: the cookie %s is secure %v", secure, k.Name, k.Secure)
			}
		}
	}
}

// Nobody finds a file by counting, nor one behind a form without the form.
func TestFilesWantAPass(t *testing.T) {
	x := newSite(t)
	id, err := x.e.SaveShelfItem(t.Context(), store.ShelfItem{Kind: "file", Title: "Price list", File: "prices.txt"},
		[]byte("12 buoys"), 1)
	x.must(err)
	item := fmt.Sprintf("/s/%d", id)
	stranger := x.visitor()
	for _, path := range []string{item, item + "/file", item + "?k=", item + "?k=1.x",
		item + "/file?k=" + x.e.Pass(item, now.Add(time.Hour)),
		item + "?k=" + x.e.Pass(item, now.Add(-time.Second)),
		item + "?k=99999999999." + strings.SplitN(x.e.Pass(item, now.Add(time.Hour)), ".", 2)[1]} {
		if res, _ := stranger.do("GET", path, nil); res.StatusCode != http.StatusNotFound {
			t.Errorf("%s: %s", path, res.Status)
		}
	}
	res, body := stranger.do("GET", x.e.WithPass(item, time.Hour), nil)
	_, rest, ok := strings.Cut(body, `href="`+item+`/file?k=`)
	if res.StatusCode != http.StatusOK || !ok {
		t.Fatalf("with a pass: %s, a way on %v", res.Status, ok)
	}
	pass, _, _ := strings.Cut(rest, `"`)
	if _, body := stranger.do("GET", item+"/file?k="+pass, nil); body != "12 buoys" {
		t.Errorf("the file is %q", body)
	}
	if _, body := x.visitor().signIn("rep").do("GET", item+"/file", nil); body != "12 buoys" {
		t.Error("whoever works here wants a pass")
	}
	for in, want := range map[string]string{"https://x.example/s/1": "", "//x.example/s/1": "", "/p/guide": "",
		"/s/x": "", "/s/1/file/2": "", "/s/1?a=b#c": "/s/1?a=b&k=", "/g/a-b": "/g/a-b?k="} {
		got := x.e.WithPass(in, time.Hour)
		if want == "" && got != in || want != "" && !strings.HasPrefix(got, want) {
			t.Errorf("%s becomes %s", in, got)
		}
	}
}

// The name of a site goes into a security header as it stands.
func TestNamesOfSites(t *testing.T) {
	x := newSite(t)
	for _, bad := range []string{"https://a.example; script-src *", "https://a.example'unsafe-inline'",
		"https://a.example,b", "https://*.example", "https://a b.example", "https://a.example:port",
		"https://-a.example", "javascript://a", "https://ä.example", "https://a..example",
		"https://" + strings.Repeat("a", 300)} {
		if err := x.e.AddSite(t.Context(), bad); err == nil {
			t.Errorf("%q is a site", bad)
		}
	}
	for in, want := range map[string]string{"https://Karang.example/x": "https://karang.example",
		"http://127.0.0.1:8082": "http://127.0.0.1:8082", "http://localhost": "http://localhost"} {
		if got := forms.Origin(in); got != want {
			t.Errorf("%s: %s", in, got)
		}
	}
	// One that was kept before names were checked.
	x.newPage("guide", true, page.New("Guide", "<p>Read.</p>", "Send"))
	_, err := x.s.DB().ExecContext(t.Context(),
		"insert into site (origin, added_at) values ('https://a.example; script-src *', now()), "+
			"('https://b.example', now())")
	x.must(err)
	res, _ := x.visitor().do("GET", "/p/guide/form", nil)
	if csp := res.Header.Get("Content-Security-Policy"); strings.Contains(csp, "script-src *") ||
		!strings.Contains(csp, "https://b.example") {
		t.Errorf("the policy: %s", csp)
	}
}

// paths are the addresses of all routes, with something in place of each parameter.
func paths(x *site, value string) (out []struct{ method, path string }) {
	for _, r := range x.x.routes.Router().Routes() {
		var b strings.Builder
		for i, part := range strings.Split(r.Path, "/") {
			if i > 0 {
				b.WriteByte('/')
			}
			if strings.HasPrefix(part, ":") || part == "*" {
				part = url.PathEscape(value)
			}
			b.WriteString(part)
		}
		out = append(out, struct{ method, path string }{r.Method, b.String()})
	}
	return out
}

// ask asks for something with a body that need not be a form.
func (v *visitor) ask(method, target, kind, body string) int {
	v.t.Helper()
	req, err := http.NewRequest(method, v.srv.URL+target, strings.NewReader(body))
	if err != nil {
		return 0 // no client could send it
	}
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	req.Header.Set("User-Agent", "Mozilla/5.0 a test")
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	res, err := v.c.Do(req)
	if err != nil {
		v.t.Fatalf("%s %s: %v", method, target, err)
	}
	defer res.Body.Close()
	return res.StatusCode
}

const formKind = "application/x-www-form-urlencoded"

// nasty are bodies that are no form, or one no page of ours could make.
var nasty = sync.OnceValue(func() []struct{ kind, body string } {
	var many strings.Builder
	for i := range 20_000 {
		fmt.Fprintf(&many, "f%d=x&", i)
	}
	return []struct{ kind, body string }{
		{formKind, "a=%zz"}, {formKind, "name=a%00b&text=%00"}, {formKind, "name=%ff%fe"}, {formKind, many.String()},
		{formKind, "rule=" + strings.Repeat("%7B%22all%22%3A%5B", 2000)},
		{formKind, "amount=NaN&n=1e999&points=99999999999999999999&stage=9223372036854775807&id=-1"},
		{"multipart/form-data", "x"}, {"multipart/form-data; boundary=", "x"},
		{"multipart/form-data; boundary=b",
			"--b\r\nContent-Disposition: form-data; name=\"a\"\r\n\r\n\x00\r\n--b--\r\n"},
		{"multipart/form-data; boundary=b", "--b\r\nno header"}, {"nonsense", "x"}, {"; ;", "x"}, {"", "x"},
		{"application/json", "{"}, {formKind, ""},
	}
})

// Whatever anybody sends to any address, it is never our fault (RFC 9110, 15.5).
func TestNothingThatIsSentBreaksAnything(t *testing.T) {
	x := newSite(t)
	x.newPage("guide", true, page.New("Guide", "<p>Read.</p>", "Send"))
	admin, stranger := x.visitor().signIn("admin"), x.visitor()
	for _, value := range []string{"1", "guide", "x\x00y", "99999999999999999999", "\xff", "..", "'\"<"} {
		for _, r := range paths(x, value) {
			if r.path == "/events" || r.path == "/sign-out" {
				continue
			}
			for _, v := range []*visitor{admin, stranger} {
				if value == "1" || value == "guide" {
					if code := v.ask(r.method, r.path+"?text=%zz&n=%00", "", ""); code >= 500 {
						t.Errorf("%s %s with a broken query: %d", r.method, r.path, code)
					}
				}
				if r.method == "GET" || r.method == "HEAD" {
					if code := v.ask(r.method, r.path, "", ""); code >= 500 {
						t.Errorf("%s %s: %d", r.method, r.path, code)
					}
					continue
				}
				if value != "1" && value != "guide" {
					continue
				}
				for _, n := range nasty() {
					code := v.ask(r.method, r.path, n.kind, n.body)
					if code >= 500 {
						t.Errorf("%s %s with %s %.40q: %d", r.method, r.path, n.kind, n.body, code)
					}
					if v == stranger && code == http.StatusUnauthorized && r.path != "/sign-in" {
						break // who sends it is asked before what it is
					}
				}
			}
		}
	}
}

// FuzzRoutes asks for any route with any parameter, query and body.
func FuzzRoutes(f *testing.F) {
	for i, n := range nasty() {
		f.Add(uint16(i*7), "1", "text=a&order=name", n.kind, n.body)
	}
	x := newSite(f)
	admin := x.visitor().signIn("admin")
	f.Fuzz(func(t *testing.T, route uint16, value, query, kind, body string) {
		x.t = t
		all := paths(x, value)
		r := all[int(route)%len(all)]
		if r.path == "/events" || r.path == "/sign-out" || !httpguts.ValidHeaderFieldValue(kind) || len(body) > 20_000 {
			t.Skip()
		}
		if code := admin.ask(r.method, r.path+"?"+url.PathEscape(query), kind, body); code >= 500 {
			t.Errorf("%s %s?%s, %s %q: %d", r.method, r.path, query, kind, body, code)
		}
	})
}
