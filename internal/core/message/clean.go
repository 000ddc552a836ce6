package message

import (
	"net/url"
	"strings"

	"github.com/microcosm-cc/bluemonday"
)

var policy = func() *bluemonday.Policy {
	p := bluemonday.NewPolicy()
	p.AllowElements("p", "div", "br", "strong", "b", "em", "i", "del", "u", "ul", "ol", "li", "blockquote", "h1", "h2",
		"pre")
	p.AllowAttrs("href").OnElements("a")
	p.AllowURLSchemes("http", "https", "mailto", "tel")
	p.AllowRelativeURLs(true)
	p.RequireParseableURLs(true)
	return p
}()

// Clean keeps of a text what a message may hold: no script, no style, no
// handler, no form; links to the web, to addresses and to Ombak's own pages.
func Clean(body string) string { return policy.Sanitize(body) }

// Address is a link's target as it may stand in a message: of the web, of mail,
// of a telephone, or within Ombak; empty for any other.
func Address(s string) string {
	s = strings.TrimSpace(s)
	u, err := url.Parse(s)
	if err != nil || strings.ContainsAny(s, "\r\n\t<>\"") {
		return ""
	}
	switch u.Scheme {
	case "http", "https":
		if u.Host == "" {
			return ""
		}
	case "mailto", "tel":
	case "":
		if !strings.HasPrefix(s, "/") || strings.HasPrefix(s, "//") {
			return ""
		}
	default:
		return ""
	}
	return s
}
