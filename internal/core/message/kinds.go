package message

import (
	"html"
	"strings"

	"github.com/k3a/html2text"
)

// Kind is a kind of section: one of a closed set. What a kind looks like and
// says is all in its entry of kinds.
type Kind string

// The kinds.
const (
	Text      Kind = "text"
	Heading   Kind = "heading"
	Picture   Kind = "picture"
	Button    Kind = "button"
	List      Kind = "list"
	Divider   Kind = "divider"
	Quote     Kind = "quote"
	Signature Kind = "signature"
	ShelfItem Kind = "shelf item"
)

type kind struct {
	name  Kind
	words string // for a menu
	icon  string
	// html is the section as plain, semantic HTML with merge fields; dress adds
	// how it looks.
	html func(c Content) string
	// lacks says what is not written yet, or nothing.
	lacks func(c Content) string
}

var kinds = []kind{
	{Text, "Text", "text-align-left", func(c Content) string { return Clean(c.Text) },
		func(c Content) string { return either(blank(html2text.HTML2Text(c.Text)), "the text is empty") }},
	{Heading, "Heading", "text-h", func(c Content) string {
		if c.Small {
			return "<h2>" + html.EscapeString(c.Text) + "</h2>"
		}
		return "<h1>" + html.EscapeString(c.Text) + "</h1>"
	}, func(c Content) string { return either(blank(c.Text), "the heading is empty") }},
	{Button, "Button", "hand-tap", func(c Content) string {
		return `<p><a class="button" href="` + html.EscapeString(Address(c.Link)) + `">` + html.EscapeString(c.Label) +
			`</a></p>`
	}, func(c Content) string {
		return either(blank(c.Label), "the button says nothing") +
			either(!blank(c.Label) && blank(c.Link), "the button leads nowhere")
	}},
	{Picture, "Picture", "image", func(c Content) string {
		if blank(c.Picture) {
			return ""
		}
		img := `<img src="` + html.EscapeString(Address(c.Picture)) + `" alt="` + html.EscapeString(c.Alt) + `">`
		if !blank(c.Link) {
			img = `<a href="` + html.EscapeString(Address(c.Link)) + `">` + img + `</a>`
		}
		return "<p>" + img + "</p>"
	}, func(c Content) string {
		return either(blank(c.Picture), "there is no picture") +
			either(!blank(c.Picture) && blank(c.Alt), "the picture has no words for those who do not see it")
	}},
	{List, "List", "list-bullets", func(c Content) string {
		tag := "ul"
		if c.Ordered {
			tag = "ol"
		}
		var b strings.Builder
		b.WriteString("<" + tag + ">")
		for _, i := range c.Items {
			b.WriteString("<li>" + html.EscapeString(i) + "</li>")
		}
		b.WriteString("</" + tag + ">")
		return b.String()
	}, func(c Content) string { return either(len(c.Items) == 0, "the list is empty") }},
	{Quote, "Quote", "quotes", func(c Content) string {
		q := "<blockquote>" + Clean(c.Text)
		if !blank(c.By) {
			q += "<cite>" + html.EscapeString(c.By) + "</cite>"
		}
		return q + "</blockquote>"
	}, func(c Content) string { return either(blank(html2text.HTML2Text(c.Text)), "the quote is empty") }},
	{Divider, "Divider", "minus", func(Content) string { return "<hr>" }, func(Content) string { return "" }},
	{Signature, "Signature", "signature", func(Content) string {
		return `<div class="signature">{{ sender.signature }}</div>`
	}, func(Content) string { return "" }},
	{ShelfItem, "Shelf item", "books", func(c Content) string {
		if c.Shelf == 0 {
			return ""
		}
		s := `<p><a class="shelf" href="` + html.EscapeString(Address(c.Link)) + `">` + html.EscapeString(c.Label) +
			`</a>`
		if !blank(c.Text) {
			s += "<br>" + html.EscapeString(c.Text)
		}
		return s + "</p>"
	}, func(c Content) string { return either(c.Shelf == 0, "no item of the shelf is chosen") }},
}

func blank(s string) bool { return strings.TrimSpace(strings.ReplaceAll(s, "\u00a0", " ")) == "" }

func either(yes bool, s string) string {
	if yes {
		return s
	}
	return ""
}

func (k Kind) entry() *kind {
	for i := range kinds {
		if kinds[i].name == k {
			return &kinds[i]
		}
	}
	return nil
}

// Known reports whether there is such a kind.
func (k Kind) Known() bool { return k.entry() != nil }

// Words is the kind's name as a menu has it, Icon the icon beside it.
func (k Kind) Words() string {
	if e := k.entry(); e != nil {
		return e.words
	}
	return string(k)
}

// Icon names the icon of a kind.
func (k Kind) Icon() string {
	if e := k.entry(); e != nil {
		return e.icon
	}
	return ""
}

// Kinds lists them in the order of a menu.
func Kinds() []Kind {
	out := make([]Kind, len(kinds))
	for i := range kinds {
		out[i] = kinds[i].name
	}
	return out
}

// Lacks says what of a section is not written yet, or nothing.
func (k Kind) Lacks(c Content) string { return k.entry().lacks(c) }

// size is how many bytes a content has.
func (c *Content) size() int {
	n := len(c.Text) + len(c.Label) + len(c.Link) + len(c.Picture) + len(c.Alt) + len(c.By)
	for _, i := range c.Items {
		n += len(i)
	}
	return n
}

// words is what somebody reads of a content.
func (c *Content) words(k Kind) string {
	switch k {
	case Divider, Signature:
		return ""
	case Picture:
		return c.Picture
	}
	return html2text.HTML2Text(k.entry().html(*c))
}

// Tidy cleans what was typed of a section of a kind.
func (k Kind) Tidy(c Content) Content {
	line := func(s string, n int) string {
		s = strings.Join(strings.Fields(strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", ""), "")), " ")
		if len(s) > n {
			s = strings.ToValidUTF8(s[:n], "")
		}
		return s
	}
	out := Content{Label: line(c.Label, 200), Link: line(c.Link, 2000), Picture: line(c.Picture, 2000),
		Alt: line(c.Alt, 400), By: line(c.By, 200), Ordered: c.Ordered, Small: c.Small, Shelf: c.Shelf}
	switch k {
	case Text, Quote:
		out.Text = Clean(strings.ReplaceAll(c.Text, "\x00", ""))
	default:
		out.Text = line(c.Text, 1000)
	}
	for _, i := range c.Items {
		if i = line(i, 1000); i != "" && len(out.Items) < 60 {
			out.Items = append(out.Items, i)
		}
	}
	return out
}
