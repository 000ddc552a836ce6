package mail

import (
	"bytes"
	"encoding/base64"
	"testing"

	"github.com/smallstep/pkcs7"
)

// A signed letter of a million levels, or one whose elements end after what they
// lie in, would take a reader that calls itself down with it.
func TestWrappedLettersStayShallow(t *testing.T) {
	for name, der := range map[string][]byte{
		"open for ever": bytes.Repeat([]byte{0x30, 0x80}, 1_900_000),
		"too deep":      bytes.Repeat([]byte{0x30, 0x80}, berLevels+5),
		"ends too late": {0x30, 4, 0x30, 6, 5, 0, 5, 0, 5, 0},
		"within open":   {0x30, 8, 0x30, 0x80, 0x30, 9, 5, 0, 0, 0, 5, 0, 5, 0, 5, 0},
		"no length":     {0x04, 0x80, 0, 0},
		"cut off":       {0x30, 0x82, 1},
	} {
		if tame(der) {
			t.Errorf("%s is let through", name)
		}
		source := append([]byte("From: a@b.example\r\nContent-Type: "+
			"application/pkcs7-mime\r\nContent-Transfer-Encoding: base64\r\n\r\n"),
			base64.StdEncoding.EncodeToString(der)...)
		if m := Read(source); m.From != "a@b.example" || m.Said == "" {
			t.Errorf("%s: %+v", name, m)
		}
	}
	for name, der := range map[string][]byte{
		"a sequence": {0x30, 4, 5, 0, 5, 0}, "an open one": {0x30, 0x80, 5, 0, 0, 0},
		"one in it":     {0x30, 0x80, 0x30, 0x80, 5, 0, 0, 0, 0, 0},
		"a long length": append([]byte{0x30, 0x81, 0x80, 4, 126}, make([]byte, 126)...),
	} {
		if !tame(der) {
			t.Errorf("%s is not let through", name)
		}
	}
}

func FuzzWrapped(f *testing.F) {
	f.Add([]byte{0x30, 0x80, 5, 0, 0, 0})
	f.Add([]byte{0x30, 4, 0x30, 6, 5, 0, 5, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		if tame(b) {
			pkcs7.Parse(b) // it comes back
		}
	})
}
