package assets

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// split finds the selectors of a list of them, whose parentheses may have commas.
var split = regexp.MustCompile(`(?:[^,(]|\([^)]*\))+`)

var notes = regexp.MustCompile(`(?s)/\*.*?\*/`)

// Of what a thing looks like, there is one place: no selector has two rules in the same
// surroundings, in whichever part of the stylesheet.
func TestNoRuleStandsTwice(t *testing.T) {
	parts, err := filepath.Glob("src/styles/*.css")
	if err != nil || len(parts) < 8 {
		t.Fatalf("%d parts of the stylesheet, %v", len(parts), err)
	}
	seen := map[string]string{}
	for _, part := range parts {
		data, err := os.ReadFile(part)
		if err != nil {
			t.Fatal(err)
		}
		var around []string
		text := notes.ReplaceAllString(string(data), "")
		for text != "" {
			i := strings.IndexAny(text, "{};")
			if i < 0 {
				break
			}
			head := strings.Join(strings.Fields(text[:i]), " ")
			switch text[i] {
			case '{':
				around = append(around, head)
				if !strings.HasPrefix(head, "@") {
					for _, one := range split.FindAllString(head, -1) {
						own := strings.Join(append(around[:len(around)-1:len(around)-1], strings.TrimSpace(one)), " > ")
						if strings.Contains(head, ",") {
							own += " (with others)" // what several share stands beside what one has of its own
						}
						if before := seen[own]; before != "" {
							t.Errorf("%s has a rule in %s and in %s", own, before, part)
						}
						seen[own] = part
					}
				}
			case '}':
				around = around[:len(around)-1]
			}
			text = text[i+1:]
		}
	}
	if len(seen) < 300 {
		t.Errorf("%d rules read", len(seen))
	}
}
