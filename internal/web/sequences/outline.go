package sequences

import (
	"fmt"

	"ombak/internal/core/sequence"
)

// outlined is a line of a plan told as a list.
type outlined struct {
	sequence.Line
	Says, Figure, Missing, Href string
	Chosen                      bool
}

// outline tells the plan that is shown as a list, with the figures of its map.
func (d *sequenceData) outline(m drawn) (out []outlined) {
	for _, l := range d.Plan.Outline() {
		x := outlined{Line: l, Says: d.says(l.Step)}
		for _, b := range m.Buoys {
			if b.ID == int(l.Step.About().ID) {
				x.Missing, x.Chosen, x.Href = b.Missing, b.Chosen, b.Href+"&as=list"
				if !d.Draft {
					x.Figure = b.Figure
				}
			}
		}
		out = append(out, x)
	}
	return out
}

// Other is the address at which the plan is told the other way: as a map, or as a list.
func (d sequenceData) Other() string {
	to := fmt.Sprintf("/sequences/%d?as=list", d.Q.ID)
	if d.AsList {
		to = fmt.Sprintf("/sequences/%d?as=map", d.Q.ID)
	}
	if d.Draft {
		to += "&view=draft"
	}
	if d.Step != nil {
		to += fmt.Sprintf("&step=%d", d.Step.About().ID)
	}
	return to
}
