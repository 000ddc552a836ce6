package mail

import (
	"strings"

	"github.com/k3a/html2text"
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"ombak/internal/core/answer"
)

// quoteClasses and quoteIDs are what programs name the boxes in which they put
// what they quote; after those of the second kind all the rest of the box
// they stand in is quoted. Common practice, no source.
var (
	quoteClasses = []string{"gmail_quote", "gmail_extra", "yahoo_quoted", "moz-cite-prefix", "protonmail_quote",
		"tutanota_quote", "zmail_extra", "quote_body"}
	quoteNames = []string{"quote", "QuotedContent"}
	quoteIDs   = []string{"divRplyFwdMsg", "appendonsend", "mail-editor-reference-message-container",
		"OLK_SRC_BODY_SECTION", "replySplit"}
)

// marked reads a text/html part. Where it cannot be taken apart, which no text
// makes happen that is known, all of it is said.
func marked(source string) words {
	whole := html2text.HTML2Text(source)
	w := words{text: whole, said: whole}
	doc, err := html.Parse(strings.NewReader(source))
	if err == nil {
		cutQuotes(doc)
		var out strings.Builder
		if html.Render(&out, doc) == nil {
			w.said = html2text.HTML2Text(out.String())
		}
	}
	if strings.TrimSpace(w.said) == "" {
		w.said = whole
	}
	w.said = answer.Said(w.said)
	return w
}

// cutQuotes takes the quotations out of a document. It goes down no deeper than
// any program writes.
func cutQuotes(doc *html.Node) {
	var walk func(n *html.Node, depth int)
	walk = func(n *html.Node, depth int) {
		for c := n.FirstChild; c != nil && depth < 200; {
			next := c.NextSibling
			switch {
			case c.Type != html.ElementNode:
			case rest(c):
				for c != nil {
					next = c.NextSibling
					n.RemoveChild(c)
					c = next
				}
				return
			case quotation(c):
				n.RemoveChild(c)
			default:
				walk(c, depth+1)
			}
			c = next
		}
	}
	walk(doc, 0)
}

func quotation(n *html.Node) bool {
	if n.DataAtom == atom.Blockquote {
		// Also where somebody sets a paragraph in; but then it is not all they say, or all of it is answered.
		return true
	}
	for _, a := range n.Attr {
		switch a.Key {
		case "class":
			for _, c := range strings.Fields(a.Val) {
				for _, q := range quoteClasses {
					if c == q {
						return true
					}
				}
			}
		case "name":
			for _, q := range quoteNames {
				if a.Val == q {
					return true
				}
			}
		}
	}
	return false
}

// rest reports whether a quotation begins at n and goes on beside it.
func rest(n *html.Node) bool {
	for _, a := range n.Attr {
		if a.Key == "id" {
			for _, q := range quoteIDs {
				if strings.HasPrefix(a.Val, q) || strings.HasPrefix(a.Val, "x_"+q) {
					return true
				}
			}
		}
	}
	return false
}
