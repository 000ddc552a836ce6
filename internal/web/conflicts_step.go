package web

import "ombak/internal/core/sequence"

// stepConflict is messageConflict for a step of a sequence.
func stepConflict(a, b sequence.Step, n sequence.Names) (out conflictData) {
	out.words("Title", a.About().Title, b.About().Title)
	out.words("What it does", a.Says(n), b.Says(n))
	mine := b.Settings(n)
	for i, x := range a.Settings(n) {
		if a.Kind() == b.Kind() && i < len(mine) {
			out.words(x.Name, x.Is, mine[i].Is)
		}
	}
	if len(out.Lines) == 0 && stateOf(a) != stateOf(b) {
		out.words("Settings", "as they stand", "as you set them")
	}
	return out
}
