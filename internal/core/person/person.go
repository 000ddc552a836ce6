// Package person knows how people and companies are told apart: addresses
// made comparable, domains that are a company and those that are not.
package person

import (
	_ "embed"
	"net/mail"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"ombak/internal/core/plainly"
)

// Limits of what a record takes, in bytes.
const (
	MaxName  = 120
	MaxEmail = 254 // RFC 5321, 4.5.3.1: a path has at most 256 octets with its brackets
)

// ErrEmail is what Email answers for something that is no address.
var ErrEmail = plainly.New("this is not an email address")

// Email brings an address into the form in which two of them are compared:
// without outer spaces and in lower case. RFC 5321 lets a server tell upper
// and lower case apart before the @; in practice none does, and one person
// types both. It accepts a bare address (RFC 5322 addr-spec) whose domain has
// a dot; display names, quoted local parts and address literals are refused.
func Email(s string) (string, error) {
	s = strings.TrimSpace(s)
	if len(s) == 0 || len(s) > MaxEmail {
		return "", ErrEmail
	}
	for _, r := range s {
		if r <= ' ' || r == 0x7f || strings.ContainsRune(`<>"(),:;[]\`, r) {
			return "", ErrEmail
		}
	}
	a, err := mail.ParseAddress(s)
	if err != nil || a.Name != "" || a.Address != s {
		return "", ErrEmail
	}
	at := strings.LastIndexByte(s, '@')
	domain := s[at+1:]
	if at > 64 || !strings.Contains(domain, ".") || strings.HasPrefix(domain, ".") || strings.HasSuffix(domain, ".") ||
		strings.Contains(domain, "..") {
		return "", ErrEmail
	}
	return strings.ToLower(s), nil
}

// freeMail are domains at which anybody can have an address, so that they say
// nothing about a company: the list of the npm package free-email-domains
// 1.12.6 (MIT licence), and three domains for examples (RFC 2606).
//
//go:embed freemail.txt
var freeMailList string

var freeMail = sync.OnceValue(func() map[string]bool {
	m := make(map[string]bool, 15000)
	for line := range strings.Lines(freeMailList) {
		m[strings.TrimSuffix(line, "\n")] = true
	}
	return m
})

// CompanyDomain is the domain of an address where it tells the company, else
// empty.
func CompanyDomain(email string) string {
	d := email[strings.LastIndexByte(email, '@')+1:]
	if d == email || freeMail()[d] {
		return ""
	}
	return d
}

// Name tidies a typed name: outer and repeated spaces go, control characters
// too, and it is cut at MaxName bytes without breaking a letter.
func Name(s string) string {
	s = tidy(s)
	for len(s) > MaxName {
		_, n := utf8.DecodeLastRuneInString(s)
		s = strings.TrimSpace(s[:len(s)-n])
	}
	return s
}

func tidy(s string) string {
	if clean(s) {
		return s
	}
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, ""))
	return strings.Join(strings.Fields(s), " ")
}

// clean reports whether tidy would leave s alone, for the many that are.
func clean(s string) bool {
	space := true
	for i := range len(s) {
		c := s[i]
		if c < ' ' || c >= 0x7f || c == ' ' && space {
			return false
		}
		space = c == ' '
	}
	return !space || s == ""
}

// Full joins names into one, or gives the address where there is none.
func Full(first, last, email string) string {
	if n := strings.TrimSpace(first + " " + last); n != "" {
		return n
	}
	return email
}
