package engine

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
)

// Link addresses carry a signature over what they are for, so that nobody can
// make one up or change one.

func (e *Engine) sign(what string, a, b int64) string {
	m := hmac.New(sha256.New, e.key)
	fmt.Fprintf(m, "%s/%d/%d", what, a, b)
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil)[:15])
}

func (e *Engine) signed(what string, a, b int64, signature string) bool {
	return hmac.Equal([]byte(e.sign(what, a, b)), []byte(signature))
}

// LinkURL is the tracked address of the n-th link of a touch's email.
func (e *Engine) LinkURL(touch int64, n int) string {
	return fmt.Sprintf("%s/l/%d/%d/%s", e.URL, touch, n, e.sign("link", touch, int64(n)))
}

// PixelURL is the address of the picture that tells of an open.
func (e *Engine) PixelURL(touch int64) string {
	return fmt.Sprintf("%s/o/%d/%s.gif", e.URL, touch, e.sign("open", touch, 0))
}

// OptOutURL is the address at which the reader of a touch's email opts out.
func (e *Engine) OptOutURL(touch int64) string {
	return fmt.Sprintf("%s/u/%d/%s", e.URL, touch, e.sign("opt-out", touch, 0))
}

// ReaderToken names a person to their own browser, so that what they look at
// after pressing a link is theirs.
func (e *Engine) ReaderToken(person int64) string {
	return fmt.Sprintf("%d.%s", person, e.sign("reader", person, 0))
}

// Reader reads a ReaderToken; 0 for one that is not ours.
func (e *Engine) Reader(token string) int64 {
	var person int64
	var sig string
	if n, err := fmt.Sscanf(token, "%d.%s", &person, &sig); n != 2 || err != nil || !e.signed("reader", person, 0, sig) {
		return 0
	}
	return person
}

// ViewToken vouches for the instant at which a page was shown.
func (e *Engine) ViewToken(page int64) string {
	at := e.Now().UnixMicro()
	return fmt.Sprintf("%d.%s", at, e.sign("view", page, at))
}
