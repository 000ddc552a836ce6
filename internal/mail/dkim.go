package mail

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"github.com/emersion/go-msgauth/dkim"
	gomail "github.com/wneessen/go-mail"
)

// Signer signs letters by DKIM (RFC 6376), each for the domain that it is from.
// The public key stands in the DNS of each of those domains, under the
// selector: see Record.
type Signer struct {
	Selector string
	Key      crypto.Signer
}

// signedHeaders are those that readers see or act on, RFC 6376, 5.4.1 and the
// ones of RFC 8058, 4, which a signature must cover.
var signedHeaders = []string{"From", "To", "Cc", "Subject", "Date", "Message-ID", "Reply-To", "In-Reply-To",
	"References", "MIME-Version", "Content-Type", "List-Unsubscribe", "List-Unsubscribe-Post", "Auto-Submitted"}

// NewKey makes a key to sign with, as text to be kept.
func NewKey() (string, error) {
	k, err := rsa.GenerateKey(rand.Reader, 2048) // RFC 8301, 3.2
	if err != nil {
		return "", err
	}
	b, err := x509.MarshalPKCS8PrivateKey(k)
	return base64.StdEncoding.EncodeToString(b), err
}

// NewSigner readies a signer with a kept key.
func NewSigner(selector, key string) (*Signer, error) {
	b, err := base64.StdEncoding.DecodeString(key)
	if err != nil {
		return nil, fmt.Errorf("the key that signs letters is damaged: %w", err)
	}
	k, err := x509.ParsePKCS8PrivateKey(b)
	if err != nil {
		return nil, fmt.Errorf("the key that signs letters is damaged: %w", err)
	}
	s, ok := k.(crypto.Signer)
	if !ok {
		return nil, errors.New("the key that signs letters is no key to sign with")
	}
	return &Signer{selector, s}, nil
}

// Record is the DNS record by which receivers of letters from a domain know the
// key: its name and its text (RFC 6376, 3.6.1).
func (s *Signer) Record(domain string) (name, text string, err error) {
	b, err := x509.MarshalPKIXPublicKey(s.Key.Public())
	if err != nil {
		return "", "", err
	}
	return s.Selector + "._domainkey." + domain, "v=DKIM1; k=rsa; p=" + base64.StdEncoding.EncodeToString(b), nil
}

// Sign puts a signature on a letter.
func (s *Signer) Sign(m *gomail.Msg, from string) error {
	_, domain, ok := strings.Cut(from, "@")
	if !ok {
		return fmt.Errorf("%q is no address to sign for", from)
	}
	var source bytes.Buffer
	if _, err := m.WriteTo(&source); err != nil {
		return err
	}
	signer, err := dkim.NewSigner(&dkim.SignOptions{Domain: strings.ToLower(domain), Selector: s.Selector,
		Signer: s.Key, HeaderKeys: signedHeaders,
		HeaderCanonicalization: dkim.CanonicalizationRelaxed, BodyCanonicalization: dkim.CanonicalizationRelaxed})
	if err != nil {
		return err
	}
	if _, err := signer.Write(source.Bytes()); err != nil {
		return err
	}
	if err := signer.Close(); err != nil {
		return err
	}
	_, value, _ := strings.Cut(signer.Signature(), ":")
	m.SetGenHeaderPreformatted("DKIM-Signature", strings.TrimRight(strings.TrimLeft(value, " "), "\r\n"))
	return nil
}
