package browser_test

import (
	"strings"
	"testing"
)

// An admin sets what holds for everybody, each once, in the browser, and takes the last back; what was
// changed is listed with who did it.
func TestSettingsByHand(t *testing.T) {
	h := open(t)
	h.signsIn("Wira Sandoval", "wira.sandoval@karang.example")
	set := func(selector, value string) {
		t.Helper()
		h.must(h.tab.Run(`(() => { const x = document.querySelector('` + selector + `'); x.value = '` + value + `';
			x.dispatchEvent(new Event('input', {bubbles: true})); x.dispatchEvent(new Event('change', {bubbles: true})); })()`))
	}
	value := func(selector string) string {
		t.Helper()
		v, err := h.tab.Eval(`document.querySelector('` + selector + `').value`)
		h.must(err)
		return v
	}
	save := func(form string) {
		t.Helper()
		h.must(h.tab.Run(`document.querySelector('` + form + ` .btn.main').click()`))
		h.must(h.tab.See("Saved."))
	}
	for _, c := range []struct{ page, form, field, to string }{
		{"/settings", `form[action="/settings"]`, "name", "Karang and Sons"},
		{"/settings", `form[action="/settings"]`, "from", "07:30"},
		{"/settings", `form[action="/settings"]`, "currency", "USD"},
		{"/settings/hours", `form[action="/settings/hours"]`, "answer", "6"},
		{"/settings/handing", `form[action="/settings/handing"]`, "respond", "8"},
		{"/settings/handing", `form[action="/settings/handing"]`, "next", "3"},
		{"/settings/hours", `form[action="/settings/hours"]`, "pool", "45"},
		{"/settings/hours", `form[action="/settings/hours"]`, "rest", "5"},
		{"/settings/people/1/hours", `form[action="/settings/people/1/hours"]`, "away", "25 Dec 2026"},
		{"/settings/people/1/hours", `form[action="/settings/people/1/hours"]`, "most.call", "25"},
	} {
		h.goes(c.page)
		field := c.form + ` [name="` + c.field + `"]`
		set(field, c.to)
		save(c.form)
		h.goes(c.page)
		if got := value(field); got != c.to {
			t.Errorf("%s, %s is %q, want %q", c.page, c.field, got, c.to)
		}
	}
	// A team, a holiday and a stage are added; the stage is taken back at once by a key.
	h.goes("/settings/teams")
	set(`form[action="/settings/teams"] [name=name]`, "North")
	h.must(h.tab.Run(`document.querySelector('form[action="/settings/teams"]').requestSubmit()`))
	h.sees("North")
	h.goes("/settings/holidays?country=NO")
	set(`form[action="/settings/holidays"] [name=dates]`, "17 May 2027")
	h.must(h.tab.Run(`document.querySelector('form[action="/settings/holidays"]').requestSubmit()`))
	h.sees("17 May 2027")
	h.goes("/settings/stages")
	set(`form[action="/settings/stages"] [name=name]`, "Second talk")
	set(`form[action="/settings/stages"] [name=share]`, "15")
	h.must(h.tab.Run(`document.querySelector('form[action="/settings/stages"]').requestSubmit()`))
	h.sees("Saved.", "Second talk")
	h.must(h.tab.Until("the keys to act", `document.readyState === 'complete'`))
	h.key("u")
	h.must(h.tab.Until("the stage to be gone", `!document.body.innerText.includes('Second talk')`))
	h.goes("/settings/changes")
	h.sees("Wira Sandoval", "The stages of the pipeline", "taken back", "The workspace", "North")
	text, err := h.tab.Text()
	h.must(err)
	if n := strings.Count(text, "The workspace"); n < 7 {
		t.Errorf("%d changes of the workspace are listed, of seven", n)
	}
}
