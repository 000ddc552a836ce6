// Package public is what readers and visitors reach without signing in.
package public

import (
	"embed"

	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, nil, "booktimes.html") }

// Place answers its pages.
type Place struct{ *shell.Shell }
