package shell

import (
	"bytes"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/labstack/echo/v5"
)

// maxFields is how many fields an address or a form has at most.
const maxFields = 3000

// readable lets through only what can be read: an address and a form whose
// escapes are whole, whose text is text, and which have no more fields than a
// page of ours could make. All handlers can rely on it.
func readable(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if !isText(r.URL.Path) || !fieldsReadable(r.URL.RawQuery) {
			return echo.ErrBadRequest
		}
		if r.Method == http.MethodGet || r.Method == http.MethodHead {
			return next(c)
		}
		switch kind, params, err := mime.ParseMediaType(r.Header.Get("Content-Type")); {
		case r.Header.Get("Content-Type") == "" || kind == "application/json" || kind == "text/plain":
		case err != nil:
			return echo.ErrBadRequest
		case kind == "application/x-www-form-urlencoded":
			// Read once here, within the limit of a body, and given on.
			body, err := io.ReadAll(r.Body)
			if err != nil {
				return err
			}
			if !fieldsReadable(string(body)) {
				return echo.ErrBadRequest
			}
			r.Body = io.NopCloser(bytes.NewReader(body))
		case kind == "multipart/form-data":
			// A list that is brought in is read as it comes, by its handler; a form with a file is read here.
			if b := params["boundary"]; b == "" || len(b) > 70 { // RFC 2046, 5.1.1
				return echo.ErrBadRequest
			}
			if r.URL.Path == "/people/imports" {
				break
			}
			if err := r.ParseMultipartForm(MaxBody); err != nil {
				return notRead(err)
			}
			defer r.MultipartForm.RemoveAll()
			if !valuesReadable(r.MultipartForm.Value) {
				return echo.ErrBadRequest
			}
		default:
			return echo.ErrUnsupportedMediaType
		}
		return next(c)
	}
}

// notRead is the answer to a form that could not be read: that it was too
// large, or that it is none.
func notRead(err error) error {
	if echo.StatusCode(err) == http.StatusRequestEntityTooLarge {
		return err
	}
	return echo.ErrBadRequest
}

func isText(s string) bool { return utf8.ValidString(s) && !strings.ContainsRune(s, 0) }

func fieldsReadable(encoded string) bool {
	if strings.Count(encoded, "&") > maxFields {
		return false
	}
	v, err := url.ParseQuery(encoded)
	return err == nil && valuesReadable(v)
}

func valuesReadable(v map[string][]string) bool {
	n := 0
	for name, list := range v {
		if !isText(name) {
			return false
		}
		for _, x := range list {
			if n++; n > maxFields || !isText(x) {
				return false
			}
		}
	}
	return true
}
