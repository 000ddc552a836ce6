package web

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"sort"
	"strings"
	"testing"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/store"
)

var rewrite = flag.Bool("rewrite", false, "write testdata/routes.txt anew; look at what has changed")

// furnished is a site with one of everything that a page is about, each number 1.
func furnished(t *testing.T) *site {
	x := newSite(t)
	ctx := t.Context()
	x.scored()
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Company: "Fjord Farms"})
	x.newPage("guide", true, page.New("Guide", "<p>Read.</p>", "Send"))
	x.must(x.s.InTx(ctx, func(tx store.Tx) error {
		_, err := tx.SaveMessage(ctx, store.Message{Name: "Hello", Doc: store.JSON[message.Document]{
			V: message.Simple("Hello", "<p>Hello.</p>")}}, 1, now)
		return err
	}))
	m := x.visitor().signIn("admin")
	for _, f := range []struct {
		path string
		form url.Values
	}{
		{"/sequences", url.Values{"name": {"Guide"}}},
		{"/people/tags", url.Values{"name": {"oxygen"}}},
		{"/people/audiences/new", url.Values{"kind": {"hand"}, "name": {"Friends"}}},
		{"/content/emails/new", nil},
		{"/content/groups/new", url.Values{"name": {"Norwegians"},
			"rule": {`{"if":{"field":"country","op":"is","value":"NO"}}`}}},
		{"/settings/stages/usual", nil},
	} {
		if res, body := m.do("POST", f.path, f.form); res.StatusCode != http.StatusSeeOther {
			t.Fatalf("%s: %s %.300s", f.path, res.Status, body)
		}
	}
	link := map[string]string{"kind": "link", "title": "Limits", "url": "https://karang.example/limits"}
	if res, body := m.put("/content/shelf/new", link, "", nil); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("the shelf: %s %.300s", res.Status, body)
	}
	if res, _ := m.upload("/people/imports", "list.csv", []byte("Email\nbo@fjord.example\n")); res.StatusCode >= 400 {
		t.Fatalf("bringing a list in: %s", res.Status)
	}
	x.must(x.e.HandOver(ctx, ana))
	return x
}

// Every route answers every role, and a stranger, with exactly the status that
// testdata/routes.txt has. A page is asked for with things that are there; what changes
// something, with things that are not, so that it changes nothing.
func TestEveryRouteByEveryRole(t *testing.T) {
	x := furnished(t)
	who := []string{"a stranger", "marketer", "rep", "lead", "admin"}
	visitors := map[string]*visitor{}
	for _, w := range who {
		if visitors[w] = x.visitor(); w != who[0] {
			visitors[w].signIn(w)
		}
	}
	var lines []string
	for _, r := range x.x.routes.Router().Routes() {
		if strings.Contains(r.Path, "sign-out") || r.Path == "/events" || r.Method == echo.RouteNotFound {
			continue // ends what the others need; never ends; is none
		}
		value := "1"
		if r.Method != http.MethodGet {
			value = "999999"
		}
		named := strings.NewReplacer(":slug", "guide", ":token", "none", ":signature", "none", ":picture", "none.gif")
		path := named.Replace(r.Path)
		var parts []string
		for _, part := range strings.Split(path, "/") {
			if strings.HasPrefix(part, ":") || part == "*" {
				part = value
			}
			parts = append(parts, part)
		}
		line := fmt.Sprintf("%-6s %-48s", r.Method, r.Path)
		for _, w := range who {
			var form url.Values
			if r.Method != http.MethodGet {
				form = url.Values{}
			}
			res, _ := visitors[w].do(r.Method, strings.Join(parts, "/"), form)
			line += fmt.Sprintf(" %d", res.StatusCode)
		}
		lines = append(lines, strings.TrimRight(line, " "))
	}
	sort.Strings(lines)
	got := "method path, then the status for " + strings.Join(who, ", ") + "\n" + strings.Join(lines, "\n") + "\n"
	const file = "testdata/routes.txt"
	if *rewrite {
		x.must(os.WriteFile(file, []byte(got), 0o644))
	}
	want, err := os.ReadFile(file)
	x.must(err)
	if got != string(want) {
		known := map[string]bool{}
		for _, l := range strings.Split(string(want), "\n") {
			known[l] = true
		}
		for _, l := range strings.Split(got, "\n") {
			if !known[l] {
				t.Errorf("answered otherwise, or new: %s", l)
			}
		}
		for _, l := range strings.Split(got, "\n") {
			delete(known, l)
		}
		for l := range known {
			t.Errorf("expected, and not so: %s", l)
		}
	}
}
