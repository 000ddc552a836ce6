package browser_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
)

// reaches comes to something with the tab key alone.
func (h *house) reaches(selector string) {
	h.t.Helper()
	for range 200 {
		h.must(h.tab.Until("the page to be at rest", "true"+atRest)) // as anybody waits who sees it change
		at, err := h.tab.Eval(fmt.Sprintf(`document.activeElement?.matches(%q)`, selector))
		h.must(err)
		if at == "true" {
			return
		}
		h.key("\t")
	}
	h.must(fmt.Errorf("no tab leads to %s", selector))
}

// fills comes to a field with the tab key and types into it, over what it says.
func (h *house) fills(selector, text string) {
	h.t.Helper()
	h.reaches(selector)
	h.key(text)
}

// picks comes to a list with the tab key and types what the entry begins with.
func (h *house) picks(selector, entry string) {
	h.t.Helper()
	h.reaches(selector)
	h.key(entry)
	h.must(h.tab.Until(entry+" to be chosen", fmt.Sprintf(
		`document.querySelector(%q)?.selectedOptions[0].text.trim().startsWith(%q)`, selector, entry)+atRest))
}

// draws puts a step in by keys: at is the key of where, kind that of what.
func (h *house) draws(at, kind, title string, fill func()) {
	h.t.Helper()
	h.must(h.tab.Until("the map", "document.querySelector('#map')"+atRest))
	h.key(at)
	h.must(h.tab.Until("the kinds of step", `document.querySelector('.kinds')`+atRest))
	h.key(kind)
	h.must(h.tab.Until("its form", `document.querySelector('#step-form #title')`+atRest))
	h.key("e")
	h.key(title)
	fill()
	h.key("\r")
	h.must(h.tab.Until("the map to show "+title,
		fmt.Sprintf(`document.querySelector('#map').textContent.includes(%q)`, title)+atRest))
	h.leaves()
}

// leaves goes back from the form to the map.
func (h *house) leaves() {
	h.t.Helper()
	h.must(h.tab.Until("the form or the step", `document.activeElement?.closest('#panel, [data-buoy]')`))
	h.key("\x1b")
	h.must(h.tab.Until("the step to be ringed", `document.activeElement?.matches('[data-buoy]')`))
}

// TestAnInvitationByKeys draws the invitation to an event with its second chance from nothing, from the keyboard
// alone, before any message exists; makes the parts from the list; mends what the checks find; launches it; lives
// through three weeks with people who register, come and do not; finds one person's way with its reasons; and
// launches a second version and moves people to it.
func TestAnInvitationByKeys(t *testing.T) {
	if testing.Short() {
		t.Skip("a browser takes its time")
	}
	h := open(t)
	for _, x := range []string{"Ana Strand", "Bo Lind", "Cato Moe", "Dina Berg"} {
		var first, last string
		fmt.Sscan(x, &first, &last)
		h.reader(first, last, fmt.Sprintf("%s@fjord.example", first), "")
	}
	h.signsIn("Ines Radu")

	// 1. The plan.
	h.goes("/sequences")
	h.key("n")
	h.must(h.tab.Until("the name", `document.activeElement?.name === 'name'`))
	h.key("Calibration clinic\r")
	h.sees("Nobody enters yet", "Parts list")
	h.draws("i", "e", "Invitation", func() {})
	h.draws("i", "w", "Registers?", func() {
		h.picks("#signal", "registration")
		h.fills("input[name=for]", "7")
	})
	h.draws("1", "e", "Reminder", func() {
		h.picks("#when", "before an event")
		h.fills("input[name=from]", "1")
	})
	h.draws("i", "e", "Afterwards", func() {
		h.picks("#when", "after an event")
		h.fills("input[name=from]", "1")
	})
	h.comesTo("Registers?")
	h.draws("2", "e", "Second chance", func() {})
	h.draws("i", "w", "Registers now?", func() {
		h.picks("#signal", "registration")
		h.fills("input[name=for]", "5")
	})
	h.key("i")
	h.must(h.tab.Until("the kinds of step", `document.querySelector('.kinds')`+atRest))
	h.key("m") // it leads to what is there already
	h.picks("[aria-label='Lead on to']", "Reminder")
	h.key("\t\r")
	h.must(h.tab.Until("both to lead to the reminder", `document.querySelectorAll('#map .stream title').length && `+
		`[...document.querySelectorAll('#map .stream title')].filter(x => x.textContent.includes('to Reminder')).length == 2`+
		atRest))
	h.key("\x1b")
	h.comesTo("Registers now?")
	h.leaves()
	h.key(kb.ArrowRight + kb.ArrowDown) // by the reminder to the end under it
	h.key("\r")
	h.must(h.tab.Until("the end", `document.querySelector('#step-form #title')?.value === 'End'`+atRest))
	h.key("e")
	h.key("Gone quiet\r")
	h.must(h.tab.Until("its name", `document.querySelector('#map').textContent.includes('Gone quiet')`+atRest))

	// 2. The parts, from their list.
	h.leaves()
	h.key("P")
	h.sees("5 of 5 to be made")
	h.reaches(`a[href*="/content/events/new"]`)
	h.key("\r")
	h.must(h.tab.Until("the name of the event", `document.activeElement?.name === 'name'`))
	h.key("Calibration clinic")
	h.fills(`input[name=day]`, "04302026")
	h.fills(`input[name="from"]`, "0200PM")
	h.fills(`input[name=end-day]`, "04302026")
	h.fills(`input[name=to]`, "0400PM")
	h.reaches(`button[data-key=s]`)
	h.key("\r")
	h.sees("This is the sequence’s event.", "4 of 5 to be made")
	writes := func(subject, words string, linked bool) {
		t.Helper()
		h.goes("/sequences/1/parts")
		h.reaches(`form[action$="/make"] button`)
		h.key("\r")
		h.sees("a draft, not kept yet")
		h.fills("#subject", subject)
		h.reaches(`[data-part="1"] .part-show`)
		h.key("\r")
		h.must(h.tab.Until("the editor of the section",
			`document.querySelector('.part.open trix-editor')?.dataset.ready`+atRest))
		h.fills("trix-editor", words)
		if linked {
			h.picks("select[data-page]", "Calibration clinic")
			h.key("\t\r")
			h.must(h.tab.Until("the link in the editor", `document.querySelector('trix-editor a')`))
		}
		h.reaches("button[data-key=s]")
		h.key("\r")
		h.sees("Saved.")
	}
	writes("Bring a sensor to our clinic", "Will you come? ", true)
	writes("Tomorrow: our clinic", "It begins at 14:00. ", true)
	writes("What came out at the clinic", "Thank you. ", false)
	writes("There is a seat left", "Will you come after all? ", true)

	// 3. Who enters, on what ground; then it is launched.
	h.goes("/sequences/1?view=draft")
	h.sees("Nobody enters yet", "Say on what ground")
	h.must(h.tab.Until("the map", "document.querySelector('#map')"+atRest))
	h.key("e")
	h.picks("#entry", "Everybody")
	h.reaches(`button[value="cond r"]`)
	h.key("\r")
	h.must(h.tab.Until("a condition", `document.querySelector('select[name="s.r.0"]')`+atRest))
	// What is chosen asks for the form anew: what is typed before it has come would be typed into the one that goes.
	h.picks(`select[name="s.r.0"]`, "country")
	h.must(h.tab.Until("its value", `document.querySelector('input[name="v.r.0"]')`+atRest))
	h.fills(`input[name="v.r.0"]`, "Germany")
	h.picks(`select[name=ground]`, "their consent")
	h.must(h.tab.Until("the form with what it counts", `document.querySelector('#settings .btn.main')`+atRest))
	h.reaches("#settings .btn.main")
	h.key("\r")
	h.sees("Nothing keeps this from being launched", "4 people fit")
	h.key("L")
	h.sees("Launch version 1?", "4 people enter now", "the launch hold")
	h.must(h.tab.Until("the button", `document.activeElement?.textContent.includes('Launch')`+atRest))
	h.key("\r")
	h.sees("Launched.", "Running · version 1")

	// 4. Three weeks. The hold lasts a working day; then the invitation goes out, and Ana keeps herself a place.
	registers := func(who, subject string) {
		t.Helper()
		h.reads(who+"@fjord.example", subject)
		to := h.link("Calibration clinic")
		h.must(h.tab.Forget()) // each in a browser of their own
		h.must(h.tab.Go(to))
		h.presses("Keep me a place")
		h.sees("Your place is kept.")
		h.signsIn("Ines Radu")
	}
	h.passes(0, 2)
	registers("Ana", "Bring a sensor to our clinic")
	h.passes(1, 1)
	registers("Bo", "There is a seat left")
	if n := len(h.d.World.Mail.Letters("Ana@fjord.example", 9)); n != 1 {
		t.Errorf("Ana has %d letters: who has registered needs no second chance", n)
	}

	// 5. A second version, for whoever is still on the way as well.
	h.goes("/sequences/1?view=draft")
	h.must(h.tab.Until("the map", "document.querySelector('#map')"+atRest))
	h.reaches("[data-buoy]")
	h.comesTo("Reminder")
	h.draws("i", "t", "A seat", func() {
		h.fills("textarea[name=what]", "Put out a chair")
		h.picks("select[name=nowait]", "at once")
		h.reaches("#step-form .btn.main")
	})
	h.key("L")
	h.sees("Launch version 2?", "new A seat", "4 people are on the way", "Reminder: 2 go on with it")
	h.reaches("input[data-all]")
	h.key(" ")
	h.reaches("form .btn.main")
	h.key("\r")
	h.sees("Running · version 2")
	h.passes(1, 1)
	h.sees("0 on the way", "4 ended")
	for who, n := range map[string]int{"Ana": 3, "Bo": 4, "Cato": 2, "Dina": 2} {
		if got := h.d.World.Mail.Letters(who+"@fjord.example", 9); len(got) != n {
			t.Errorf("%s has %d letters, and not %d", who, len(got), n)
		}
	}
	var moved, tasks int
	h.must(h.s.DB().QueryRow(`select count(*) from enrolment e join sequence_version v on v.id = e.version_id
		where v.number = 2`).Scan(&moved))
	h.must(h.s.DB().QueryRow(`select count(*) from touch where kind = 'task'`).Scan(&tasks))
	if moved != 4 || tasks != 2 {
		t.Errorf("%d went on with version 2, and %d tasks came of it", moved, tasks)
	}

	// 6. One person's way, and its reasons.
	h.key("/")
	h.must(h.tab.Until("the finder", `document.activeElement?.closest('#finder')`))
	h.key("cato")
	h.sees("Cato Moe")
	h.key("\r")
	h.sees("“Registers?”: not in time", "Got the email “There is a seat left”", "Came to the end of the sequence: “Gone quiet”")
}

// comesTo goes to a step by the arrow keys and opens it.
func (h *house) comesTo(title string) {
	h.t.Helper()
	for _, way := range []string{kb.ArrowLeft, kb.ArrowRight, kb.ArrowUp, kb.ArrowDown} {
		for range 12 {
			at, err := h.tab.Eval(`document.activeElement?.textContent ?? ""`)
			h.must(err)
			if strings.Contains(at, title) {
				h.key("\r")
				h.must(h.tab.Until("its form", fmt.Sprintf(`document.querySelector('#step-form #title')?.value === %q`,
					title)+atRest))
				return
			}
			h.key(way)
		}
	}
	h.must(fmt.Errorf("no arrow leads to %s", title))
}
