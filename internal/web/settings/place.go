// Package settings is what holds for everybody: who works here, hours, stages, grounds;
// and the guide.
package settings

import (
	"embed"

	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, nil, "settingrooms.html") }

// Place answers its pages.
type Place struct{ *shell.Shell }
