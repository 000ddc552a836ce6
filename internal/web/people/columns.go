package people

import "slices"

// column is one that a list can show.
type column struct {
	key, name    string
	usual, right bool // shown where none are chosen; set to the right, as figures are
}

// usualOf are the keys of those that are shown where none are chosen.
func usualOf(columns []column) []string {
	var out []string
	for _, c := range columns {
		if c.usual {
			out = append(out, c.key)
		}
	}
	return out
}

// chosen are the keys of the columns asked for, in the list's own order; the
// usual ones where there are none of them.
func chosen(columns []column, asked []string) []string {
	var out []string
	for _, c := range columns {
		if slices.Contains(asked, c.key) {
			out = append(out, c.key)
		}
	}
	if len(out) == 0 {
		return usualOf(columns)
	}
	return out
}
