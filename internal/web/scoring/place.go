// Package scoring is what points are for, and the fit.
package scoring

import (
	"embed"

	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, nil, "parts.html") }

// Place answers its pages.
type Place struct{ *shell.Shell }
