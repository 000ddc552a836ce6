package shell

import (
	"fmt"
	"strconv"
	"strings"

	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
)

// PlacesOf are the places that signals of a pattern's kind can come from, as entries of a select whose empty entry is
// "from anywhere".
func PlacesOf(p *signal.Pattern, cat *rule.Catalogue) []Choice {
	var out []Choice
	place := func(kind string, list []rule.Named, id int64) {
		for _, n := range list {
			out = append(out, Choice{fmt.Sprintf("%s %d", kind, n.ID), "from the " + kind + " “" + n.Name + "”",
				n.ID == id})
		}
	}
	if p.Kind.OfPage() {
		place("page", cat.Pages, p.Page)
	}
	if p.Kind.OfEvent() {
		place("event", cat.Events, p.Event)
	}
	place("sequence", cat.Sequences, p.Sequence)
	switch p.Kind {
	case signal.Open, signal.Click, signal.Reply:
		place("message", cat.Messages, p.Message)
		out = append(out, Choice{"machine", "machines’ ones too", p.Machine})
	}
	return out
}

// ReadPlace reads an entry of PlacesOf into a pattern; what is none of them is anywhere.
func ReadPlace(text string, p *signal.Pattern) {
	what, id, _ := strings.Cut(text, " ")
	n, _ := strconv.ParseInt(id, 10, 64)
	switch what {
	case "sequence":
		p.Sequence = n
	case "message":
		p.Message = n
	case "page":
		p.Page = n
	case "event":
		p.Event = n
	case "machine":
		p.Machine = true
	}
}
