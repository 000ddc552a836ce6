// Package docs has the pages of this folder that the application shows.
package docs

import _ "embed"

// Guide is the users' guide, in Markdown.
//
//go:embed guide.md
var Guide []byte
