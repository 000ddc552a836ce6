package web

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/store"
	"ombak/internal/web/formtest"
)

// TestAOneOffEmailByForm fills the sentence in, sees who would get it and who
// not, sends it off once, and opens the people behind its figures.
func TestAOneOffEmailByForm(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example", Country: "NO"})
	x.meet(store.NewPerson{First: "Silent", Email: "silent@fjord.example", Country: "NO"})
	users, err := x.s.Users(t.Context())
	x.must(err)
	x.must(x.e.SetConsent(t.Context(), ana, 1, true, "by form", "", users[0].ID))
	a := store.Audience{Name: "Norway", Live: true}
	a.Rule.V = rule.FieldIs(person.Country, "NO")
	aud, err := x.e.SaveAudience(t.Context(), a)
	x.must(err)
	x.settle()
	var msg int64
	x.must(x.s.InTx(t.Context(), func(tx store.Tx) error {
		var err error
		msg, err = tx.SaveMessage(t.Context(),
			store.Message{Name: "News", SenderID: &users[0].ID,
				Doc: store.JSON[message.Document]{V: message.Simple("News",
					`<p><a href="https://karang.example/">look</a></p>`)}}, 0, now)
		return err
	}))
	v := x.visitor().signIn("marketer")
	res, _ := v.do("POST", "/content/emails/new", url.Values{"name": {"May"}})
	at := res.Header.Get("Location")
	_, body := v.do("GET", at, nil)
	if !strings.Contains(body, "Choose a message.") || !strings.Contains(body, `<button class="btn main" disabled`) {
		t.Error("a draft with nothing in it can be sent off")
	}
	form := formtest.Sent(t, body)
	for _, k := range []string{"sure", "_csrf"} {
		form.Del(k)
	}
	form.Set("message", fmt.Sprint(msg))
	form.Set("audience", fmt.Sprint(aud))
	form.Set("purpose", "1")
	form["act_link"], form["act_do"], form["act_what"], form["act_to"] = []string{"1", "1", "1"},
		[]string{"tag", "task", ""}, []string{"keen", "Send the <price> list", ""}, []string{"0", "0", "0"}
	for k, bad := range map[string]string{"rest": "many", "from": "noon", "name": " "} {
		f := url.Values{}
		for a, b := range form {
			f[a] = b
		}
		f.Set(k, bad)
		if res, _ := v.do("POST", at, f); res.StatusCode != http.StatusUnprocessableEntity {
			t.Errorf("%s %q: %s", k, bad, res.Status)
		}
	}
	form.Set("when", "date")
	form.Set("at", now.Add(24*time.Hour).Format("2006-01-02T15:04"))
	if res, _ := v.do("POST", at, form); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("keeping: %s", res.Status)
	}
	_, body = v.do("GET", at, nil)
	again := formtest.Sent(t, body)
	for _, k := range []string{"message", "audience", "purpose", "when", "at", "rest", "from", "to", "act_do",
		"act_what"} {
		if again.Get(k) != form.Get(k) {
			t.Errorf("%s was kept as %q, not %q", k, again.Get(k), form.Get(k))
		}
	}
	if _, body := v.do("GET", at+"/reach", nil); !strings.Contains(body, "<b>1</b> of 2 people") ||
		!strings.Contains(body, "no consent") {
		t.Errorf("who gets it: %s", body)
	}
	v.do("POST", at+"/launch", url.Values{})
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "Tick that you have seen") {
		t.Error("it goes without a look at who gets it")
	}
	_, body = v.do("GET", at, nil)
	seen := formtest.Sent(t, body).Get("seen")
	x.exec("update audience set live = not live") // for somebody else than was looked at
	v.do("POST", at+"/launch", url.Values{"sure": {"1"}, "seen": {seen}})
	if _, body := v.do("GET", at, nil); len(seen) != 64 || !strings.Contains(body, "Nothing was sent") {
		t.Errorf("it goes to others than were looked at: %q %.1500s", seen, body)
	}
	x.exec("update audience set live = not live")
	v.do("POST", at+"/launch", url.Values{"sure": {"1"}, "seen": {seen}})
	for {
		did, err := x.e.FillMailings(t.Context())
		x.must(err)
		if !did {
			break
		}
	}
	_, body = v.do("GET", at, nil)
	if !strings.Contains(body, "on its way") || !strings.Contains(body, "which=waiting\"><b>1</b>") ||
		!strings.Contains(body, "no consent") {
		t.Errorf("launched: %s", body)
	}
	v.do("POST", at+"/launch", url.Values{"sure": {"1"}})
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "nobody gets it twice") {
		t.Error("a second launch says nothing")
	}
	if res, _ := v.do("POST", at, form); res.StatusCode != http.StatusSeeOther {
		t.Errorf("editing what was launched: %s", res.Status)
	}
	for which, want := range map[string]string{"waiting": "ana@fjord.example",
		"left+no+consent": "silent@fjord.example", "opened": "Nobody fits this description"} {
		res, _ := v.do("GET", at+"/people?which="+which, nil) // leads to a list of people like any other
		if _, body := v.do("GET", res.Header.Get("Location"), nil); !strings.Contains(body, want) {
			t.Errorf("behind %s is not %s", which, want)
		}
	}
	if res, _ := v.do("GET", at+"/people?which=shoes", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("an unknown figure: %s", res.Status)
	}
	v.do("POST", at+"/hold", url.Values{"do": {"hold"}})
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "held") || !strings.Contains(body, "Go on") {
		t.Error("it is not held")
	}
	v.do("POST", at+"/stop", url.Values{})
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "1 had not gone out, and do not") ||
		!strings.Contains(body, "taken back before it went") {
		t.Error("it is not stopped, or does not say so")
	}
	v.do("POST", at+"/remove", url.Values{})
	if _, body := v.do("GET", "/content/emails", nil); !strings.Contains(body, ">May</a>") {
		t.Error("results went with a press")
	}
	v.do("POST", at+"/clean", url.Values{})
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "No address bounced") {
		t.Error("cleaning nothing says nothing")
	}
}
