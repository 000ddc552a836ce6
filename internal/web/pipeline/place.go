// Package pipeline is the board of deals.
package pipeline

import (
	"embed"

	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, nil, "piperooms.html") }

// Place answers its pages.
type Place struct{ *shell.Shell }
