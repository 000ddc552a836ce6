package web

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/page"
	"ombak/internal/store"
)

// No page shows an error's own words but through Sentence and base.Told, and none
// opens a transaction: what changes something is a use case of the engine. A place
// stands on the shell and never on another place.
func TestWhatPagesLeaveToTheEngine(t *testing.T) {
	files, err := filepath.Glob("*/*.go")
	if err != nil || len(files) < 40 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	shows := regexp.MustCompile(`\b\w*[eE]rr\w*\.Error\(\)`)
	other := regexp.MustCompile(`"ombak/internal/web/(\w+)`)
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		if m := shows.FindString(string(text)); m != "" {
			t.Errorf("%s shows %s", f, m)
		}
		if strings.Contains(string(text), "InTx(") {
			t.Errorf("%s opens a transaction", f)
		}
		for _, m := range other.FindAllStringSubmatch(string(text), -1) {
			if m[1] != "shell" && m[1] != "assets" {
				t.Errorf("%s stands on web/%s", f, m[1])
			}
		}
	}
}

// Where the database fails, the page says so plainly, with a number.
func TestAPageThatFails(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	v := x.visitor().signIn("marketer")
	v.do("POST", "/scheme", url.Values{"scheme": {"dark"}})
	_, err := x.s.DB().ExecContext(t.Context(), "alter table person_tag rename to gone")
	x.must(err)
	res, body := v.do("GET", "/people/1", nil)
	if res.StatusCode != http.StatusInternalServerError || strings.Contains(body, "person_tag") ||
		strings.Contains(body, "SQLSTATE") ||
		!strings.Contains(body, `data-scheme="dark"`) ||
		!regexp.MustCompile(`it is noted as [0-9a-f]{8}\.`).MatchString(body) {
		t.Errorf("it answers %d: %s", res.StatusCode, body)
	}
}

// A page that asks too much of the database ends, and says so; a file takes its
// time.
func TestAPageThatTakesTooLong(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	x.x.Patience = 300 * time.Millisecond
	x.srv.Close()
	x.srv = httptest.NewServer(x.x.Handler())
	v := x.visitor().signIn("marketer")
	_, err := x.s.DB().ExecContext(t.Context(), `alter table person_tag rename to slow;
		create view person_tag as select slow.* from (select pg_sleep(1)) wait, slow`)
	x.must(err)
	if res, body := v.do("GET", "/people/1", nil); res.StatusCode != http.StatusServiceUnavailable ||
		!strings.Contains(body, "This takes too long") {
		t.Errorf("it answers %d: %s", res.StatusCode, body)
	}
	slug := "slow"
	x.newPage(slug, true, page.Document{Title: "Slow"})
	_, err = x.s.DB().ExecContext(t.Context(), `alter table page rename to slow_page;
		create view page as select slow_page.* from (select pg_sleep(1)) wait, slow_page`)
	x.must(err)
	if res, body := x.visitor().do("GET", "/p/"+slug, nil); res.StatusCode != http.StatusServiceUnavailable ||
		!strings.Contains(body, "This takes too long") {
		t.Errorf("a visitor is answered %d: %s", res.StatusCode, body)
	}
	if res, _ := v.do("GET", "/people/1/everything", nil); res.StatusCode != http.StatusOK {
		t.Errorf("a file is cut off: %d", res.StatusCode)
	}
	var still int
	x.must(x.s.DB().QueryRow("select count(*) from pg_stat_activity where query like '%person_tag%' and state = " +
		"'active' and pid <> pg_backend_pid() and datname = current_database()").Scan(&still))
	if still != 0 {
		t.Errorf("%d queries of it go on", still)
	}
}
