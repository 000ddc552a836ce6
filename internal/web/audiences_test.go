package web

import (
	"fmt"
	"html"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// TestAListOfAudiences chooses columns, saves a view, takes the list out, and
// does something with those that are ticked.
func TestAListOfAudiences(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "NO"})
	x.meet(store.NewPerson{First: "Bo", Email: "bo@x.example", Country: "CA"})
	add := func(name string, r rule.Rule) int64 {
		t.Helper()
		a := store.Audience{Name: name, Live: r.Asks()}
		a.Rule.V = r
		id, err := x.e.SaveAudience(t.Context(), a)
		x.must(err)
		return id
	}
	norway := add("Norway", rule.FieldIs(person.Country, "NO"))
	canada := add("=Canada", rule.FieldIs(person.Country, "CA"))
	circle := add("Circle", rule.Rule{})
	others := add("Not Norway", rule.Rule{None: []rule.Rule{rule.ThingIs(rule.Audience, norway)}})
	x.settle()
	v := x.visitor().signIn("marketer")
	_, body := v.do("GET", "/people/audiences?col=used&col=joined", nil)
	if !strings.Contains(body, "Joined in 30 days") || strings.Contains(body, "<th>Owner</th>") ||
		!strings.Contains(body,
			fmt.Sprintf(`/people/audiences/%d">Norway</a>`, norway)) ||
		strings.Count(body, `</td><td class="num">1</td><td class="num">1</td>`) != 1 {
		t.Error("the chosen columns are not shown")
	}
	if _, body := v.do("GET", "/people/audiences?kind=idle", nil); strings.Contains(body, `">Norway</a>`) ||
		!strings.Contains(body, `">Circle</a>`) {
		t.Error("those that nothing uses")
	}
	v.do("POST", "/people/views",
		url.Values{"kind": {"audiences"}, "name": {"In use"}, "list": {"kind=live&order=size&nonsense=1"}})
	if _, body := v.do("GET", "/people/audiences?kind=live&order=size", nil); !strings.Contains(body,
		`href="/people/audiences?kind=live&amp;order=size">In use</a>`) {
		t.Error("a saved view is not there")
	}
	if _, body := v.do("GET", "/people", nil); strings.Contains(body, "In use") {
		t.Error("a view of audiences stands over the people")
	}
	if res, body := v.do("GET", "/people/audiences/export?form=csv&kind=live&order=name",
		nil); res.StatusCode != http.StatusOK ||
		!strings.Contains(body, "'=Canada,,Everybody whose country is Canada,1,1,0,0") ||
		strings.Contains(body, "Circle") {
		t.Errorf("as a file: %s %q", res.Status, body)
	}
	bulk := func(do string, more url.Values, ids ...int64) (*http.Response, string) {
		form := url.Values{"do": {do}}
		for k, val := range more {
			form[k] = val
		}
		for _, id := range ids {
			form.Add("id", fmt.Sprint(id))
		}
		res, _ := v.do("POST", "/people/audiences/bulk", form)
		_, body := v.do("GET", "/people/audiences", nil)
		return res, body
	}
	res, _ := bulk("people", nil, canada, circle)
	if _, body := v.do("GET", res.Header.Get("Location"), nil); !strings.Contains(body, "bo@x.example") ||
		strings.Contains(body, "ana@fjord.example") {
		t.Error("ticked audiences do not lead to their people")
	}
	users, err := x.s.Users(t.Context())
	x.must(err)
	if _, body := bulk("owner", url.Values{"owner": {fmt.Sprint(users[0].ID)}}, norway, canada); strings.Count(body,
		"<td class=\"\">"+users[0].Name+"</td>") != 2 {
		t.Error("two have no other owner")
	}
	if _, body := bulk("owner", url.Values{"owner": {"0"}}); !strings.Contains(body, "Tick an audience first") {
		t.Error("nothing ticked says nothing")
	}
	if _, body := bulk("remove", nil, circle); !strings.Contains(body, "“Circle” may go") {
		t.Error("one goes without being asked for")
	}
	sure := url.Values{"sure": {"1"}}
	if _, body := bulk("remove", sure, norway); !strings.Contains(body, "In use, and so still here: “Norway”") {
		t.Error("one that another asks for goes, or silently stays")
	}
	if _, body := bulk("remove", sure, norway, circle, others); strings.Contains(body, `">Norway</a>`) ||
		!strings.Contains(body, `=Canada</a>`) || !strings.Contains(body, "3 gone") {
		t.Error("three that ask for each other do not go together")
	}
	if res, _ := x.visitor().signIn("rep").do("POST", "/people/audiences/bulk",
		url.Values{"do": {"remove"}}); res.StatusCode != http.StatusForbidden {
		t.Errorf("a rep removes audiences: %s", res.Status)
	}
	if res, _ := v.do("POST", "/people/audiences/bulk",
		url.Values{"do": {"x"}, "everybody": {"1"}}); res.StatusCode != http.StatusBadRequest {
		t.Errorf("something unknown: %s", res.Status)
	}
}

// TestLinksKeepWhatIsShown follows the links of filtered lists: each leads to
// what the list is about, and not to everything.
func TestLinksKeepWhatIsShown(t *testing.T) {
	x := newSite(t)
	x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Company: "Fjord & Sons = one",
		Domain: "fjord.example", Country: "NO"})
	x.meet(store.NewPerson{First: "Bo", Email: "bo@x.example", Company: "Cliff", Domain: "x.example", Country: "CA"})
	_, err := x.e.SaveAudience(t.Context(), store.Audience{Name: "Circle"})
	x.must(err)
	v := x.visitor().signIn("marketer")
	norway := shell.ListQuery{Rule: rule.FieldIs(person.Country, "NO"), Order: store.ByName,
		Columns: []string{"email", "city"}}.Values().Encode()
	link := regexp.MustCompile(`(?:href|hx-get)="([^"]*\?[^"]*)"`)
	for _, c := range []struct{ kind, path, query string }{{"", "/people", norway},
		{"companies", "/people/companies", "text=fjord+%26&order=size"},
		{"audiences", "/people/audiences", "kind=idle&text=a+%26+b%3D"}} {
		if res, _ := v.do("POST", "/people/views",
			url.Values{"name": {"Mine"}, "list": {c.query}, "kind": {c.kind}}); res.StatusCode != http.StatusSeeOther {
			t.Fatalf("saving a view of %s: %s", c.path, res.Status)
		}
		_, body := v.do("GET", c.path+"?"+c.query, nil)
		want, err := url.ParseQuery(c.query)
		x.must(err)
		kept := 0
		for _, m := range link.FindAllStringSubmatch(body, -1) {
			u := mustURL(t, html.UnescapeString(m[1]))
			got := u.Query()
			for k := range got {
				if strings.ContainsAny(k, "=&") {
					t.Errorf("%s leads to %s, which asks for nothing", c.path, u)
				}
			}
			got.Del("form")
			if got.Encode() == want.Encode() {
				kept++
			}
		}
		if kept < 3 {
			t.Errorf("%s has %d links that keep what it shows; saved view and files alone are more", c.path, kept)
		}
	}
	_, body := v.do("GET", "/people?"+norway, nil)
	at := regexp.MustCompile(`action="(/people/export\?[^"]*)"`).FindStringSubmatch(body)
	if at == nil {
		t.Fatal("no link to a file")
	}
	if _, file := v.do("POST", html.UnescapeString(at[1]), url.Values{"form": {"csv"}}); !strings.Contains(file, "ana@fjord.example") ||
		strings.Contains(file, "bo@x.example") {
		t.Errorf("the file is of others than the list: %s", file)
	}
}
