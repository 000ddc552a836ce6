package mail

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-msgauth/dkim"
)

// TestSignaturesHold has the library's own verifier look at what we sign, as
// it is and changed on its way.
func TestSignaturesHold(t *testing.T) {
	key, err := NewKey()
	if err != nil {
		t.Fatal(err)
	}
	s, err := NewSigner("ombak", key)
	if err != nil {
		t.Fatal(err)
	}
	name, record, err := s.Record("karang.example")
	if err != nil || name != "ombak._domainkey.karang.example" {
		t.Fatalf("%s, %v", name, err)
	}
	l := Letter{ID: "t1@mail.karang.example", FromName: "Ínes Radu, Karang", From: "ines@Karang.example",
		To:      "ana@fjord.example",
		Subject: "Grüße aus dem Hafen — und ein sehr langer Betreff, der über eine Zeile geht, wie manche es sind",
		Text:    "Dear Ana,\n\nx\n", HTML: "<p>Dear Ana, " + strings.Repeat("long ", 400) + "</p>",
		OptOut: "https://ombak.example/u/1/x", Date: time.Date(2026, 4, 14, 9, 20, 0, 0, time.UTC),
		ReplyTo: "desk@karang.example", Cc: []string{"b@karang.example"},
		Files: []File{{"guide.pdf", "application/pdf", []byte("%PDF-1.4 x")}}}
	m, err := Compose(l)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Sign(m, l.From); err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if _, err := m.WriteTo(&b); err != nil {
		t.Fatal(err)
	}
	verify := func(source string) error {
		list, err := dkim.VerifyWithOptions(strings.NewReader(source),
			&dkim.VerifyOptions{LookupTXT: func(asked string) ([]string, error) {
				if asked != name {
					return nil, errors.New("asked for " + asked)
				}
				return []string{record}, nil
			}})
		if err != nil {
			return err
		}
		if len(list) != 1 || list[0].Domain != "karang.example" {
			return errors.New("not one signature of the domain")
		}
		return list[0].Err
	}
	if err := verify(b.String()); err != nil {
		t.Errorf("a letter as it was sent: %v\n%.1500s", err, b.String())
	}
	// A relay may fold headers anew and pad lines: relaxed forms allow it (RFC 6376, 3.4).
	if err := verify(strings.Replace(b.String(), "From: ", "From:   ", 1)); err != nil {
		t.Errorf("with more spaces in a header: %v", err)
	}
	for what, with := range map[string][2]string{"another subject": {"Subject:", "Subject: not"},
		"another body": {"Dear Ana", "Dear Bo"}, "another way to opt out": {"/u/1/x", "/u/2/x"},
		"another sender": {"ines@", "evil@"}} {
		changed := strings.Replace(b.String(), with[0], with[1], 1)
		if changed == b.String() {
			t.Fatalf("%s: nothing was changed", what)
		}
		if verify(changed) == nil {
			t.Errorf("%s: the signature still holds", what)
		}
	}
	if s.Sign(m, "nobody") == nil {
		t.Error("signed for no domain")
	}
	for _, bad := range []string{"", "x", base64.StdEncoding.EncodeToString([]byte("x"))} {
		if _, err := NewSigner("ombak", bad); err == nil {
			t.Errorf("the key %q was taken", bad)
		}
	}
}

// TestTheBodyHashOfTheStandard: the example of RFC 6376, appendix A, whose
// signature gives bh=2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8= for its body
// in the simple form, the empty line before "Joe." among it.
func TestTheBodyHashOfTheStandard(t *testing.T) {
	const body = "Hi.\r\n\r\nWe lost the game. Are you hungry yet?\r\n\r\nJoe.\r\n"
	const want = "2jUSOH9NhtVGCQWNr9BrIAPreKQjO6Sn7XIkfJVOzv8="
	sum := sha256.Sum256([]byte(body))
	if got := base64.StdEncoding.EncodeToString(sum[:]); got != want {
		t.Fatalf("the example was written down wrongly: %s", got)
	}
	key, err := NewKey()
	if err != nil {
		t.Fatal(err)
	}
	s, err := NewSigner("brisbane", key)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := dkim.NewSigner(&dkim.SignOptions{Domain: "example.com", Selector: s.Selector, Signer: s.Key,
		BodyCanonicalization: dkim.CanonicalizationSimple, HeaderKeys: []string{"From"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := signer.Write([]byte(
		"From: Joe SixPack <joe@football.example.com>\r\nSubject: Is dinner ready?\r\n\r\n" + body)); err != nil {
		t.Fatal(err)
	}
	if err := signer.Close(); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(strings.Fields(signer.Signature()), ""); !strings.Contains(got, "bh="+want) {
		t.Errorf("the body hash is another: %s", got)
	}
}
