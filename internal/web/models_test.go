package web

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/act"
	"ombak/internal/core/message"
	"ombak/internal/store"
)

// TestSeveralModelsByForm begins a second model, changes it in every room of its own, lets it count, finds it where
// people are shown and asked for, and removes it.
func TestSeveralModelsByForm(t *testing.T) {
	x := newSite(t)
	x.scored()
	ana := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Country: "NO"})
	v := x.visitor().signIn("marketer")
	post := func(to string, form url.Values, code int) (*http.Response, string) {
		t.Helper()
		res, body := v.do("POST", to, form)
		if res.StatusCode != code {
			t.Fatalf("POST %s: %s", to, res.Status)
		}
		return res, body
	}
	if _, body := v.do("GET", "/people/1", nil); strings.Contains(body, "By which model") {
		t.Error("of one model there is one to choose")
	}
	res, _ := post("/scoring/models", url.Values{"name": {"Loans <b>"}, "like": {"0"}}, http.StatusSeeOther)
	var id int64
	if _, err := fmt.Sscanf(res.Header.Get("Location"), "/scoring?model=%d", &id); err != nil {
		t.Fatalf("it leads to %s", res.Header.Get("Location"))
	}
	rooms := []string{"", "/fit", "/draft", "/figures", "/versions", "/lifted"}
	of := fmt.Sprintf("?model=%d", id)
	for _, room := range rooms {
		_, body := v.do("GET", "/scoring"+room+of, nil)
		if !strings.Contains(body, "Loans &lt;b&gt;") || strings.Contains(body, "Loans <b>") ||
			!strings.Contains(body, `href="/scoring/fit`+of+`"`) {
			t.Errorf("the room %s does not say whose it is", room)
		}
		for _, form := range strings.Split(body, "<form")[1:] { // whatever is sent from its rooms is about it
			form, _, _ = strings.Cut(form, "</form>")
			if strings.Contains(form, `action="/scoring`) && !strings.Contains(form, `action="/scoring/usual"`) &&
				!strings.Contains(form, fmt.Sprintf(`name="model" value="%d"`, id)) {
				t.Errorf("a form of the room %s is about the first model: %.90s", room, form)
			}
		}
		if _, body := v.do("GET", "/scoring"+room, nil); strings.Contains(body, `name="model"`) {
			t.Errorf("the room %s of the first is not its", room)
		}
	}
	m, err := x.s.ModelOf(t.Context(), id)
	x.must(err)
	form := url.Values{"model": {fmt.Sprint(id)}, "since": {fmt.Sprint(m.DraftChanges)}, "do": {"save"}, "line": {"5"},
		"gn.0": {"All"}, "p.0": {"5"}, "s.0": {"0"}, "g.0": {"0"}, "j.c0": {"all"}, "s.c0.0": {"field country"},
		"k.c0.0": {"field country"}, "o.c0.0": {"is"}, "v.c0.0": {"Norway"}}
	purposes, err := x.s.Purposes(t.Context())
	x.must(err)
	message := x.message()
	for k, val := range map[string]string{"fl.0": "at", "fa.0": "3", "act_do": "write", "act_of": "0", "act_to": "0",
		"act_what": fmt.Sprint(message), "act_field": fmt.Sprint(purposes[0].ID)} {
		form.Set(k, val)
	}
	form.Set("act_field", "")
	if _, body := post("/scoring", form, http.StatusUnprocessableEntity); !strings.Contains(body, "choose the purpose") &&
		!strings.Contains(body, "Choose the purpose") {
		t.Error("who is written to has not to agree")
	}
	form.Set("act_field", fmt.Sprint(purposes[0].ID))
	if res, _ := post("/scoring", form, http.StatusSeeOther); res.Header.Get("Location") != "/scoring"+of {
		t.Errorf("kept, and on to %s", res.Header.Get("Location"))
	}
	if m, err = x.s.ModelOf(t.Context(), id); err != nil || m.Draft == nil || len(m.Draft.Rules) != 1 || m.Draft.Line != 5 {
		t.Fatalf("the draft is %+v, %v", m.Draft, err)
	}
	write := act.Kept{Act: act.Write{Message: message, Purpose: purposes[0].ID}}
	if len(m.Draft.Follows) != 1 || m.Draft.Follows[0].At != 3 || m.Draft.Follows[0].Acts[0] != write {
		t.Errorf("what follows is %+v", m.Draft.Follows)
	}
	if _, body := v.do("GET", "/scoring"+of, nil); !strings.Contains(body, "who agreed to") {
		t.Error("the form does not say what follows")
	}
	over := url.Values{"model": {fmt.Sprint(id)}, "since": {fmt.Sprint(m.DraftChanges)}}
	post("/scoring/draft/over", over, http.StatusSeeOther)
	if _, err := x.e.CountBatch(t.Context(), 100); err != nil {
		t.Fatal(err)
	}
	if _, body := v.do("GET", "/scoring/models", nil); !strings.Contains(body, "version 1") ||
		!strings.Contains(body, "whose score is meant where none is named") {
		t.Error("the list of models lacks something")
	}
	person := fmt.Sprintf("/people/%d", ana)
	if _, body := v.do("GET", person, nil); !strings.Contains(body, "By which model") ||
		!strings.Contains(body, "Loans &lt;b&gt;") || strings.Contains(body, "country is Norway") {
		t.Error("their page does not tell the models apart")
	}
	if _, body := v.do("GET", person+of, nil); !strings.Contains(body, "country is Norway") {
		t.Error("their page does not show the ledger by the second")
	}
	ask := url.Values{"j.r": {"all"}, "s.r.0": {"points"}, "k.r.0": {"points"}, "o.r.0": {"at least"}, "n.r.0": {"5"},
		"x.r.0": {fmt.Sprintf("%d/1", id)}}
	if _, body := v.do("GET", "/people?"+ask.Encode(), nil); !strings.Contains(body, "Strand") {
		t.Error("nobody is found by what one rule gives")
	}

	// What cannot be is said, and changes nothing.
	for to, bad := range map[string]url.Values{"/scoring/models": {"name": {"loans <B>"}},
		"/scoring/models/1/name":   {"name": {""}},
		"/scoring/models/1/remove": {"sure": {"1"}}, fmt.Sprintf("/scoring/models/%d/remove", id): {}} {
		post(to, bad, http.StatusSeeOther)
	}
	if list, err := x.s.Models(t.Context()); err != nil || len(list) != 2 || list[0].Name == "" {
		t.Errorf("there are %+v, %v", list, err)
	}
	for _, room := range rooms {
		if res, _ := v.do("GET", "/scoring"+room+"?model=99", nil); res.StatusCode != http.StatusNotFound {
			t.Errorf("the room %s of a model that is not there: %s", room, res.Status)
		}
	}
	post(fmt.Sprintf("/scoring/models/%d/name", id), url.Values{"name": {"Buoy loans"}}, http.StatusSeeOther)
	if _, body := v.do("GET", "/scoring/models", nil); !strings.Contains(body, "Buoy loans") {
		t.Error("it is not called so")
	}
	post(fmt.Sprintf("/scoring/models/%d/remove", id), url.Values{"sure": {"1"}}, http.StatusSeeOther)
	if res, _ := v.do("GET", "/scoring"+of, nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("it is there still: %s", res.Status)
	}
	if _, body := v.do("GET", person+of, nil); strings.Contains(body, "By which model") {
		t.Error("their page shows a model that is gone")
	}
}

// message is a message that can be sent.
func (x *site) message() (id int64) {
	x.t.Helper()
	sender := x.userOf("marketer")
	x.must(x.s.InTx(x.t.Context(), func(tx store.Tx) (err error) {
		id, err = tx.SaveMessage(x.t.Context(), store.Message{Name: "Guide", SenderID: &sender,
			Doc: store.JSON[message.Document]{V: message.Simple("Your guide", "<p>Here.</p>")}}, sender, x.e.Now())
		return err
	}))
	return id
}
