// Package seal keeps small secrets, such as the password of a mailbox, so that
// whoever reads the database cannot read them: sealed with a key that lies
// beside it (XSalsa20 and Poly1305, by golang.org/x/crypto/nacl/secretbox).
package seal

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/nacl/secretbox"
)

// Key seals and opens. One that has taken another's place can open what that
// one sealed, too.
type Key struct {
	k      [32]byte
	before *Key
}

// ErrSealed is answered for what this key did not seal.
var ErrSealed = errors.New("it was sealed with another key")

// Parse reads a key: 32 bytes in base64.
func Parse(text string) (*Key, error) {
	b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(b) != 32 {
		return nil, errors.New("a key to seal with is 32 bytes in base64")
	}
	return &Key{k: [32]byte(b)}, nil
}

// File reads the key in a file, which is made, for its owner's eyes alone,
// where there is none.
func File(path string) (*Key, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		fresh := make([]byte, 32)
		rand.Read(fresh)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, fmt.Errorf("making the key to seal with: %w", err)
		}
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, os.ErrExist) { // another process was first
			return File(path)
		}
		if err != nil {
			return nil, fmt.Errorf("making the key to seal with: %w", err)
		}
		text := base64.StdEncoding.EncodeToString(fresh)
		if _, err = f.WriteString(text + "\n"); err == nil {
			err = f.Sync()
		}
		if cerr := f.Close(); err == nil {
			err = cerr
		}
		if err != nil {
			return nil, fmt.Errorf("making the key to seal with: %w", err)
		}
		return Parse(text)
	}
	if err != nil {
		return nil, fmt.Errorf("the key to seal with: %w", err)
	}
	return Parse(string(b))
}

// Seal seals a secret.
func (k *Key) Seal(secret string) []byte {
	var nonce [24]byte
	rand.Read(nonce[:])
	return secretbox.Seal(nonce[:], []byte(secret), &nonce, &k.k)
}

// After is the key, able to open what an earlier one sealed as well.
func (k *Key) After(earlier *Key) *Key { return &Key{k: k.k, before: earlier} }

// Open opens what Seal sealed.
func (k *Key) Open(sealed []byte) (string, error) {
	if len(sealed) < 24 {
		return "", ErrSealed
	}
	out, ok := secretbox.Open(nil, sealed[24:], (*[24]byte)(sealed), &k.k)
	if ok {
		return string(out), nil
	}
	if k.before != nil {
		return k.before.Open(sealed)
	}
	return "", ErrSealed
}

// Renew seals anew what an earlier key has sealed; false where the key itself
// has, or where no key opens it.
func (k *Key) Renew(sealed []byte) ([]byte, bool) {
	if _, err := (&Key{k: k.k}).Open(sealed); err == nil {
		return nil, false
	}
	secret, err := k.Open(sealed)
	if err != nil {
		return nil, false
	}
	return k.Seal(secret), true
}
