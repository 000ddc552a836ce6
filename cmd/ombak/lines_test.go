package main

import (
	"bufio"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// widest is how many columns a line has at most, a tab counting as four.
const widest = 120

// Every line fits: nobody scrolls sideways to read this house. Long words of tests' data
// are let be, and what others made, or scripts have built.
func TestLinesFit(t *testing.T) {
	kinds := []string{".go", ".sql", ".html", ".css", ".js", ".md", ""}
	apart := []string{"node_modules", "dist", "testdata", ".git", "bin", ".ombak", "screenshots"}
	looked := 0
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if slices.Contains(apart, d.Name()) {
				return filepath.SkipDir
			}
			return nil
		}
		script := filepath.Ext(path) == "" && filepath.Base(filepath.Dir(path)) == "scripts"
		if !slices.Contains(kinds[:len(kinds)-1], filepath.Ext(path)) && !script ||
			strings.HasSuffix(path, "_test.go") {
			return nil
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		lines := bufio.NewScanner(f)
		lines.Buffer(nil, 1<<20)
		for n := 1; lines.Scan(); n++ {
			looked++
			text := lines.Text()
			if cols := utf8.RuneCountInString(strings.ReplaceAll(text, "\t", "    ")); cols > widest &&
				!isTable(path, text) {
				t.Errorf("%s:%d has %d columns", path, n, cols)
			}
		}
		return lines.Err()
	})
	if err != nil || looked < 40_000 {
		t.Fatalf("%d lines looked at, %v", looked, err)
	}
}

// isTable lets the rows of tables in Markdown be, which cannot be broken, and links.
func isTable(path, text string) bool {
	return filepath.Ext(path) == ".md" && (strings.HasPrefix(text, "|") || strings.Contains(text, "](") ||
		strings.Contains(text, "http"))
}
