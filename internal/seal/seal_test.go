package seal

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestSealing(t *testing.T) {
	path := filepath.Join(t.TempDir(), "home", "secret")
	k, err := File(path)
	if err != nil {
		t.Fatal(err)
	}
	again, err := File(path)
	if err != nil || again.k != k.k {
		t.Fatalf("the file has another key: %v", err)
	}
	if i, err := os.Stat(path); err != nil || i.Mode().Perm() != 0o600 {
		t.Errorf("others can read it: %v, %v", i, err)
	}
	for _, secret := range []string{"", "pens & 14 m", strings.Repeat("ø", 300)} {
		a, b := k.Seal(secret), k.Seal(secret)
		if bytes.Equal(a, b) || secret != "" && bytes.Contains(a, []byte(secret)) {
			t.Errorf("%q can be told from what is sealed", secret)
		}
		if got, err := again.Open(a); err != nil || got != secret {
			t.Errorf("%q opens as %q, %v", secret, got, err)
		}
		for i := range a {
			a[i] ^= 1
			if _, err := k.Open(a); !errors.Is(err, ErrSealed) {
				t.Fatalf("a changed byte %d passes: %v", i, err)
			}
			a[i] ^= 1
		}
	}
	other, err := File(filepath.Join(t.TempDir(), "secret"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Open(k.Seal("x")); !errors.Is(err, ErrSealed) {
		t.Errorf("another key opens it: %v", err)
	}
	if _, err := k.Open([]byte("short")); !errors.Is(err, ErrSealed) {
		t.Error("what is too short passes")
	}
	for _, bad := range []string{"", "x", "AAAA", strings.Repeat("A", 44)} {
		if _, err := Parse(bad); err == nil {
			t.Errorf("%q is a key", bad)
		}
	}
}

func TestANewKey(t *testing.T) {
	dir := t.TempDir()
	old, err := File(filepath.Join(dir, "secret"))
	if err != nil {
		t.Fatal(err)
	}
	k, err := File(filepath.Join(dir, "key"))
	if err != nil {
		t.Fatal(err)
	}
	was := old.Seal("pens")
	if _, ok := k.Renew(was); ok {
		t.Error("what no key opens is sealed anew")
	}
	after := k.After(old)
	fresh, ok := after.Renew(was)
	if got, err := k.Open(fresh); !ok || err != nil || got != "pens" {
		t.Errorf("sealed anew it opens as %q, %v", got, err)
	}
	if _, err := old.Open(fresh); err == nil {
		t.Error("the earlier key opens what the new one sealed")
	}
	if _, ok := after.Renew(fresh); ok {
		t.Error("what the key itself sealed is sealed anew")
	}
	if got, err := after.Open(was); err != nil || got != "pens" {
		t.Errorf("%q, %v", got, err)
	}
}
