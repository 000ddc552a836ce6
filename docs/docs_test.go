package docs

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Every test that checks.md names is there, and it names tests of every package of the core.
func TestChecksNameTests(t *testing.T) {
	text, err := os.ReadFile("checks.md")
	if err != nil {
		t.Fatal(err)
	}
	declared := regexp.MustCompile(`(?m)^func ((?:Test|Fuzz)\w+)\(`)
	has := map[string]bool{} // "package.Test"
	core := map[string]bool{}
	err = filepath.WalkDir("../internal", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		src, err := os.ReadFile(path)
		dir := filepath.Base(filepath.Dir(path))
		for _, m := range declared.FindAllSubmatch(src, -1) {
			has[dir+"."+string(m[1])] = true
		}
		if strings.HasPrefix(filepath.ToSlash(path), "../internal/core/") {
			core[dir] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`(?:([a-z]+)\\.)?((?:Test|Fuzz)\\w+)`")
	n := 0
	for _, line := range strings.Split(string(text), "\n") {
		if !strings.HasPrefix(line, "|") {
			continue
		}
		in := "" // the package that was named last stands for the next
		for _, m := range named.FindAllStringSubmatch(line, -1) {
			if m[1] != "" {
				in = m[1]
			}
			if n++; !has[in+"."+m[2]] {
				t.Errorf("there is no test %s.%s", in, m[2])
			}
			delete(core, in)
		}
	}
	if n < 100 {
		t.Errorf("only %d tests are named", n)
	}
	for p := range core {
		t.Errorf("of %s no test is named", p)
	}
}
