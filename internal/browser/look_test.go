package browser_test

import (
	"fmt"
	"testing"
)

// Words on the map are 11 px or more at fit, and a plan that is larger than its
// frame has an overview that moves it, and keeps the place while a step is chosen.
func TestTheMapCanBeRead(t *testing.T) {
	h := open(t)
	h.furnish()
	h.signsIn("Ines Radu", "ines.radu@karang.example")
	h.must(h.tab.Size(1000, 800)) // narrower than the plan
	h.goes("/sequences/1")
	h.must(h.tab.Until("an overview", `document.querySelector('.map-overview:not([hidden]) use')`))
	smallest := `(() => {
		const svg = document.querySelector('#map'), scale = svg.getBoundingClientRect().width / svg.viewBox.baseVal.width;
		return Math.min(...[...svg.querySelectorAll('text, tspan')].map((e) => parseFloat(getComputedStyle(e).fontSize) * scale)).toFixed(1);
	})()`
	for _, zoom := range []string{"", "in", "fit"} {
		if zoom != "" {
			h.must(h.tab.Click(`[data-zoom=` + zoom + `]`))
		}
		h.must(h.tab.Until("words of 11 px or more", smallest+` >= 11`))
	}
	h.must(h.tab.Until("nothing moved yet", `document.querySelector('.map-frame').scrollLeft === 0`))
	if _, err := h.tab.Eval(`(() => {
		const small = document.querySelector('.map-overview svg'), r = small.getBoundingClientRect();
		small.setPointerCapture = () => {};
		small.dispatchEvent(new PointerEvent('pointerdown', { clientX: r.right - 2, clientY: r.top + r.height / 2, pointerId: 1 }));
	})()`); err != nil {
		t.Fatal(err)
	}
	h.must(h.tab.Until("the map to have moved", `document.querySelector('.map-frame').scrollLeft > 20`))
	// The step that is chosen is one that is seen whole, and the map stays where it was.
	moved := `Math.round(document.querySelector('.map-frame').scrollLeft)`
	before, err := h.tab.Eval(moved)
	h.must(err)
	if _, err := h.tab.Eval(`[...document.querySelectorAll('[data-buoy]')].sort((a, b) => a.dataset.x - ` +
		`b.dataset.x).at(-1).dispatchEvent(new MouseEvent('click', { bubbles: true, cancelable: true }))`); err != nil {
		t.Fatal(err)
	}
	h.must(h.tab.Until("the step to be chosen", `document.querySelector('[data-buoy][aria-current]')`))
	h.must(h.tab.Until("the map to stay at "+before, fmt.Sprintf(`Math.abs(%s - %s) < 3`, moved, before)))
}

// On a phone the item comes first, its actions are in reach wherever it is
// scrolled to, and so are the next item and the list.
func TestTheDeskOnAPhone(t *testing.T) {
	h := open(t)
	h.furnish()
	h.signsIn("Uma Okoye", "uma.okoye@karang.example")
	h.must(h.tab.Size(390, 700))
	h.goes("/desk")
	reach := func(sel string) string {
		return fmt.Sprintf(`(() => { const r = document.querySelector('%s')?.getBoundingClientRect();
			return r && r.top >= 0 && r.bottom <= innerHeight && r.left >= 0 && r.right <= innerWidth && r.height >= 24; })()`, sel)
	}
	h.must(h.tab.Until("its actions in reach", reach(`.foot .btn.main`)))
	h.must(h.tab.Until("the list in reach", reach(`.at-hand a[href="#day"]`)))
	h.must(h.tab.Until("nothing to stand out at the side", `document.documentElement.scrollWidth <= innerWidth`))
	first, err := h.tab.Eval(`document.querySelector('[data-shown]').dataset.shown`)
	h.must(err)
	h.presses("Next")
	h.must(h.tab.Until("the next item",
		fmt.Sprintf(`document.querySelector('[data-shown]').dataset.shown !== %q`, first)))
	h.sees("2 of ")
	h.must(h.tab.Until("the next one's actions in reach", reach(`.foot .btn.main`)))
	h.presses("The day")
	h.must(h.tab.Until("the list to be seen",
		`document.querySelector('#day').getBoundingClientRect().top < innerHeight - 60`))
	h.must(h.tab.Click(`#day a`))
	h.must(h.tab.Until("the first item again",
		fmt.Sprintf(`document.querySelector('[data-shown]').dataset.shown === %q`, first)))
}
