package web

import (
	"fmt"
	"html"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
	"ombak/internal/web/shell"
)

// Where there are many people, the editors of rules answer with what can be reckoned, and fetch the count.
func TestRulesOverMany(t *testing.T) {
	x := newSite(t)
	m := x.visitor().signIn("marketer")
	x.meet(store.NewPerson{First: "Ana", Last: "Berg", Email: "ana@fjord.example", Country: "NO"})
	form := url.Values{"editor": {"1"}, "j.r": {"all"}, "k.r.0": {"field country"}, "s.r.0": {"field country"},
		"o.r.0": {"is"}, "v.r.0": {"Norway"}}
	editor := "/people/audiences/new?" + form.Encode()
	if _, body := m.do("GET", editor, nil); !strings.Contains(asRead(body), "1 person now") ||
		!strings.Contains(body, "Ana Berg") || strings.Contains(body, "may be a minute old") {
		t.Fatalf("of few people it is not told at once who that would be: %.3000s", body)
	}
	x.meet(store.NewPerson{First: "Bo", Last: "Lind", Email: "bo@loch.example", Country: "IE"})
	form.Set("v.r.0", "Ireland")
	editor = "/people/audiences/new?" + form.Encode()
	x.exec("update pg_class set reltuples = 50000 where oid = 'person'::regclass")
	fetched := regexp.MustCompile(`hx-get="(/people/(?:audiences/who|count)\?[^"]*)" hx-trigger="load"`)
	later := func(page string) string {
		t.Helper()
		res, body := m.do("GET", page, nil)
		to := fetched.FindStringSubmatch(body)
		if to == nil || !strings.Contains(strings.ToLower(asRead(body)), "about ") {
			t.Fatalf("%s: %s: nothing is reckoned, or the count is not fetched: %.3000s", page, res.Status, body)
		}
		_, body = m.do("GET", html.UnescapeString(to[1]), nil)
		return asRead(body)
	}
	if body := later(editor); !strings.Contains(body, "1 person now") || !strings.Contains(body, "Bo Lind") {
		t.Errorf("it is not told who that would be: %s", body)
	}
	form.Set("v.r.0", "Chile")
	if body := later("/content/groups/new?" + form.Encode()); !strings.Contains(body, "<b>0</b> people") {
		t.Errorf("a group's readers: %s", body)
	}
	// What was counted is known for a minute.
	if _, body := m.do("GET", "/content/groups/new?"+form.Encode(), nil); fetched.MatchString(body) ||
		!strings.Contains(asRead(body), "<b>0</b> people now") || !strings.Contains(body, "may be a minute old") {
		t.Error("it is counted again, or it is not said how old figures may be")
	}
}

// What waits of the background work is on a page for admins, and in the figures for Prometheus.
func TestBackgroundWork(t *testing.T) {
	x := newSite(t)
	p := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	x.exec(fmt.Sprintf("insert into handoff (person_id, rep_id, state, made_by, how, brief, made_at, clock_from, "+
		"clock_due) values (%d, %d, 'open', 'hand', '', '{}', '%[3]s', '%[3]s', '%[4]s')", p, x.userOf("rep"),
		now.AddDate(0, 0, -4).Format("2006-01-02 15:04:05Z07:00"),
		now.AddDate(0, 0, -3).Format("2006-01-02 15:04:05Z07:00")))
	admin := x.visitor().signIn("admin")
	res, body := admin.do("GET", "/settings/work", nil)
	for _, want := range []string{"Nobody is at work", "Response clocks that have run out", "3 days",
		"1 kind of work is more than a minute behind"} {
		if !strings.Contains(asRead(body), want) {
			t.Errorf("%s: it does not say %q", res.Status, want)
		}
	}
	if _, body := admin.do("GET", "/settings", nil); !strings.Contains(body, `href="/settings/work"`) {
		t.Error("no way leads an admin there")
	}
	if _, body := x.visitor().signIn("rep").do("GET", "/settings", nil); strings.Contains(body, `href="/settings/work"`) {
		t.Error("a way leads a rep where they may not go")
	}
	w, err := x.s.NewWorker(t.Context(), now)
	x.must(err)
	defer w.Close()
	if _, body := admin.do("GET", "/settings/work", nil); !strings.Contains(asRead(body), "1 worker is at work") {
		t.Error("a worker is not seen")
	}
	to := httptest.NewRecorder()
	x.x.Metrics().ServeHTTP(to, httptest.NewRequest("GET", "/metrics", nil))
	for _, want := range []string{`ombak_work_waiting{work="clocks"} 1`, `ombak_work_lag_seconds{work="clocks"} 259200`,
		`ombak_work_waiting{work="walking"} 0`, "ombak_workers 1"} {
		if !strings.Contains(to.Body.String(), want) {
			t.Errorf("Prometheus is not told %s", want)
		}
	}
}

// All that happened with somebody can be gone through, part by part, each moment once and the newest first.
func TestTimelineInParts(t *testing.T) {
	x := newSite(t)
	p := x.meet(store.NewPerson{First: "Ana", Last: "Berg", Email: "ana@fjord.example"})
	const n = 450
	var list []store.Signal
	for i := range n { // three at each instant, so that some stand on both sides of a cut
		list = append(list, store.Signal{Person: p, Signal: signal.Signal{Kind: signal.Download,
			At: now.Add(-time.Duration(i/3) * time.Hour)}, Detail: fmt.Sprint("file ", i)})
	}
	x.must(x.s.InTx(t.Context(), func(tx store.Tx) error { return tx.AddSignals(t.Context(), list) }))
	m := x.visitor().signIn("rep")
	told := regexp.MustCompile(`file (\d+)<`)
	next := regexp.MustCompile(`hx-get="(/people/\d+/timeline[^"]*)"`)
	seen, last, parts := map[string]bool{}, -1, 0
	for path := fmt.Sprintf("/people/%d", p); path != ""; parts++ {
		res, body := m.do("GET", path, nil)
		if res.StatusCode != http.StatusOK || parts > 20 {
			t.Fatalf("%s: %s", path, res.Status)
		}
		if parts == 0 {
			body = body[strings.Index(body, `<ol class="times">`):]
		}
		for _, f := range told.FindAllStringSubmatch(body, -1) {
			i, err := strconv.Atoi(f[1])
			x.must(err)
			if seen[f[1]] || i/3 < last {
				t.Fatalf("file %d comes twice, or after an older one", i)
			}
			seen[f[1]], last = true, i/3
		}
		path = ""
		if to := next.FindStringSubmatch(body); to != nil {
			path = html.UnescapeString(to[1])
		}
	}
	if len(seen) != n || parts < 5 {
		t.Errorf("%d of %d moments are told, in %d parts", len(seen), n, parts)
	}
	for _, bad := range []string{"", "x", "99999999999999999999", "-9223372036854775808"} {
		if res, _ := m.do("GET", fmt.Sprintf("/people/%d/timeline?before=%s", p, bad), nil); res.StatusCode !=
			http.StatusBadRequest {
			t.Errorf("%q: %s", bad, res.Status)
		}
	}
}

// A list of more things than anybody reads at once shows the first, and the rest on asking.
func TestTheRestOfAList(t *testing.T) {
	x := newSite(t)
	m := x.visitor().signIn("marketer")
	x.exec("insert into audience (name, live, rule, changed_at, created_at, swept_at) " +
		"select 'Group ' || lpad(i::text, 3, '0'), false, '{}', now(), now(), now() from generate_series(1, 130) i")
	if _, body := m.do("GET", "/people/audiences", nil); strings.Count(body, "<tr data-row") != 100 ||
		!strings.Contains(body, "Group 100") || strings.Contains(body, "Group 101") ||
		!strings.Contains(asRead(body), "Show the other 30") {
		t.Errorf("%d of 130 are shown", strings.Count(body, "<tr data-row"))
	}
	_, body := m.do("GET", "/people/audiences?rest=1", nil)
	if strings.Count(body, "<tr data-row") != 130 || strings.Contains(body, "Show the other") ||
		!strings.Contains(body, `name="rest" value="1"`) {
		t.Errorf("%d of 130 are shown", strings.Count(body, "<tr data-row"))
	}
}

// Admins have kept figures held against all they are of, and read what was mended; and set for how long single records
// are kept, which is a change of the settings like others.
func TestFiguresAndRecordsByHand(t *testing.T) {
	x := newSite(t)
	x.exec("insert into tag (name, created_at) values ('x', now())")
	x.exec("insert into kept (of, id, n) values ('tag', 1, 5)")
	admin := x.visitor().signIn("admin")
	page := func() string {
		_, body := admin.do("GET", "/settings/work", nil)
		return asRead(body)
	}
	if !strings.Contains(page(), "That was not done yet") {
		t.Error("it does not say that figures were not held yet")
	}
	if res, _ := admin.do("POST", "/settings/work/figures", url.Values{}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("asking for it answers %s", res.Status)
	}
	if !strings.Contains(page(), "being counted anew now") {
		t.Error("it does not say that figures are being held")
	}
	if n, err := x.e.MendFigures(t.Context()); n != 1 || err != nil {
		t.Errorf("%d lines are mended: %v", n, err)
	}
	if body := page(); !strings.Contains(body, "1 figure was not right, and is mended") ||
		!strings.Contains(body, "number 1: 5 was 0") {
		t.Errorf("it does not say what was mended: %s", body)
	}
	form := url.Values{"visits": {"2"}, "moves": {"0"}, "changes": {"18"}, "browsers": {"0"}}
	res, body := admin.do("POST", "/settings/work/keep", form)
	if res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(body, `value="18" selected`) ||
		!strings.Contains(asRead(body), "3 to 240 months") {
		t.Errorf("two months are answered %s", res.Status)
	}
	form.Set("visits", "6")
	if res, _ := admin.do("POST", "/settings/work/keep", form); res.StatusCode != http.StatusSeeOther {
		t.Errorf("six months are answered %s", res.Status)
	}
	if got := x.e.Workspace().Keep; got != (base.Keeping{Visits: 6, Changes: 18}) {
		t.Errorf("kept is %+v", got)
	}
	// Where there is a tablespace, old months of signals can lie in it.
	others, err := x.s.Spaces(t.Context())
	x.must(err)
	if body := page(); len(others) == 0 && !strings.Contains(body, "the database needs a tablespace") {
		t.Errorf("it does not say what setting apart needs: %s", body)
	}
	space, drop := storetest.Space(t, x.s)
	defer drop()
	for _, wrong := range []url.Values{{"apart": {"2"}, "space": {space}}, {"apart": {"6"}, "space": {"nowhere"}},
		{"apart": {"x"}, "space": {space}}} {
		wrong["visits"], wrong["moves"], wrong["changes"], wrong["browsers"] = form["visits"], form["moves"], form["changes"],
			form["browsers"]
		if res, _ := admin.do("POST", "/settings/work/keep", wrong); res.StatusCode != http.StatusUnprocessableEntity {
			t.Errorf("%v is answered %s", wrong, res.Status)
		}
	}
	form.Set("apart", "24")
	form.Set("space", space)
	if res, _ := admin.do("POST", "/settings/work/keep", form); res.StatusCode != http.StatusSeeOther {
		t.Errorf("two years are answered %s", res.Status)
	}
	if got := x.e.Workspace().Keep; got != (base.Keeping{Visits: 6, Changes: 18, Apart: 24, Space: space}) {
		t.Errorf("kept is %+v", got)
	}
	if _, body := admin.do("GET", "/settings/work", nil); !strings.Contains(body, `value="24" selected`) ||
		!strings.Contains(body, `value="`+space+`" selected`) {
		t.Errorf("it does not show where signals lie: %s", body)
	}
	if res, _ := x.visitor().signIn("lead").do("POST", "/settings/work/keep", form); res.StatusCode != http.StatusForbidden {
		t.Errorf("a lead is answered %s", res.Status)
	}
	x.exec("insert into page (slug, title, updated_at, doc) values ('a', 'a', now(), '{}')")
	x.exec(fmt.Sprintf("insert into page_visit (page_id, at) select 1, '%s'::timestamptz - m * interval '1 month' from "+
		"generate_series(1, 12) m", now.Format(time.RFC3339)))
	x.must(x.e.Tidy(t.Context()))
	if g, err := x.s.Page(t.Context(), 1); err != nil || g.Visits != 12 {
		t.Errorf("of 12 visits %d are kept: %v", g.Visits, err)
	}
	var left int
	x.must(x.s.DB().QueryRow("select count(*) from page_visit").Scan(&left))
	if left != 6 {
		t.Errorf("%d single visits are left", left)
	}
}

// What is counted over everybody is counted at the start, where there are many people; where there are few, nothing is.
func TestCountedAtTheStart(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Last: "Berg", Email: "ana@fjord.example"})
	s := New(t.Context(), shell.Config{Store: x.s, Engine: x.e})
	s.Handler()
	asked := func() int {
		ctx, w := store.Watch(t.Context())
		x.must(s.Warm(ctx))
		n, _ := w.Asked()
		return n
	}
	if n := asked(); n > 1 {
		t.Errorf("of few people %d statements are asked", n)
	}
	x.exec("update pg_class set reltuples = 50000 where oid = 'person'::regclass")
	e, err := engine.New(t.Context(), base.Config{Store: x.s, Clock: x.e.Clock, URL: "http://x.example", Domain: "x.example"})
	x.must(err)
	s = New(t.Context(), shell.Config{Store: x.s, Engine: e})
	s.Handler()
	if first, again := asked(), asked(); first < 10 || again > first/2 {
		t.Errorf("of many people %d statements are asked, and then %d", first, again)
	}
	ctx, w := store.Watch(t.Context())
	x.must(s.Rehearse(ctx))
	if n, _ := w.Asked(); n < 100 {
		t.Errorf("pages are read before anybody comes by %d statements", n)
	}
}

// Whom a description is true of is found the same with the page and behind it, in the same columns for whoever looks.
func TestWhoIsFoundBehindThePage(t *testing.T) {
	x := newSite(t)
	for i := range 60 {
		country := []string{"NO", "CA"}[i%2]
		x.meet(store.NewPerson{First: fmt.Sprint("P", i), Last: "Berg", Email: fmt.Sprintf("p%d@fjord.example", i),
			Country: country})
	}
	row := regexp.MustCompile(`(?s)<tr data-row.*?</tr>`)
	name := regexp.MustCompile(`href="(/people/\d+)"`)
	head := regexp.MustCompile(`<th[ >]`)
	for _, role := range []string{"marketer", "rep"} {
		v := x.visitor().signIn(role)
		for rule, want := range map[string]int{
			`{"if":{"field":"country","op":"is","value":"NO"}}`: 30, `{"if":{"field":"country","op":"is","value":"SE"}}`: 0,
			`{"none":[{"if":{"signal":{"kind":5},"op":"at least","n":2,"days":30}}]}`: 50} {
			q := "?rule=" + url.QueryEscape(rule)
			_, page := v.do("GET", "/people"+q, nil)
			if res, _ := v.do("GET", "/people/found"+q, nil); res.StatusCode != http.StatusSeeOther {
				t.Errorf("somebody who opens it is answered %s", res.Status)
			}
			res, found := v.behind("/people/found" + q)
			if res.StatusCode != http.StatusOK || strings.Contains(found, "<html") {
				t.Fatalf("who is found is answered %s: %s", res.Status, found)
			}
			rows := row.FindAllString(found, -1)
			if len(rows) != want || !slices.Equal(rows, row.FindAllString(page, -1)) {
				t.Errorf("%s, as a %s: %d are found, want %d, and with the page %d", rule, role, len(rows), want,
					len(row.FindAllString(page, -1)))
			}
			if want == 0 && !strings.Contains(found, "Nobody fits this description") {
				t.Errorf("nobody is answered %s", found)
			}
			if want > 0 && (len(name.FindAllString(rows[0], -1)) == 0 ||
				len(head.FindAllString(found, -1)) != strings.Count(rows[0], "<td")) {
				t.Errorf("as a %s, the heads are not those of %s", role, rows[0])
			}
		}
	}
}

// behind asks for what a page that is there asks for.
func (v *visitor) behind(path string) (*http.Response, string) {
	v.htmx = true
	defer func() { v.htmx = false }()
	return v.do("GET", path, nil)
}
