package browser_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/standin/website"
	"ombak/internal/store"
)

// TestFromTheCompanysSite looks at the company's own site before and after agreeing to be noted, asks there for the
// guide, and is then one person with all that was looked at; on the next visit the form asks one thing more.
func TestFromTheCompanysSite(t *testing.T) {
	h := open(t)
	l := listen(t)
	site := "http://" + l.Addr().String()
	srv := &http.Server{Handler: website.Handler(h.url)}
	go srv.Serve(l)
	t.Cleanup(func() { srv.Close() })
	h.must(h.d.Engine.AddSite(t.Context(), site))
	doc := page.New("Is your oxygen alarm the right one?", "<p>Read.</p>", "Send me the guide").WithLadder(person.Title,
		person.Seniority)
	doc.Form.To = site + "/buoys" // back to where they came from
	h.must(h.s.InTx(t.Context(), func(tx store.Tx) error {
		_, err := tx.SavePage(t.Context(),
			store.Page{Slug: "oxygen-alarms", Doc: store.JSON[page.Document]{V: doc}, Published: true}, nil,
			h.d.Clock.Now())
		return err
	}))
	noted := func() int {
		var n int
		h.must(h.s.DB().QueryRow(
			"select (select count(*) from visit) + (select count(*) from signal where kind = 1)").Scan(&n))
		return n
	}
	goes := func(path string) { t.Helper(); h.must(h.tab.Go(site + path)) }

	goes("/buoys")
	h.sees("Moored by two people in an hour", "May we note which of our pages")
	if n := noted(); n != 0 {
		t.Errorf("%d views were noted before anybody agreed", n)
	}
	h.presses("Yes, you may")
	h.must(h.tab.Until("the question to go", `document.querySelector('.ask').hidden`))
	goes("/a-night-without-oxygen")
	h.must(h.tab.Until("what was agreed to be kept", `localStorage.getItem('ombak_visitor')?.length > 15`))
	h.must(h.until("both pages to be noted", func() bool { return noted() == 2 }))

	// The form stands in the site, as high as it needs to be, with no bar to scroll.
	goes("/contact")
	h.must(h.tab.Until("the form in its place", `document.querySelector('iframe')?.offsetHeight > 430`))
	h.must(h.until("the third page to be noted", func() bool { return noted() == 3 }))
	src, err := h.tab.Eval(`document.querySelector('iframe').src`)
	h.must(err)
	if !strings.Contains(src, "ombak_visitor=") || !strings.Contains(src, "on=http") {
		t.Errorf("the form is shown from %s", src)
	}

	// By the link in the text, to the page itself.
	goes("/a-night-without-oxygen")
	h.presses("field guide")
	h.sees("Is your oxygen alarm the right one?", "Title if you like")
	h.types(`input[name=f-first-name]`, "Ana")
	h.types(`input[name=f-last-name]`, "Strand")
	h.types(`input[name=f-company]`, "Fjord Farms")
	h.types(`input[name=f-email]`, "ana@fjord.example")
	h.types(`input[name=f-title]`, "Fish health")
	h.presses("Send me the guide")
	h.sees("Moored by two people in an hour")
	h.goes("/p/oxygen-alarms")
	h.sees("Good to see you again", "Seniority if you like")
	if v, err := h.tab.Eval(`[...document.querySelectorAll('form [name^=f-]')].map(e => e.name + '=' + e.value).join()`); err != nil || v != "f-email=,f-seniority=" {
		t.Errorf("the second time it asks for %s, %v", v, err)
	}

	h.signsIn("Ines Radu")
	h.goes("/people?text=fjord")
	h.presses("Ana Strand")
	h.sees("Fish health", fmt.Sprintf("Viewed a page: %s/buoys", site), fmt.Sprintf("Viewed a page: %s/contact", site),
		"website")
	h.goes("/content/pages")
	h.sees("Is your oxygen alarm the right one?")
	h.presses("Is your oxygen alarm")
	h.sees("How far they came", "on "+site, "website")
}
