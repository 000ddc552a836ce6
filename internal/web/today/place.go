// Package today is what needs somebody now, and how the day stands.
package today

import (
	"embed"

	"ombak/internal/engine/base"
	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, nil, "parts.html") }

// Place answers its pages.
type Place struct {
	*shell.Shell

	counted base.KeptBy[string, counted]
}
