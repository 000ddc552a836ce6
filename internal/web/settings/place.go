// Package settings is what holds for everybody: who works here, hours, stages, grounds;
// and the guide.
package settings

import (
	"embed"
	"text/template"

	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, template.FuncMap{"keptFor": keptFor}, "settingrooms.html") }

// Place answers its pages.
type Place struct{ *shell.Shell }
