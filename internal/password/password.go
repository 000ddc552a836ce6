// Package password keeps passwords as argon2id hashes (RFC 9106).
package password

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Parameters of argon2id: those that OWASP's password storage cheat sheet
// gives as its first choice below 20 MiB (from memory).
const (
	argonTime    = 2
	argonMemory  = 19 * 1024
	argonThreads = 1
)

// Hash hashes a password with argon2id, in the usual coded form that
// holds its own parameters and salt.
func Hash(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, 32)
	b := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		b.EncodeToString(salt), b.EncodeToString(key))
}

// ErrHash is answered for a hash that cannot be read.
var ErrHash = errors.New("a password hash cannot be read")

// Matches reports whether a password is the one that was hashed.
func Matches(password, hash string) (bool, error) {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, ErrHash
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil || m == 0 || t == 0 || p == 0 ||
		m > 1<<20 {
		return false, ErrHash
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, ErrHash
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || len(want) == 0 {
		return false, ErrHash
	}
	got := argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1, nil
}
