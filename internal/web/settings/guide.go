package settings

import (
	"bytes"
	"html/template"
	"sync"

	"github.com/labstack/echo/v5"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/parser"
	"github.com/yuin/goldmark/text"

	"ombak/docs"
)

// guideData is the guide with its chapters.
type guideData struct {
	Title    string
	Chapters []chapter
	HTML     template.HTML // our own words, which the program carries
}

type chapter struct{ ID, Title string }

// Guide is the guide of docs as a page: the same file, read once.
var Guide = sync.OnceValues(func() (guideData, error) {
	md := goldmark.New(goldmark.WithParserOptions(parser.WithAutoHeadingID()))
	root := md.Parser().Parse(text.NewReader(docs.Guide))
	var d guideData
	for n := root.FirstChild(); n != nil; {
		h, ok := n.(*ast.Heading)
		n = n.NextSibling()
		if !ok {
			continue
		}
		id, _ := h.AttributeString("id")
		name, _ := id.([]byte)
		switch title := string(h.Lines().Value(docs.Guide)); h.Level {
		case 1:
			d.Title = title // the page has it already
			root.RemoveChild(root, h)
		case 2:
			d.Chapters = append(d.Chapters, chapter{string(name), title})
		}
	}
	var out bytes.Buffer
	err := md.Renderer().Render(&out, docs.Guide, root)
	d.HTML = template.HTML(out.String())
	return d, err
})

func (s *Place) guide(c *echo.Context) error {
	d, err := Guide()
	if err != nil {
		return err
	}
	return s.Page(c, "guide.html", "", "", "Guide", d)
}
