package browser_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/standin/readers"
)

// silent is an address whose reader does nothing of their own accord.
func (h *house) silent(name string) string {
	for i := 0; ; i++ {
		if a := fmt.Sprintf("%s%d@fjord.example", name, i); readers.Of(h.d.World.Seed, a) == readers.Silent {
			return a
		}
	}
}

// TestOutreach begins with the outreach that is often built: three emails on their weekdays, by each reader's own
// clock, the last in the thread of the first. Who answers gets no more; of who does not, a rep is reminded.
func TestOutreach(t *testing.T) {
	if testing.Short() {
		t.Skip("a browser takes its time")
	}
	h := open(t)
	ana, bo := h.silent("ana"), h.silent("bo")
	h.reader("Ana", "Strand", ana, "")
	h.reader("Bo", "Lind", bo, "")
	users, err := h.s.Users(context.Background())
	h.must(err)
	h.must(h.d.Engine.ChangePerson(context.Background(), 2, person.Values{person.Country: "CA", person.City: "Toronto"},
		users[0].ID))
	h.signsIn("Ines Radu")

	h.goes("/sequences?new=1")
	h.types(`input[name=name]`, "Waterworks, cold")
	h.presses("Outreach with follow-ups")
	h.sees("Follow-up", "Last word", "a message to write")
	for i, subject := range []string{"Your buoys in spring", "unread", "unread as well"} {
		h.goes("/sequences/1/parts")
		h.sees(fmt.Sprintf("%d of", 3-i))
		h.must(h.tab.Click(`form[action$="/make"] button`))
		h.sees("a draft, not kept yet")
		h.types("#subject", subject)
		h.must(h.tab.Click(`[data-part="1"] .part-show`))
		h.must(h.tab.Until("the editor of the section",
			`document.querySelector('.part.open trix-editor')?.dataset.ready`+atRest))
		h.types("trix-editor", fmt.Sprintf("Word number %d. ", i+1))
		h.presses("Save as version 1")
		h.sees("Saved.")
	}
	// The follow-up goes out on Thursdays alone, between ten and eleven.
	h.goes("/sequences/1?view=draft")
	h.must(h.tab.Click(`#map a.buoy:has(.title):nth-of-type(2)`))
	h.must(h.tab.Until("the follow-up", `document.querySelector('#title')?.value === 'Follow-up'`+atRest))
	h.must(h.tab.Click("#own"))
	h.must(h.tab.Until("hours of its own", `document.querySelector('input[name="own.4"]')`+atRest))
	for day := range 7 {
		h.types(fmt.Sprintf(`input[name="own.%d"]`, day), map[bool]string{true: "10:00–11:00", false: " "}[day == 4])
	}
	h.presses("Save")
	h.must(h.tab.Until("the hours to be kept", `document.querySelector('input[name="own.1"]')?.value === ''`+atRest))
	h.goes("/sequences/1?view=draft")
	h.chooses("#entry", "Everybody")
	h.must(h.tab.Until("a rule", `document.querySelector('button[value="cond r"]')`+atRest))
	h.must(h.tab.Click(`button[value="cond r"]`))
	h.must(h.tab.Until("a condition", `document.querySelector('select[name="s.r.0"]')`+atRest))
	h.chooses(`select[name="s.r.0"]`, "last name")
	h.must(h.tab.Until("the field", `document.querySelector('select[name="s.r.0"]').selectedOptions[0].defaultSelected`+
		atRest))
	h.chooses(`select[name="o.r.0"]`, "is known")
	h.must(h.tab.Until("no value to be asked for", `!document.querySelector('[name="v.r.0"]')`+atRest))
	h.chooses(`select[name=ground]`, "their consent")
	h.must(h.tab.Click(`details[data-part=when] > summary`))
	h.must(h.tab.Click(`input[name=hold]`))
	h.presses("Save")
	h.sees("Nothing keeps this from being launched", "2 people fit")
	h.must(h.tab.Click(`.actions a.main`))
	h.sees("2 people enter now", "There is no launch hold")
	h.presses("Launch")
	h.sees("Launched.")

	// sent is when somebody's letters came, by their own clock, the oldest first.
	sent := func(to, zone string) (out []string) {
		t.Helper()
		loc, err := time.LoadLocation(zone)
		h.must(err)
		for _, l := range h.d.World.Mail.Letters(to, 9) {
			out = append(out, l.At.In(loc).Format("Mon 15:04"))
		}
		slices.Reverse(out)
		return out
	}
	h.passes(1, 3)
	h.reads(bo, "Your buoys in spring")
	h.types(`textarea[name=text]`, "Thank you, we have all we need until autumn.")
	h.presses("Send answer")
	h.sees("Your answer is on its way.")
	h.passes(2, 0)
	for _, c := range []struct {
		to, zone string
		want     string
	}{
		{ana, "Europe/Berlin", "Tue 08:30, Thu 10:00, Thu 10:00"}, {bo, "America/Toronto", "Tue 08:30, Thu 10:00"},
	} {
		if got := strings.Join(sent(c.to, c.zone), ", "); got != c.want {
			t.Errorf("%s has letters of %s, and not %s", c.to, got, c.want)
		}
	}
	h.reads(ana, "Your buoys in spring")
	h.presses("Source")
	h.sees("In-Reply-To: <t1.", "Re: Your buoys in spring")

	// What is left to do is on the desk of a rep, of her alone.
	h.signsIn("Tomas Vale")
	h.goes("/desk?kind=answer")
	h.sees("Bo Lind", "we have all we need until autumn")
	h.goes("/desk?kind=task")
	h.sees("Ana Strand", "All is sent and nobody has answered")
	if text, err := h.tab.Text(); err != nil || strings.Contains(text, "Bo Lind") {
		t.Errorf("Bo has answered, and is on the desk as well: %v", err)
	}
	h.goes("/people/2")
	h.sees("Left the sequence at “Last word”: answered")
}
