package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strings"
	"testing"
)

const root = "../.."

// What others made and Ombak ships is named, with its licence.
func TestTheNoticeNamesAll(t *testing.T) {
	text, err := os.ReadFile(filepath.Join(root, "NOTICE.md"))
	if err != nil {
		t.Fatal(err)
	}
	notice := string(text)
	info, ok := debug.ReadBuildInfo()
	if !ok || len(info.Deps) < 20 {
		t.Fatalf("what this program is made of is not known: %v", ok)
	}
	for _, m := range info.Deps {
		if !strings.Contains(notice, "`"+m.Path+"`") {
			t.Errorf("the module %s is not named", m.Path)
		}
	}
	var assets struct{ DevDependencies map[string]string }
	raw, err := os.ReadFile(filepath.Join(root, "internal/web/assets/package.json"))
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(raw, &assets); err != nil || len(assets.DevDependencies) == 0 {
		t.Fatalf("%v, %v", assets, err)
	}
	for name := range assets.DevDependencies {
		if !strings.Contains(notice, "`"+name+"`") {
			t.Errorf("the package %s is not named", name)
		}
	}
}

// Where the glossary says that a word lives, there is something.
func TestTheGlossaryIsTrue(t *testing.T) {
	text, err := os.ReadFile(filepath.Join(root, "docs/glossary.md"))
	if err != nil {
		t.Fatal(err)
	}
	places := regexp.MustCompile("`((?:core|store|engine|web|mail)(?:/[a-z_]+)*(?:\\.go)?)`").FindAllStringSubmatch(
		string(text), -1)
	if len(places) < 30 {
		t.Fatalf("only %d places", len(places))
	}
	for _, p := range places {
		if _, err := os.Stat(filepath.Join(root, "internal", p[1])); err != nil {
			t.Errorf("%s: %v", p[1], err)
		}
	}
}
