// Package assets holds the styles, scripts, fonts and icons that ship.
package assets

import "embed"

// Files are those in dist.
//
//go:embed dist
var Files embed.FS
