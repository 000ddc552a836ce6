// Package website is the web site of the demo's company, which is nobody's: a
// few pages that record visits after consent and show a form, by the snippets
// that Ombak serves, as any other site would.
package website

import (
	"embed"
	"html/template"
	"io/fs"
	"net/http"
)

//go:embed pages
var files embed.FS

var pages = template.Must(template.ParseFS(files, "pages/*.html"))

var sub = func() fs.FS {
	f, err := fs.Sub(files, "pages")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	return f
}()

// Page is a page of the site.
type Page struct {
	Path, Title, Name string // Name is that of its template
}

// Pages are all of them, in the order of the menu.
var Pages = []Page{{"/", "Water, watched", "home"}, {"/buoys", "Buoys", "buoys"},
	{"/a-night-without-oxygen", "What a night without oxygen costs", "night"},
	{"/contact", "The field guide", "contact"}}

// Handler serves the site. home is the address of the Ombak whose snippets it
// loads.
func Handler(home string) http.Handler {
	mux := http.NewServeMux()
	for _, p := range Pages {
		path := p.Path
		if path == "/" {
			path = "/{$}"
		}
		mux.HandleFunc("GET "+path, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			if err := pages.ExecuteTemplate(w, p.Name,
				map[string]any{"Home": home, "Title": p.Title, "Path": p.Path, "Pages": Pages}); err != nil {
				http.Error(w, "the page could not be written", http.StatusInternalServerError)
			}
		})
	}
	inside := http.StripPrefix("/", http.FileServerFS(sub))
	mux.Handle("GET /site.css", inside)
	mux.Handle("GET /site.js", inside)
	return mux
}
