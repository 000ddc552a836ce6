package web

import (
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"ombak/internal/store"
)

// The figures of a running map are counted over the days one asks for, and lead to the people of
// those days; a second version says what it changes and lets people go on with it by their step.
func TestFiguresOfAWhileAndASecondVersion(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "NO"})
	d := x.drafting()
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"check"}})
	step := d.draft().Plan.V.Start
	d.post("/insert", url.Values{"from": {fmt.Sprint(step)}, "exit": {"no"}, "kind": {"pause"}})
	pause := d.draft().Plan.V.Step(step).About().To["no"]
	d.post("/insert", url.Values{"from": {fmt.Sprint(step)}, "exit": {"yes"}, "kind": {"hand over"}})
	d.post("/settings", setting("Ways", "rule", "v.r.0", "NO", "ground", "other existing customers"))
	if _, body := d.post("/launch", url.Values{}); !strings.Contains(body, "Launched.") {
		t.Fatal("it is not launched")
	}
	_, err := x.e.Decide(t.Context())
	x.must(err)
	at := fmt.Sprintf("/sequences/%d", d.id)
	today := x.e.Now().In(x.e.Zone())
	for span, n := range map[string]int{"": 1, "span=7&": 1, "span=30&": 1, "span=x&": 1,
		"span=days&from=2019-01-01&to=2019-01-31&": 0, "span=days&from=31.1.&to=&": 1,
		// The wrong way round, it is the same days.
		"span=days&from=" + today.Format("2006-01-02") + "&to=" + today.AddDate(0, 0, -1).Format("2006-01-02") + "&": 1} {
		res, body := d.do("GET", fmt.Sprintf("%s?%sstep=%d", at, span, step), nil)
		_, link, _ := strings.Cut(body, "which=exit+no")
		link, _, _ = strings.Cut(link, "</a>")
		if res.StatusCode != http.StatusOK || !strings.HasSuffix(link, fmt.Sprintf(">%d", n)) {
			t.Errorf("%q: %s, no: %q, want %d", span, res.Status, link, n)
		}
	}
	res, body := d.do("GET", fmt.Sprintf("%s/after?step=%d", at, step), nil)
	if body = asRead(body); res.StatusCode != http.StatusOK || !strings.Contains(body, "<b>Yes</b>: nobody yet.") ||
		!strings.Contains(body, "<b>No</b>: 0 got an email, 0 opened") {
		t.Errorf("what came after each answer: %s %s", res.Status, body)
	}
	for _, bad := range []string{"step=99", "step=x", ""} {
		if res, _ := d.do("GET", at+"/after?"+bad, nil); res.StatusCode != http.StatusNotFound {
			t.Errorf("%q answers %s", bad, res.Status)
		}
	}
	in := fmt.Sprintf("&in=%d-%d", today.AddDate(0, 0, -1).Unix(), today.AddDate(0, 0, 1).Unix())
	for which, want := range map[string]string{"exit+no" + in: "Ana", "exit+yes" + in: "Nobody", "passed" + in: "Ana",
		"passed&in=1-2": "Nobody"} {
		res, _ := d.do("GET", fmt.Sprintf("%s/people?step=%d&which=%s", at, step, which), nil)
		_, body := d.do("GET", res.Header.Get("Location"), nil)
		if has := strings.Contains(body, "ana@fjord.example"); has != (want == "Ana") {
			t.Errorf("%s: Ana is in it: %v", which, has)
		}
	}
	for _, bad := range []string{"in=2-1", "in=x", "in=1-99999999999999999999"} {
		res, _ := d.do("GET", fmt.Sprintf("%s/people?step=%d&which=passed&%s", at, step, bad), nil)
		if res.StatusCode != http.StatusNotFound {
			t.Errorf("%s answers %s", bad, res.Status)
		}
	}

	d.post("/insert", url.Values{"from": {fmt.Sprint(pause)}, "exit": {"next"}, "kind": {"hand over"}})
	if _, body := d.do("GET", at+"?view=draft", nil); !strings.Contains(body, "What this version changes") ||
		!strings.Contains(body, `differs`) {
		t.Error("the draft does not say what it changes")
	}
	if _, body := d.do("GET", at+"/launch", nil); !strings.Contains(body, "1 person is on the way") ||
		!strings.Contains(body, fmt.Sprintf(`value="%d"`, pause)) {
		t.Errorf("the launch does not ask who goes on with it: %.3000s", body)
	}
	versions := func() (out string) {
		x.must(x.s.DB().QueryRow(`select string_agg(v.number::text, ' ') from enrolment e
			join sequence_version v on v.id = e.version_id`).Scan(&out))
		return out
	}
	_, body = d.do("GET", at+"/launch", nil)
	seen := regexp.MustCompile(`name="seen" value="([0-9a-f]{64})"`).FindStringSubmatch(body)
	if seen == nil {
		t.Fatalf("the launch does not say what it is of: %.2000s", body)
	}
	d.post("/insert", url.Values{"from": {fmt.Sprint(pause)}, "exit": {"next"}, "kind": {"pause"}})
	if _, body := d.post("/launch", url.Values{"seen": seen[1:]}); !strings.Contains(body, "Nothing was launched") ||
		!strings.Contains(body, "Launch version 2?") {
		t.Errorf("another draft than was looked at: %.2000s", body)
	}
	d.post("/launch", url.Values{"id": {fmt.Sprint(step), "x", "-9"}})
	if got := versions(); got != "1" {
		t.Errorf("nobody stands at the step that was chosen, and version %s goes on", got)
	}
	d.post("/launch", url.Values{"id": {fmt.Sprint(pause)}})
	if got := versions(); got != "3" {
		t.Errorf("whoever stands at the chosen step goes on with version %s", got)
	}
	if _, body := d.do("GET", fmt.Sprintf("/people/values?field=end+%d", d.id), nil); !strings.Contains(body, `"End"`) {
		t.Errorf("what its ends are called is not offered: %q", body)
	}
	if _, body := d.do("GET", "/people/values?field=end+x", nil); strings.Contains(body, "option") {
		t.Errorf("of no sequence: %q", body)
	}
}
