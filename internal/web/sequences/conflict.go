package sequences

import (
	"ombak/internal/core/sequence"
	"ombak/internal/web/shell"
)

// stepConflict is messageConflict for a step of a sequence.
func stepConflict(a, b sequence.Step, n sequence.Names) (out shell.ConflictData) {
	out.Words("Title", a.About().Title, b.About().Title)
	out.Words("What it does", a.Says(n), b.Says(n))
	mine := b.Settings(n)
	for i, x := range a.Settings(n) {
		if a.Kind() == b.Kind() && i < len(mine) {
			out.Words(x.Name, x.Is, mine[i].Is)
		}
	}
	if len(out.Lines) == 0 && shell.StateOf(a) != shell.StateOf(b) {
		out.Words("Settings", "as they stand", "as you set them")
	}
	return out
}
