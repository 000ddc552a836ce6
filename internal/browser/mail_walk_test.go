package browser_test

import (
	"context"
	"fmt"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/demo"
	"ombak/internal/store"
)

// reader keeps somebody who agreed to marketing email.
func (h *house) reader(first, last, email, language string) {
	h.t.Helper()
	ctx := context.Background()
	var id int64
	h.must(h.s.InTx(ctx, func(tx store.Tx) error {
		var err error
		id, _, err = tx.MeetPerson(ctx, store.NewPerson{First: first, Last: last, Email: email, Country: "DE"},
			demo.Start)
		return err
	}))
	users, err := h.s.Users(ctx)
	h.must(err)
	if language != "" {
		h.must(h.d.Engine.ChangePerson(ctx, id, person.Values{person.Language: language}, users[0].ID))
	}
	h.must(h.d.Engine.SetConsent(ctx, id, 1, true, "by form", "ticked", users[0].ID))
}

// TestAnEmailToAnAudience writes a message with two language versions, mends
// what the proof finds, previews the worst case, sends it to an audience,
// answers as one reader, bounces as another, opts out with one click as a
// third, and sees all three told apart.
func TestAnEmailToAnAudience(t *testing.T) {
	if testing.Short() {
		t.Skip("a browser takes its time")
	}
	h := open(t)
	h.reader("Hanna", "Brandt", "hanna@fjord.example", "de")
	h.reader("Maximiliane-Konstanze", "von und zu Hohenlangenfeld", "max@fjord.example", "de")
	h.reader("Ed", "Moss", "ed@fjord.example", "en-GB")
	h.reader("", "", "info@fjord.example", "")
	h.signsIn("Ines Radu")

	// A group of readers, and an audience.
	h.goes("/content/groups/new")
	h.types("#name", "German readers")
	h.presses("a condition")
	h.must(h.tab.Find(`select[name="s.r.0"]`))
	h.chooses(`select[name="s.r.0"]`, "language")
	h.must(h.tab.Find(`input[name="k.r.0"][value="field language"]`))
	h.types(`input[name="v.r.0"]`, "German")
	h.key("\t")
	h.sees("2 people now")
	h.presses("Save")
	h.sees("German readers", "language is German")
	h.goes("/people/audiences/new")
	h.types("#name", "In Germany")
	h.presses("a condition")
	h.must(h.tab.Find(`input[name="v.r.0"]`))
	h.types(`input[name="v.r.0"]`, "Germany")
	h.key("\t")
	h.sees("4 people now")
	h.presses("Save")
	h.must(h.tab.Until("the audience to be counted",
		`document.querySelector('.figures')?.innerText.includes('4 people')`))

	// The message, and its German words.
	h.goes("/content")
	h.presses("New message")
	h.types(`.drop input[name=name]`, "Spring letter")
	h.presses("Letter")
	h.types(`#subject`, "Spring, and {{ person.first_name }}")
	h.must(h.tab.Click(`[data-part="1"] .part-show`))
	h.must(h.tab.Until("the editor of the section", `document.querySelector('.part.open trix-editor')?.dataset.ready`))
	h.types(`trix-editor`, `The water wakes. `)
	h.must(h.tab.Click(`input[name=use]`))
	h.must(h.tab.Find(`select[name=show]`))
	h.chooses(`select[name=show]`, "German readers")
	h.sees("What has no words of their own")
	h.types(`#subject`, "Frühling")
	h.must(h.tab.Until("the editor for the group", `document.querySelector('.part.open trix-editor')?.dataset.ready`))
	h.types(`trix-editor`, `Das Wasser erwacht. `)
	h.must(h.tab.Click(`[data-part="2"] .part-show`))
	h.must(h.tab.Find(`.part.open[data-part="2"]`))
	h.sees("Das Wasser erwacht.")

	// The proof: a field that one reader has no value for, and a button to nowhere.
	h.presses("Button")
	h.must(h.tab.Find(`.part.open input[name=label]`))
	h.types(`.part.open input[name=label]`, "Read on")
	h.types(`.part.open input[name=link]`, "/p/nothing")
	h.key("\t")
	h.must(h.tab.Until("the proof to name the link",
		`document.querySelector('#proof').innerText.includes('there is no such page')`))
	h.chooses(`#proof select[name=in]`, "In Germany")
	h.must(h.tab.Until("the proof to count",
		`document.querySelector('#proof').innerText.includes('1 would not get it')`))
	h.types(`.part.open input[name=link]`, "https://karang.example/spring")
	h.key("\t")
	h.chooses(`select[name=show]`, "everyone else")
	h.must(h.tab.Until("everyone else's subject", `document.querySelector('#subject')?.value.startsWith('Spring')`))
	h.types(`#subject`, `Spring, and {{ person.first_name | default: "you" }}`)
	h.types(`#preheader`, "What wakes first")
	h.key("\t")
	h.must(h.tab.Until("the proof to see that the others have no button",
		`document.querySelector('#proof').innerText.includes('for everyone else there is nothing')`))
	h.types(`.part.open input[name=label]`, "Read on")
	h.types(`.part.open input[name=link]`, "https://karang.example/spring")
	h.key("\t")
	h.must(h.tab.Until("the proof to be content",
		`(x => !x.includes('Reading') && !x.includes('to be mended') && !x.includes('would not get `+
			`it'))(document.querySelector('#proof').innerText)`))
	h.presses("Save as version 1")
	h.sees("Saved.")

	// The worst case.
	h.presses("Preview")
	h.presses("Longest name")
	h.sees("As Maximiliane-Konstanze von und zu Hohenlangenfeld gets it", "Frühling", "German readers")
	h.presses("Least known")
	h.sees("As info@fjord.example gets it", "Spring, and you", "everyone else")
	h.presses("As text")
	h.sees("The water wakes.", "Read on <https://karang.example/spring>")

	// To the audience.
	h.goes("/content/emails")
	h.presses("New one-off email")
	h.chooses(`select[name=message]`, "Spring letter")
	h.must(h.tab.Until("the message to be kept",
		`document.querySelector('#plan select[name=message]').value !== '0' && !document.querySelector('.htmx-request')`))
	h.chooses(`select[name=audience]`, "In Germany")
	h.must(h.tab.Until("the audience to be kept",
		`document.querySelector('#mailing').innerText.includes('of 4 people')`))
	h.chooses(`select[name=purpose]`, "Marketing email")
	h.must(h.tab.Until("everybody to get it",
		`document.querySelector('#mailing').innerText.replace(/\s+/g, ' ').includes('4 of 4 people')`))
	h.chooses(`select[name=hours]`, "at any hour")
	h.must(h.tab.Until("the hours to be kept",
		`!document.querySelector('input[name=from]:not([type=hidden])') && !document.querySelector('.htmx-request')`))
	h.must(h.tab.Click(`input[name=sure]`))
	h.presses("Send it off")
	h.sees("On its way.")
	h.must(h.tab.Until("all four to go out", `document.querySelector('.fig')?.innerText.startsWith('4')`))
	results, err := h.tab.Eval("location.pathname")
	h.must(err)

	// Three readers, each in their way.
	letter := func(to string) {
		t.Helper()
		h.must(h.tab.Go(fmt.Sprintf("%s/letter/%d", h.mailbox, h.d.World.Mail.Letters(to, 1)[0].N)))
	}
	letter("hanna@")
	h.sees("Frühling")
	h.types(`textarea[name=text]`, "Danke, bitte rufen Sie an.")
	h.presses("Send answer")
	h.sees("Your answer is on its way.")
	letter("max@")
	h.presses("Send it back: no such mailbox")
	h.sees("It went back as undelivered.")
	letter("ed@")
	h.sees("Spring, and Ed")
	h.presses("Opt out with one click")
	h.sees("Opted out with one click.")

	h.goes(results)
	for which, want := range map[string]string{"answered": "Hanna Brandt", "bounced": "Maximiliane-Konstanze",
		"opted%20out": "Ed Moss"} {
		h.must(h.tab.Until("one that "+which,
			fmt.Sprintf(`document.querySelector('.fig[href$="which=%s"] b')?.innerText === '1'`, which)))
		h.must(h.tab.Click(fmt.Sprintf(`.fig[href$="which=%s"]`, which)))
		h.sees(want)
		h.goes(results)
	}
	h.presses("Take the 1 address that bounced off their records")
	h.sees("The addresses are being taken off")
}
