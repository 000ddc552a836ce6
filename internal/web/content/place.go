// Package content is messages, one-off emails, pages, the shelf and mailboxes, as those
// who write them have them.
package content

import (
	"embed"

	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, nil, "parts.html") }

// Place answers its pages.
type Place struct{ *shell.Shell }
