// Package shelf is the rules of what is kept for readers and reps: which files
// are taken, and as what they are served.
//
// A file is what its first bytes say. One whose name says something else is not
// taken: whoever opens it would be deceived. Files that a browser could run in
// our name (pages, scripts, drawings that hold them) are never taken.
package shelf

import (
	"bytes"
	"path"
	"slices"
	"strings"

	"ombak/internal/core/plainly"
)

// MaxFile is how large a file can be, in bytes.
const MaxFile = 20 << 20

// Kind of file: what its first bytes are told as, and the endings its name may
// have.
type kind struct {
	sniffed string
	served  string
	ends    []string
}

var kinds = []kind{
	{"application/pdf", "application/pdf", []string{".pdf"}},
	{"image/png", "image/png", []string{".png"}},
	{"image/jpeg", "image/jpeg", []string{".jpg", ".jpeg"}},
	{"image/webp", "image/webp", []string{".webp"}},
	{"image/gif", "image/gif", []string{".gif"}},
	{"video/mp4", "video/mp4", []string{".mp4"}},
	{"application/zip", "application/vnd.openxmlformats-officedocument.wordprocessingml.document", []string{".docx"}},
	{"application/zip", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", []string{".xlsx"}},
	{"application/zip", "application/vnd.openxmlformats-officedocument.presentationml.presentation", []string{".pptx"}},
	{"application/zip", "application/vnd.oasis.opendocument.text", []string{".odt"}},
	{"application/zip", "application/zip", []string{".zip"}},
	{"text/plain; charset=utf-8", "text/plain; charset=utf-8", []string{".txt", ".csv", ".ics", ".vcf"}},
}

// ErrEmpty and ErrLarge are answered for files of such a size.
var (
	ErrEmpty = plainly.New("the file is empty")
	ErrLarge = plainly.Errorf("the file is larger than %d MB", MaxFile>>20)
)

// Accept says as what a file is served, by its name, by what its first bytes
// are (a media type, as the WHATWG's MIME Sniffing Standard tells it), and by
// the bytes themselves.
func Accept(name, is string, data []byte) (served string, err error) {
	if len(data) == 0 {
		return "", ErrEmpty
	}
	if len(data) > MaxFile {
		return "", ErrLarge
	}
	end := strings.ToLower(path.Ext(name))
	for _, k := range kinds {
		if !slices.Contains(k.ends, end) {
			continue
		}
		switch {
		case is != k.sniffed:
			return "", plainly.Errorf("the name ends in %s, and in it is something else", end)
		case is == "text/plain; charset=utf-8" && looksActive(data):
			return "", plainly.New("this text is a page or a script, and is not taken")
		case strings.HasPrefix(k.served, "application/vnd.openxml") &&
			!bytes.Contains(data[:min(len(data), 4096)], []byte("[Content_Types].xml")) &&
			!bytes.Contains(data, []byte("[Content_Types].xml")):
			return "", plainly.Errorf("the name ends in %s, and in it is another archive", end)
		}
		return k.served, nil
	}
	return "", plainly.Errorf("files of this kind (%s) are not taken; a PDF, a picture, an office document, a text "+
		"or a ZIP is", strings.TrimPrefix(end, "."))
}

// looksActive reports whether a text is one that a browser could run.
func looksActive(data []byte) bool {
	low := bytes.ToLower(data[:min(len(data), 4096)])
	for _, s := range []string{"<script", "<html", "<!doctype", "<svg", "<iframe", "javascript:"} {
		if bytes.Contains(low, []byte(s)) {
			return true
		}
	}
	return false
}

// Inline reports whether a browser may show a file in place; all others are
// saved.
func Inline(served string) bool {
	return served == "application/pdf" || strings.HasPrefix(served, "image/") || served == "text/plain; charset=utf-8"
}

// SafeName is a file's name as a header may have it.
func SafeName(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == '"' || r == '\\' || r > '~' || r == '/' {
			return '-'
		}
		return r
	}, name)
}
