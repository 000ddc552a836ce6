package web

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"ombak/internal/core/pipeline"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// wrote has somebody of the rep's write, and answers the letter's number in addresses.
func (x *site) wrote(first, said string) string {
	x.t.Helper()
	id := x.meet(store.NewPerson{First: first, Email: strings.ToLower(first) + "@fjord.example", Country: "NO"})
	x.must(x.e.Receive(x.t.Context(), mail.Received{ID: first + "@fjord.example", From: strings.ToLower(first) + "@fjord.example",
		Subject: "About {{ the }} <b>sensor</b>", Said: said, Text: said}))
	list, err := x.s.IncomingOf(x.t.Context(), store.Of(id))
	x.must(err)
	return fmt.Sprint(list[0].ID)
}

// An answer is read, written back to with a snippet, and sorted; what leads to the suggestion is
// marked, and what somebody else wrote is shown as what it is.
func TestAnAnswerIsSorted(t *testing.T) {
	x := newSite(t)
	_, err := x.s.AddStage(t.Context(), pipeline.Stage{Name: "First talk"})
	x.must(err)
	v := x.visitor().signIn("rep")
	v.follow("/desk/snippets", url.Values{"name": {"Thanks"}, "body": {"Thank you, {{ person.first_name }}."}, "whose": {"all"}})
	if page := v.follow("/desk/snippets", url.Values{"name": {"Bad"}, "body": {"{{ nothing.there }}"}}); !strings.Contains(page, "nothing.there") ||
		!strings.Contains(page, "What you wrote is still here") {
		t.Error("a snippet with a field that is none is kept, or lost")
	}
	id := x.wrote("Ana", "Well <script>alert(1)</script> I am interested & curious")
	page := v.follow("/desk?item=answer-"+id, nil)
	for _, want := range []string{"<mark>interested</mark>", "&lt;script&gt;", "Perhaps <b>interested</b>", "anybody may have written it",
		"Put a snippet in", "About {{ the }} &lt;b&gt;"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	_, field := v.do("POST", "/desk/answers/"+id+"/snippet", url.Values{"text": {"Hello"}, "snippet": {"1"}})
	if !strings.Contains(field, "Hello\n\nThank you, Ana.") {
		t.Errorf("with a snippet the field is %q", field)
	}
	once := amid(page, `name="once" value="`, `"`)
	// What cannot be sorted keeps what was typed.
	res, page := v.do("POST", "/desk/answers/"+id, url.Values{"as": {"not now"}, "until": {"someday"}, "text": {"We will <wait>"}, "once": {once}})
	if res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(page, "We will &lt;wait&gt;") ||
		!strings.Contains(page, `value="someday"`) || !strings.Contains(page, once) {
		t.Errorf("it answers %s, and has lost what was typed", res.Status)
	}
	if res, page = v.do("POST", "/desk/answers/"+id+"/write", url.Values{"text": {" "}, "once": {once}}); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("nothing is sent: %s", res.Status)
	}
	page = v.follow("/desk/answers/"+id, url.Values{"as": {"interested"}, "then": {"deal"}, "text": {"We call you"}, "once": {once}, "desk": {"kind=answer"}})
	if !strings.Contains(page, "Sorted: interested. What you wrote is on its way.") {
		t.Errorf("it is not sorted: %s", amid(page, `class="note`, "</p>"))
	}
	if page = v.follow("/desk/answers/"+id+"/back", url.Values{}); !strings.Contains(page, "It is back on the desk") ||
		!strings.Contains(page, "We call you") {
		t.Error("it is not taken back, or what was sent does not stand in the thread")
	}
	if res, _ := x.visitor().signIn("marketer").do("POST", "/desk/answers/"+id, url.Values{"as": {"interested"}}); res.StatusCode != http.StatusForbidden {
		t.Errorf("a marketer sorts it: %s", res.Status)
	}
	if page = v.follow("/letters/"+id+"/sort", url.Values{"theirs": {"no"}}); strings.Contains(page, "answer-"+id) {
		t.Error("somebody else wrote it, and it lies on the desk still")
	}
	if res, _ := v.do("POST", "/desk/answers/"+id, url.Values{"as": {"interested"}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("what is sorted is sorted again: %s", res.Status)
	}
}

// The rules of suggestions are read by all and changed by those who lead; a text is tried with them.
func TestSuggestionsAreChanged(t *testing.T) {
	x := newSite(t)
	lead, rep := x.visitor().signIn("lead"), x.visitor().signIn("rep")
	if res, _ := rep.do("POST", "/desk/suggestions", url.Values{"phrases.interested": {"kelp"}}); res.StatusCode != http.StatusForbidden {
		t.Errorf("a rep changes them: %s", res.Status)
	}
	lead.follow("/desk/suggestions", url.Values{"phrases.interested": {"kelp … farm\r\n  "}})
	if page := rep.follow("/desk/suggestions?try=The+Kelp+big+farm", nil); !strings.Contains(page, "Suggests <b>interested</b>, because of “Kelp big farm”") {
		t.Errorf("what was added does not lead to it: %s", amid(page, "Suggests", "</p>"))
	}
	if page := rep.follow("/desk/suggestions?try=unsubscribe", nil); !strings.Contains(page, "Suggests nothing") {
		t.Error("what was taken away leads to it still")
	}
	res, page := lead.do("POST", "/desk/suggestions", url.Values{"phrases.interested": {"… farm"}})
	if res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(page, "begins and ends with a word") || !strings.Contains(page, "… farm") {
		t.Errorf("a phrase that is none: %s", res.Status)
	}
	admin := x.visitor().signIn("admin")
	if page := admin.follow("/settings/changes", nil); !strings.Contains(page, "What leads to the suggestions") {
		t.Error("the change is not listed")
	}
	admin.follow("/settings/changes/1/undo", url.Values{})
	if page := rep.follow("/desk/suggestions?try=unsubscribe", nil); !strings.Contains(page, "Suggests <b>opted out") {
		t.Error("taken back, they are not as they were")
	}
}

// amid is what stands in a text between two others.
func amid(text, from, to string) string {
	_, rest, _ := strings.Cut(text, from)
	found, _, _ := strings.Cut(rest, to)
	return found
}
