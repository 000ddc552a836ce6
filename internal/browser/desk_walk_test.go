package browser_test

import (
	"fmt"
	"strings"
	"testing"

	"ombak/internal/core/person"
	"ombak/internal/store"
)

// A rep empties the list by keys: what is ringed is what is shown and what a key
// acts on, however fast they are, and accepting can be taken back. On the
// pipeline a deal moves on with each key.
func TestTheDeskByKeys(t *testing.T) {
	h := open(t)
	var names []string
	for i := range 6 {
		name := fmt.Sprintf("Person%d", i)
		names = append(names, name)
		var id int64
		h.must(h.s.InTx(t.Context(), func(tx store.Tx) (err error) {
			id, _, err = tx.MeetPerson(t.Context(),
				store.NewPerson{First: name, Last: "Moe", Email: person.Name(name) + "@kelp.example"}, h.d.Clock.Now())
			return err
		}))
		h.must(h.d.Engine.HandOver(t.Context(), id))
	}
	h.signsIn("Uma Okoye", "uma.okoye@karang.example") // the lead sees everybody's
	h.goes("/desk")
	h.sees("6 handed over", "Person0 Moe")
	// Three down and accept, as fast as the machine types.
	h.key("jjja")
	h.sees("Accepted. A deal stands on the pipeline.", "5 handed over")
	var accepted string
	h.must(h.s.DB().QueryRow("select p.first_name from handoff h join person p on p.id = h.person_id where h.state = " +
		"'accepted'").Scan(&accepted))
	if accepted != names[3] {
		t.Errorf("after three down %s was accepted", accepted)
	}
	h.key("u")
	h.sees("It is back on the desk.", "6 handed over")
	shown, err := h.tab.Eval(`document.querySelector('[data-shown] h1').textContent`)
	if h.must(err); !strings.HasPrefix(shown, accepted) {
		t.Errorf("after the undo %s is shown, not %s", shown, accepted)
	}
	ringed := `document.activeElement.closest('[data-follow]')?.dataset.follow === ` +
		`document.querySelector('[data-shown]').dataset.shown`
	h.key("k")
	h.must(h.tab.Until("what is ringed to be shown", ringed))
	h.key("a")
	h.sees("5 handed over")

	h.goes("/pipeline")
	h.sees("Accepted 1")
	if _, err := h.tab.Eval(`document.querySelector('[data-deal]').focus()`); err != nil {
		t.Fatal(err)
	}
	for _, stage := range []string{"Talking 1", "Buoy on loan 1", "Offer 1"} {
		h.key("]")
		h.sees(stage)
		h.must(h.tab.Until("the deal to keep the focus", `document.activeElement?.matches('[data-deal]')`))
	}
}
