package base

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"strings"
)

// Link addresses carry a signature over what they are for, so that nobody can
// make one up or change one.

// Sign signs what an address is for.
func (e *Base) Sign(what string, a, b int64) string { return SignWith(e.key, what, a, b) }

// SignWith is Sign by a key: 20 characters that nobody can make up (HMAC, RFC 2104, with
// SHA-256, cut to 120 bits).
func SignWith(key []byte, what string, a, b int64) string {
	m := hmac.New(sha256.New, key)
	fmt.Fprintf(m, "%s/%d/%d", what, a, b)
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil)[:15])
}

// Signed reports whether a signature is ours.
func (e *Base) Signed(what string, a, b int64, signature string) bool {
	return hmac.Equal([]byte(e.Sign(what, a, b)), []byte(signature))
}

// earlierKey signed the links of the touches up to one.
type earlierKey struct {
	Key     []byte `json:"key"`
	Touches int64  `json:"touches"`
}

// SignedTouch is signed for what stands in an email: one that went out under
// an earlier key keeps its links.
func (e *Base) SignedTouch(what string, touch, b int64, signature string) bool {
	if e.Signed(what, touch, b, signature) {
		return true
	}
	return len(e.before.Key) >= 32 && touch <= e.before.Touches &&
		hmac.Equal([]byte(SignWith(e.before.Key, what, touch, b)), []byte(signature))
}

// LinkURL is the tracked address of the n-th link of a touch's email.
func (e *Base) LinkURL(touch int64, n int) string {
	return fmt.Sprintf("%s/l/%d/%d/%s", e.URL, touch, n, e.Sign("link", touch, int64(n)))
}

// PixelURL is the address of the picture that tells of an open.
func (e *Base) PixelURL(touch int64) string {
	return fmt.Sprintf("%s/o/%d/%s.gif", e.URL, touch, e.Sign("open", touch, 0))
}

// TrapURL is the address of the link that no reader of a touch's email sees.
func (e *Base) TrapURL(touch int64) string {
	return fmt.Sprintf("%s/h/%d/%s", e.URL, touch, e.Sign("trap", touch, 0))
}

// OptOutURL is the address at which the reader of a touch's email opts out.
func (e *Base) OptOutURL(touch int64) string {
	return fmt.Sprintf("%s/u/%d/%s", e.URL, touch, e.Sign("opt-out", touch, 0))
}

// ReaderToken names a person to their own browser: they pressed a link in an
// email that came to them, so it is theirs.
func (e *Base) ReaderToken(person int64) string {
	return fmt.Sprintf("%d.%s", person, e.Sign("reader", person, 0))
}

// ClaimToken names to a browser the first form that was filled in there:
// somebody says who they are, and may not be.
func (e *Base) ClaimToken(answer int64) string {
	return fmt.Sprintf("c%d.%s", answer, e.Sign("claim", answer, 0))
}

// ReadToken reads either; zeros for one that is not ours.
func (e *Base) ReadToken(token string) (person, answer int64) {
	var n int64
	var sig string
	rest, claim := strings.CutPrefix(token, "c")
	if k, err := fmt.Sscanf(rest, "%d.%s", &n, &sig); k != 2 || err != nil {
		return 0, 0
	}
	if claim && e.Signed("claim", n, 0, sig) {
		return 0, n
	}
	if !claim && e.Signed("reader", n, 0, sig) {
		return n, 0
	}
	return 0, 0
}

// PageVisitToken names one time that a page was shown, to whoever it was shown.
func (e *Base) PageVisitToken(page, visit int64) string {
	return fmt.Sprintf("%d.%s", visit, e.Sign("page visit", page, visit))
}

// PageVisit reads a pageVisitToken; 0 for one that is not this page's.
func (e *Base) PageVisit(page int64, token string) int64 {
	var visit int64
	var sig string
	if n, err := fmt.Sscanf(token, "%d.%s", &visit, &sig); n != 2 || err != nil ||
		!e.Signed("page visit", page, visit, sig) {
		return 0
	}
	return visit
}

// BrowserToken tells a browser from which somebody has signed in. It rests on
// their address: who changes it, is unknown to browsers.
func (e *Base) BrowserToken(email string) string {
	id := rand.Text()
	return id + "." + e.browserMark(email, id)
}

// IsBrowserToken reports whether a token is one of ours for that address.
func (e *Base) IsBrowserToken(email, token string) bool {
	id, mark, ok := strings.Cut(token, ".")
	return ok && hmac.Equal([]byte(e.browserMark(email, id)), []byte(mark))
}

func (e *Base) browserMark(email, id string) string {
	m := hmac.New(sha256.New, e.key)
	fmt.Fprintf(m, "browser/%s/%s", id, email)
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil)[:15])
}

// Hashed is an address as the list of those never to be written to again has
// it: without the workspace's key nobody can try addresses against it.
func (e *Base) Hashed(address string) []byte {
	m := hmac.New(sha256.New, e.key)
	fmt.Fprintf(m, "never again %s", address)
	return m.Sum(nil)
}
