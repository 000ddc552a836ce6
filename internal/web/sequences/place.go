// Package sequences is the map of a sequence, with a form for each kind of step beside
// it.
package sequences

import (
	"embed"

	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, stepFuncs, "steps.html", "ofsequence.html") }

// Place answers its pages.
type Place struct {
	*shell.Shell

	ends base.KeptBy[afterKey, []store.AfterExit]
	due  base.KeptBy[int64, []store.DueDay] // of a sequence
}
