package base

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"html"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// What lies on the shelf or behind a form is handed to whom we gave an address
// that carries a pass: signed for that one path, with an end. Nobody finds a
// file by counting.

// PassParam is the query parameter that carries a pass.
const PassParam = "k"

// How long the passes hold that go out: in a press on an email's link, on a
// page, and of a picture within a letter, which people look at again.
const (
	PassForLink    = 30 * 24 * time.Hour
	passForPage    = 24 * time.Hour
	PassForPicture = 3 * 365 * 24 * time.Hour
)

// behindPass are the paths that want one.
var behindPass = regexp.MustCompile(`^/(s/[0-9]{1,18}(/file)?|g/[a-z0-9-]{1,120})$`)

// Pass lets its bearer come to a path until an instant.
func (e *Base) Pass(path string, until time.Time) string {
	at := until.Unix()
	return fmt.Sprintf("%d.%s", at, e.passMark(path, at))
}

func (e *Base) passMark(path string, until int64) string {
	m := hmac.New(sha256.New, e.key)
	fmt.Fprintf(m, "pass/%d/%s", until, path)
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil)[:15])
}

// Passes reports whether a pass lets its bearer come to a path now.
func (e *Base) Passes(path, pass string) bool {
	end, mark, _ := strings.Cut(pass, ".")
	until, err := strconv.ParseInt(end, 10, 64)
	return err == nil && hmac.Equal([]byte(e.passMark(path, until)), []byte(mark)) && e.Now().Unix() < until
}

// WithPass is a path of our own with a pass, where it wants one; any other
// address stays as it is.
func (e *Base) WithPass(address string, lasts time.Duration) string {
	u, err := url.Parse(address)
	if err != nil || u.Host != "" || u.Scheme != "" || !behindPass.MatchString(u.Path) {
		return address
	}
	q := u.Query()
	q.Set(PassParam, e.Pass(u.Path, e.Now().Add(lasts)))
	u.RawQuery = q.Encode()
	return u.String()
}

var addressIn = regexp.MustCompile(`(src|href)="(/[sg]/[^"]*)"`)

// PassesIn gives the addresses in some HTML that want one a pass.
func (e *Base) PassesIn(s string, lasts time.Duration) string {
	if !strings.Contains(s, `="/s/`) && !strings.Contains(s, `="/g/`) {
		return s // as a rule
	}
	return addressIn.ReplaceAllStringFunc(s, func(x string) string {
		m := addressIn.FindStringSubmatch(x)
		return m[1] + `="` + html.EscapeString(e.WithPass(html.UnescapeString(m[2]), lasts)) + `"`
	})
}

// OnPage gives what a page of ours shows and links to the passes it wants.
func (e *Base) OnPage(s string) string { return e.PassesIn(s, passForPage) }
