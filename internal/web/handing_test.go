package web

import (
	"fmt"
	"html"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/right"
	"ombak/internal/store"
	"ombak/internal/web/formtest"
)

// second is the page of an answer.
func second(_ *http.Response, body string) string { return body }

// userOf is the first user of a role.
func (x *site) userOf(role right.Role) int64 {
	list, err := x.s.Users(x.t.Context())
	x.must(err)
	for _, u := range list {
		if u.Role == role {
			return u.ID
		}
	}
	x.t.Fatalf("nobody is a %s", role)
	return 0
}

// A lead says who gets whom, why people are sent back and how many turns somebody has; an admin winds the clock; a rep
// sends back as a reason says, and everybody sees what became of it.
func TestHandingOverByForm(t *testing.T) {
	x := newSite(t)
	x.scored()
	rep := x.userOf(right.Rep)
	lead, admin, seller := x.visitor().signIn("lead"), x.visitor().signIn("admin"), x.visitor().signIn("rep")
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Country: "NO"})

	form := url.Values{"name": {"Nordics"}, "to": {fmt.Sprintf("user %d", rep)}, "j.r": {"all"},
		"s.r.0": {"field country"}, "k.r.0": {"field country"}, "o.r.0": {"is"}, "v.r.0": {"Norway"}, "do": {"save"}}
	for want, change := range map[string][2]string{"has a name": {"name", ""}, "a rep’s or a team’s": {"to", ""},
		"needs a condition": {"s.r.0", ""}} {
		bad := url.Values{}
		for k, v := range form {
			bad[k] = v
		}
		bad.Set(change[0], change[1])
		if res, body := lead.do("POST", "/settings/handing/territories/new", bad); res.StatusCode !=
			http.StatusUnprocessableEntity || !strings.Contains(html.UnescapeString(body), want) {
			t.Errorf("%s: %s", want, res.Status)
		}
	}
	if _, body := lead.do("GET", "/settings/handing/territories/new?"+form.Encode(), nil); !strings.Contains(body,
		"<b>1</b> person now") || !strings.Contains(body, `value="score"`) || strings.Contains(body, `value="signal`) {
		t.Error("whose it would be is not counted, or it cannot ask for the score, or it can for what they did")
	}
	if res, _ := lead.do("POST", "/settings/handing/territories/new", form); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("a territory: %s", res.Status)
	}
	if _, body := seller.do("GET", "/settings/handing", nil); !strings.Contains(body, "country is Norway") ||
		strings.Contains(body, "territories/new") {
		t.Error("a rep does not see the territory, or could make one")
	}
	if _, body := seller.do("GET", fmt.Sprintf("/people/%d/hand-over", ana), nil); !strings.Contains(
		html.UnescapeString(body), "has the territory “Nordics”") {
		t.Error("who would get her is not told")
	}
	lead.do("POST", "/settings/handing/turns", url.Values{fmt.Sprintf("turns.%d", rep): {"3"}})
	if u, err := x.s.User(t.Context(), rep); err != nil || u.Weight != 3 {
		t.Errorf("turns: %+v, %v", u, err)
	}
	if res, _ := lead.do("POST", "/settings/handing/turns", url.Values{fmt.Sprintf("turns.%d", rep): {"many"}}); res.
		StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("many turns: %s", res.Status)
	}
	lead.do("POST", "/settings/handing/reasons", url.Values{"name": {"too early"}, "cool": {"20"}, "on": {"nowhere"}})
	if res, body := lead.do("POST", "/settings/handing/reasons", url.Values{"name": {"as typed"}, "cool": {"soon"}}); res.
		StatusCode != http.StatusUnprocessableEntity || !strings.Contains(body, "0 to 366") ||
		!strings.Contains(body, `value="as typed"`) {
		t.Errorf("a cool-off of soon, with what was typed: %s", res.Status)
	}
	// Two tabs on one territory, and on the turns: the second is told, and nothing is lost.
	for address, change := range map[string][2]string{"/settings/handing/territories/1": {"name", ""},
		"/settings/handing": {fmt.Sprintf("turns.%d", rep), "/turns"}} {
		_, body := lead.do("GET", address, nil)
		if change[1] != "" { // the form is one of several on its page
			_, body, _ = strings.Cut(body, `action="/settings/handing/turns"`)
			body = "<form " + body
		}
		a, b := formtest.Sent(t, body), formtest.Sent(t, body)
		a.Set(change[0], "4")
		b.Set(change[0], "5")
		a.Set("do", "save")
		b.Set("do", "save")
		if res, _ := lead.do("POST", address+change[1], a); res.StatusCode != http.StatusSeeOther {
			t.Errorf("%s, the first tab: %s", address, res.Status)
		}
		res, body := lead.do("POST", address+change[1], b)
		if res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(body, "Somebody else has changed this") ||
			!strings.Contains(body, `value="5"`) {
			t.Errorf("%s, the second tab: %s", address, res.Status)
		}
		if change[1] != "" {
			_, body, _ = strings.Cut(body, `action="/settings/handing/turns"`)
			body = "<form " + body
		}
		b = formtest.Sent(t, body)
		b.Set("do", "save")
		if res, _ := lead.do("POST", address+change[1], b); res.StatusCode != http.StatusSeeOther {
			t.Errorf("%s, the second tab once more: %s", address, res.Status)
		}
	}
	lead.do("POST", "/settings/handing/turns", url.Values{fmt.Sprintf("turns.%d", rep): {"3"}})
	if _, body := lead.do("GET", "/settings/handing/territories/1", nil); !strings.Contains(body, `value="5"`) {
		t.Error("the second tab is not kept")
	}
	territory := formtest.Sent(t, second(lead.do("GET", "/settings/handing/territories/1", nil)))
	territory.Set("name", "Nordics")
	territory.Set("do", "save")
	lead.do("POST", "/settings/handing/territories/1", territory)
	if _, body := admin.do("GET", "/settings/changes", nil); !strings.Contains(html.UnescapeString(body),
		"erritory “Nordics”") {
		t.Error("the changes of handing over are not among those of the settings")
	}
	if res, _ := admin.do("POST", "/settings/handing", url.Values{"respond": {"3"}, "remind": {"no"}, "lead": {"2"},
		"next": {"5"}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("the clock: %s", res.Status)
	}
	if w := x.e.Workspace(); w.RespondIn != 3 || !w.Silent || w.TellLead != 2 || w.OfferNext != 5 {
		t.Errorf("the clock is %+v", w)
	}
	if res, _ := admin.do("POST", "/settings/handing", url.Values{"respond": {"3"}, "lead": {"99"}}); res.StatusCode !=
		http.StatusUnprocessableEntity {
		t.Errorf("a lead told after 99 hours: %s", res.Status)
	}

	x.must(x.e.HandOver(t.Context(), ana))
	list, err := x.s.HandoffsOf(t.Context(), store.Of(ana))
	x.must(err)
	at := fmt.Sprintf("/desk/handoffs/%d/send-back", list[0].ID)
	if _, body := seller.do("GET", "/desk", nil); !strings.Contains(html.UnescapeString(body), `value="too early"`) ||
		!strings.Contains(html.UnescapeString(body), "has the territory “Nordics”") {
		t.Error("the reasons, or why it came here, are not there")
	}
	seller.do("POST", at, url.Values{"reason": {"too early"}, "cool": {"long"}})
	if list, err = x.s.HandoffsOf(t.Context(), store.Of(ana)); err != nil || list[0].State != "open" {
		t.Errorf("a cool-off of long was taken: %+v, %v", list, err)
	}
	seller.do("POST", at, url.Values{"reason": {"Too early"}})
	list, err = x.s.HandoffsOf(t.Context(), store.Of(ana))
	x.must(err)
	if list[0].State != "sent back" || list[0].Cool == nil || list[0].Cool.Sub(x.e.Now()).Hours() < 19*24 {
		t.Errorf("sent back: %+v", list[0])
	}
	_, body := lead.do("GET", "/pipeline/handoffs?is=sent+back&all=1", nil)
	if !strings.Contains(body, "Ana Strand") || !strings.Contains(body, "Too early 1") {
		t.Error("what became of her is not told")
	}
	if res, _ := lead.do("GET", "/pipeline/handoffs?by=moon", nil); res.StatusCode != http.StatusBadRequest {
		t.Errorf("by the moon: %s", res.Status)
	}
	bo := x.meet(store.NewPerson{First: "Bo", Email: "bo@x.example"})
	if res, _ := seller.do("POST", fmt.Sprintf("/people/%d/ask", bo), nil); res.Header.Get("Location") !=
		"/desk?kind=handoff" {
		t.Errorf("asked for: %s", res.Header.Get("Location"))
	}
	// What is removed can be brought back at once.
	reasons, err := x.s.BackReasons(t.Context())
	x.must(err)
	gone := fmt.Sprintf("/settings/handing/reasons/%d/remove", reasons[0].ID)
	lead.do("POST", gone, nil)
	if reasons, err = x.s.BackReasons(t.Context()); err != nil || len(reasons) != 0 {
		t.Errorf("a removed reason: %+v, %v", reasons, err)
	}
	lead.do("POST", gone+"?back=1", nil)
	if reasons, err = x.s.BackReasons(t.Context()); err != nil || len(reasons) != 1 {
		t.Errorf("brought back: %+v, %v", reasons, err)
	}
}
