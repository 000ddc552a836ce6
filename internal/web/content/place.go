// Package content is messages, one-off emails, pages, the shelf and mailboxes, as those
// who write them have them.
package content

import (
	"embed"

	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, nil, "parts.html") }

// Place answers its pages.
type Place struct {
	*shell.Shell

	days    base.KeptBy[int64, []store.PageDay] // by page
	sources base.KeptBy[int64, []store.PageSource]
}
