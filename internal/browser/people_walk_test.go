package browser_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// brings chooses a file and has it looked at.
func (h *house) brings(name, text string) {
	h.t.Helper()
	path := filepath.Join(h.t.TempDir(), name)
	h.must(os.WriteFile(path, []byte(text), 0o644))
	h.goes("/people/imports")
	h.must(h.tab.Upload("input[type=file]", path))
	h.presses("Look at it")
	h.sees("What the columns are")
}

// fetches reads a file that the page links to.
func (h *house) fetches(selector string) string {
	h.t.Helper()
	h.must(h.tab.Find(selector))
	_, err := h.tab.Eval(fmt.Sprintf(`(() => {
		const x = document.querySelector(%q);
		window.fetched = null;
		(x.form
			? fetch(x.form.action, { method: 'post', body: new URLSearchParams(new FormData(x.form, x)) })
			: fetch(x.href)
		).then(r => r.text()).then(t => { window.fetched = t });
		return 'asked';
	})()`, selector))
	h.must(err)
	h.must(h.tab.Until("the file to arrive", "window.fetched !== null"))
	text, err := h.tab.Eval("window.fetched")
	h.must(err)
	return text
}

// TestAListAndAnAudience is a marketer's morning: a list with good, bad and
// double rows is brought in, its bad rows are mended, an audience is described
// and followed while somebody moves, taken out as a file, and the list is undone.
func TestAListAndAnAudience(t *testing.T) {
	if testing.Short() {
		t.Skip("a browser takes its time")
	}
	h := open(t)
	h.signsIn("Ines Radu")
	h.brings("fair.csv",
		"Name;E-mail;Company;Land;Phone\nAna Strand;ana@fjord.example;Fjord Farms;Norge;+44 20 7946 0101\nBo Vik;bo "+
			"at fjord.example;Fjord Farms;Norway;\nAna Strand;ANA@fjord.example;Fjord Farms;Norge;\nCy "+
			"Roy;cy@maple.example;Maple Works;Canada;\n")
	h.sees("Guessed from the head", "this is not an email address", "Norway")
	h.presses("Check every row")
	h.sees("2 would be new", "2 cannot be taken", "the same person as in row 1")
	h.presses("Bring them in")
	h.must(h.tab.Until("the list to be brought in", `document.querySelector('.figures a b')?.innerText === '2'`))
	first, err := h.tab.Eval("location.pathname")
	h.must(err)

	mend := h.fetches("a[download]")
	if !strings.Contains(mend, "bo at fjord.example") || !strings.Contains(mend, "not an email address") {
		t.Fatalf("the rows to mend: %q", mend)
	}
	h.brings("fair-mended.csv", strings.ReplaceAll(mend, "bo at fjord", "bo@fjord"))
	h.presses("Check every row")
	h.sees("1 would be new", "1 would stay as they are", "0 cannot be taken")
	h.presses("Bring them in")
	h.must(h.tab.Until("the mended list to be brought in", `document.querySelector('.figures a b')?.innerText === '1'`))

	// What comes behind a page is told to whoever does not see it come.
	h.goes("/people")
	h.must(h.tab.Until("the count to be told", `document.querySelector('#arrived').textContent.includes('3 people.')`))

	h.goes("/people/audiences")
	h.presses("Describe one")
	h.sees("Add a condition, and this shows")
	h.types("#name", "In Norway")
	h.presses("a condition")
	h.must(h.tab.Find(`input[name="v.r.0"]`))
	h.types(`input[name="v.r.0"]`, "Norway")
	h.key("\t")
	h.sees("2 people now", "country is Norway", "Ana Strand")
	h.presses("Save")
	h.sees("Everybody whose country is Norway.", "Came and went")
	h.must(h.tab.Until("the audience to be counted",
		`document.querySelector('.figures')?.innerText.includes('2 people')`))
	audience, err := h.tab.Eval("location.pathname")
	h.must(err)

	// Somebody moves; the audience follows, and the page with it.
	h.goes("/people?text=cy")
	h.presses("Cy Roy")
	h.must(h.tab.Until("her country to be opened for typing",
		`(() => { const x = [...document.querySelectorAll('#person details.edit summary')].find(s => s.innerText === `+
			`'Canada'); x?.click(); return x; })()`))
	h.types(`details.edit[open] input[name=value]`, "Norway")
	h.key("\r")
	h.sees("Saved.", "country: Canada → Norway")
	h.goes(audience)
	h.must(h.tab.Until("the audience to follow", `document.querySelector('.figures')?.innerText.includes('3 people')`))
	h.sees("Cy Roy")

	file := h.fetches(`form[action$="/export"] button[value=csv]`)
	for _, want := range []string{"ana@fjord.example", "bo@fjord.example", "cy@maple.example", "NO"} {
		if !strings.Contains(file, want) {
			t.Errorf("the file lacks %q", want)
		}
	}

	h.goes(first)
	h.presses("Undo all of it")
	h.presses("Undo the import")
	// Cy was changed by hand since, and stays.
	h.must(h.tab.Until("the import to be undone",
		`document.querySelector('#import')?.innerText.includes('Undone: 1 records')`))
	h.sees("1 stay as they are")
	h.goes(audience)
	h.must(h.tab.Until("the audience to follow the undo",
		`document.querySelector('.figures')?.innerText.includes('2 people')`))

	// The list from the keyboard: a condition, a tick, a tag.
	h.goes("/people")
	h.sees("Bo Vik", "2 people")
	h.presses("a condition")
	h.must(h.tab.Find(`input[name="v.r.0"]`))
	h.types(`input[name="v.r.0"]`, "Canada")
	h.key("\t")
	h.sees("Nobody fits this description", "0 people")
	h.chooses(`select[name="o.r.0"]`, "is not")
	h.sees("Bo Vik", "2 people")
	_, err = h.tab.Eval(`document.activeElement.blur()`)
	h.must(err)
	h.key("j")
	h.key("x")
	h.must(h.tab.Until("the bar for the ticked",
		`getComputedStyle(document.querySelector('.bulk')).display === 'flex'`))
	_, err = h.tab.Eval(`(() => { document.querySelector('.bulk summary').click(); return 'open' })()`)
	h.must(err)
	h.types(".bulk input[name=tag]", "spring fair")
	h.presses("Put on")
	h.sees("1 record was changed")
	h.presses("Undo")
	h.sees("Undone: 1 record is as before.")

	// The audience goes into a folder by keys, which is made by its name, and out of it with the mouse.
	h.goes("/people/audiences")
	h.must(h.tab.Until("the list", `document.querySelector('[data-thing]')`+atRest))
	h.key("j")
	h.key("o")
	h.sees("Where “")
	h.must(h.tab.Until("the field", `document.activeElement?.name === 'path'`+atRest))
	h.key("Spring / Fairs\r")
	h.sees("lies in Spring / Fairs.")
	h.presses("Spring")
	h.must(h.tab.Until("the folder with its one audience",
		`document.querySelectorAll('[data-thing]').length === 1 && location.search.includes('folder=')`+atRest))
	h.must(h.tab.Drag(`[data-thing] td.nowrap`, `.folders [data-into="0"]`))
	h.sees("lies in no folder.")
}
