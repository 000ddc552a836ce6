package engine

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// Each room stands on those before it, and on no other.
func TestRoomsStandOnEachOther(t *testing.T) {
	rooms := []string{"base", "flow", "people", "post", "forms", "sales", "setup", "social"}
	rank := map[string]int{}
	for i, r := range rooms {
		rank[r] = i
	}
	looked := 0
	for _, r := range rooms {
		files, err := filepath.Glob(filepath.Join(r, "*.go"))
		if err != nil || len(files) == 0 {
			t.Fatalf("%s: %d files, %v", r, len(files), err)
		}
		for _, f := range files {
			src, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			parsed, err := parser.ParseFile(token.NewFileSet(), f, src, parser.ImportsOnly)
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range parsed.Imports {
				path, _ := strconv.Unquote(x.Path.Value)
				other, ok := strings.CutPrefix(path, "ombak/internal/engine/")
				if !ok {
					continue
				}
				looked++
				if at, known := rank[other]; !known || at >= rank[r] {
					t.Errorf("%s stands on %s", f, other)
				}
			}
		}
	}
	if looked < 20 {
		t.Errorf("only %d imports between rooms were seen", looked)
	}
}
