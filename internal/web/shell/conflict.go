package shell

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/plainly"
)

// Two tabs, or two people, can have the same draft open. Each form says which
// state it was drawn from; whoever saves later is told, sees both, and chooses.

// ErrChanged is answered where a draft is no longer in the state that a form
// was drawn from.
var ErrChanged = plainly.New("this draft was changed in another place meanwhile")

// StateOf names a state of something by what it says.
func StateOf(parts ...any) string {
	b, err := json.Marshal(parts)
	if err != nil {
		return "" // what is kept as JSON can be written as JSON
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:8])
}

// ConflictData is both sides of what two have changed.
type ConflictData struct {
	Name   string
	Target string // what of the page the answer goes into
	Back   string // where theirs is, as it stands
	Action string // where the form was sent
	Base   string // the name of the field that says the state, and the state now
	State  string
	// ForGood says that what is chosen is not undone with a press.
	ForGood bool
	Typed   []typedField
	Lines   []conflictLine
}

// typedField is what a field of the form held.
type typedField struct{ Name, Value string }

// conflictLine is a part that differs.
type conflictLine struct {
	What         string
	Theirs, Mine template.HTML
}

// Words sets what is there and what was typed side by side, where they differ.
func (d *ConflictData) Words(what, theirs, mine string) {
	if theirs != mine {
		d.Lines = append(d.Lines,
			conflictLine{what, template.HTML(template.HTMLEscapeString(theirs)),
				template.HTML(template.HTMLEscapeString(mine))})
	}
}

// Shown is Words for HTML that the core has cleaned.
func (d *ConflictData) Shown(what, theirs, mine string) {
	if theirs != mine {
		// Sketch's, which are cleaned
		d.Lines = append(d.Lines, conflictLine{what, template.HTML(theirs), template.HTML(mine)})
	}
}

// Conflict shows both sides. What was typed goes along, so that choosing it
// needs no typing again.
func (s *Shell) Conflict(c *echo.Context, place string, d ConflictData, v url.Values) error {
	for name, list := range v {
		if slices.Contains([]string{"_csrf", "do", "quiet", d.Base}, name) {
			continue
		}
		for _, x := range list {
			d.Typed = append(d.Typed, typedField{name, x})
		}
	}
	slices.SortStableFunc(d.Typed, func(a, b typedField) int { return strings.Compare(a.Name, b.Name) })
	return s.PageCode(c, http.StatusConflict, "conflict.html", "conflict", place, d.Name, d)
}
