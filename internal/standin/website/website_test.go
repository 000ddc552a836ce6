package website

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

// Every page is there, loads the snippets from Ombak and nothing else from elsewhere, and the form is shown where it is
// to stand.
func TestPages(t *testing.T) {
	srv := httptest.NewServer(Handler("http://ombak.example"))
	defer srv.Close()
	get := func(path string) (int, string) {
		res, err := http.Get(srv.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		if err != nil {
			t.Fatal(err)
		}
		return res.StatusCode, string(b)
	}
	for _, p := range Pages {
		code, body := get(p.Path)
		if code != http.StatusOK || !strings.Contains(body, "<title>"+p.Title) ||
			!strings.Contains(body, `src="http://ombak.example/v.js"`) ||
			!strings.Contains(body, `href="`+p.Path+`" aria-current="page"`) {
			t.Errorf("%s: %d", p.Path, code)
		}
		if n := strings.Count(strings.ReplaceAll(body, "http://ombak.example/", ""), "://"); n != 0 {
			t.Errorf("%s leads elsewhere %d times", p.Path, n)
		}
	}
	if _, body := get("/contact"); !strings.Contains(body, `data-ombak-form="oxygen-alarms"`) {
		t.Error("the form is nowhere")
	}
	for path, want := range map[string]int{"/site.css": 200, "/site.js": 200, "/frame.html": 404, "/nowhere": 404} {
		if code, _ := get(path); code != want {
			t.Errorf("%s: %d", path, code)
		}
	}
}
