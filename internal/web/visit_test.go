package web

import (
	"fmt"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strings"
	"testing"

	"ombak/internal/core/page"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/web/formtest"
)

// beacon sends a page view as the snippet does.
func (v *visitor) beacon(origin, body string, head ...string) int {
	v.t.Helper()
	req, err := http.NewRequest("POST", v.srv.URL+"/v", strings.NewReader(body))
	if err != nil {
		v.t.Fatal(err)
	}
	req.Header.Set("User-Agent", "Mozilla/5.0 a test")
	req.Header.Set("Content-Type", "text/plain;charset=UTF-8")
	req.Header.Set("Origin", origin)
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	for i := 0; i+1 < len(head); i += 2 {
		req.Header.Set(head[i], head[i+1])
	}
	res, err := v.c.Do(req)
	if err != nil {
		v.t.Fatal(err)
	}
	res.Body.Close()
	return res.StatusCode
}

// TestVisitsOfOurSite: views are kept for nobody until the browser is known; by
// a link in an email, or by a form, they become the person's, the earlier ones
// too. Global Privacy Control is honoured (its specification: Sec-GPC: 1).
func TestVisitsOfOurSite(t *testing.T) {
	x := newSite(t)
	x.scored()
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	const site, browser = "https://karang.example", "abcdef0123456789abcdef01"
	m := x.visitor().signIn("marketer")
	m.do("POST", "/content/sites", url.Values{"origin": {"javascript:x"}})
	if _, body := m.do("GET", "/content/sites", nil); !strings.Contains(body, "A site is an address") {
		t.Error("what is no site was added, or refused without a word")
	}
	m.do("POST", "/content/sites", url.Values{"origin": {site + "/some/page"}})
	if _, body := m.do("GET", "/content/sites",
		nil); !regexp.MustCompile(regexp.QuoteMeta(site)+`\s*</div>`).MatchString(body) ||
		!strings.Contains(body, "/v.js") {
		t.Error("the site is not listed")
	}
	v := x.visitor()
	view := func(path, token string) string {
		return fmt.Sprintf(`{"v":%q,"u":%q,"k":%q}`, browser, site+path, token)
	}
	count := func() int {
		t.Helper()
		list, err := x.s.PersonSignals(t.Context(), ana)
		x.must(err)
		n := 0
		for _, s := range list {
			if s.Kind == signal.PageView {
				n++
			}
		}
		return n
	}
	for i, c := range []struct {
		origin, body string
		head         []string
		want         int
	}{
		{site, view("/a", ""), nil, 204}, {site, view("/b#part", ""), nil, 204},
		{site, view("/hidden", ""), []string{"Sec-GPC", "1"}, 204}, // kept nowhere
		{"https://elsewhere.example", view("/a", ""), nil, 403},
		{site, `{"v":"x","u":"https://karang.example/"}`, nil, 400},
		{site, `{"v":"abcdef0123456789","u":"https://elsewhere.example/"}`, nil, 400},
		{site, `not json`, nil, 400}, {site, view("/"+strings.Repeat("x", 3000), ""), nil, 400},
		{site, strings.Repeat("x", 100_000), nil, 400},
	} {
		if got := v.beacon(c.origin, c.body, c.head...); got != c.want {
			t.Errorf("view %d: %d, want %d", i, got, c.want)
		}
	}
	if count() != 0 {
		t.Error("views are somebody's before anybody is known")
	}
	for _, bad := range []string{"1.1.x", fmt.Sprintf("%d.%d.forged", ana, now.Unix()), "x"} {
		v.beacon(site, view("/c", bad))
	}
	if count() != 0 {
		t.Error("a made-up token was believed")
	}
	v.beacon(site, view("/d?ombak_v=secret&x=1", x.e.VisitToken(ana)))
	if got := count(); got != 6 { // two, three with bad tokens, and this one
		t.Errorf("carried over and new: %d views", got)
	}
	line, err := x.s.Timeline(t.Context(), store.Of(ana))
	x.must(err)
	said := ""
	for _, s := range line {
		said += s.Detail + " "
	}
	if strings.Contains(said, "hidden") || strings.Contains(said, "secret") || !strings.Contains(said, site+"/d?x=1") ||
		!strings.Contains(said, site+"/b ") {
		t.Errorf("the views: %s", said)
	}
	v.beacon(site, view("/e", ""))
	if count() != 7 {
		t.Error("the browser is not known any more")
	}

	// Another browser, that comes to a form of ours.
	id := x.newPage("alarms", true, page.New("Alarms", "<p>Read.</p>", "Send"))
	other := strings.Replace(view("/f", ""), browser, "0123456789abcdef01234567", 1)
	v.beacon(site, other)
	_, body := v.do("GET", "/p/alarms?ombak_visitor=0123456789abcdef01234567", nil)
	form := formtest.Sent(t, body)
	form.Set("f-first-name", "Bo")
	form.Set("f-last-name", "Vik")
	form.Set("f-company", "Fjord")
	form.Set("f-email", "bo@fjord.example")
	if res, _ := v.do("POST", "/p/alarms", form); res.StatusCode != http.StatusOK {
		t.Fatalf("the form of page %d: %s", id, res.Status)
	}
	bo, err := x.s.PersonByEmail(t.Context(), "bo@fjord.example")
	x.must(err)
	line, err = x.s.Timeline(t.Context(), store.Of(bo.ID))
	x.must(err)
	found := false
	for _, s := range line {
		found = found || s.Detail == site+"/f"
	}
	if !found {
		t.Error("what was viewed before the form is not theirs")
	}
	if n, err := x.s.ForgetVisitors(t.Context(), now.AddDate(0, 0, 1)); err != nil || n != 0 {
		t.Errorf("%d browsers of people were forgotten, %v", n, err)
	}

	res, script := v.do("GET", "/v.js", nil)
	if res.StatusCode != http.StatusOK || len(script) >= 3000 || !strings.Contains(script, "globalPrivacyControl") ||
		res.Header.Get("Cross-Origin-Resource-Policy") != "cross-origin" {
		t.Errorf("the snippet: %s, %d bytes", res.Status, len(script))
	}
	if src, err := os.ReadFile("assets/src/visit.js"); err != nil || string(src) != script {
		t.Errorf("the snippet is not what it is made from: %v", err)
	}
	m.do("POST", "/content/sites", url.Values{"origin": {site}, "do": {"remove"}})
	if got := v.beacon(site, view("/g", "")); got != 403 {
		t.Errorf("a site that was removed: %d", got)
	}
}
