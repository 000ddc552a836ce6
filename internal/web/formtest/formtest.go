// Package formtest reads forms as a browser would send them, for tests.
package formtest

import (
	"net/url"
	"strings"
	"testing"

	"golang.org/x/net/html"
)

// Sent is what a browser would send of the form in a page.
func Sent(t testing.TB, page string) url.Values {
	t.Helper()
	doc, err := html.Parse(strings.NewReader(page))
	if err != nil {
		t.Fatal(err)
	}
	v := url.Values{}
	attr := func(n *html.Node, key string) (string, bool) {
		for _, a := range n.Attr {
			if a.Key == key {
				return a.Val, true
			}
		}
		return "", false
	}
	var walk func(*html.Node)
	walk = func(n *html.Node) {
		name, _ := attr(n, "name")
		switch {
		case n.Type != html.ElementNode || name == "":
		case n.Data == "input":
			value, _ := attr(n, "value")
			kind, _ := attr(n, "type")
			if _, on := attr(n, "checked"); kind == "checkbox" && !on {
				break
			}
			v.Add(name, value)
		case n.Data == "textarea":
			text := ""
			if n.FirstChild != nil {
				text = n.FirstChild.Data
			}
			v.Add(name, text)
		case n.Data == "select":
			first, chosen := "", ""
			var options func(*html.Node)
			found, any := false, false
			options = func(o *html.Node) {
				if o.Data == "option" {
					value, _ := attr(o, "value")
					if !any {
						first, any = value, true
					}
					if _, ok := attr(o, "selected"); ok {
						chosen, found = value, true
					}
				}
				for k := o.FirstChild; k != nil; k = k.NextSibling {
					options(k)
				}
			}
			options(n)
			if !found {
				chosen = first // as a browser does
			}
			v.Add(name, chosen)
		}
		for k := n.FirstChild; k != nil; k = k.NextSibling {
			walk(k)
		}
	}
	walk(doc)
	return v
}
