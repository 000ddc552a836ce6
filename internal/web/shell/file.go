package shell

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/plainly"
	"ombak/internal/core/shelf"
	"ombak/internal/roster"
)

// Uploaded reads a file that was sent with a form; nil where none was.
func Uploaded(c *echo.Context, field string, limit int64) (data []byte, name string, err error) {
	f, err := c.FormFile(field)
	if errors.Is(err, http.ErrMissingFile) || errors.Is(err, http.ErrNotMultipart) || err == nil && f.Filename == "" {
		return nil, "", nil
	}
	if err != nil {
		return nil, "", err
	}
	if f.Size > limit {
		return nil, "", plainly.Errorf("the file is larger than %d MB", limit>>20)
	}
	r, err := f.Open()
	if err != nil {
		return nil, "", err
	}
	defer r.Close()
	data, err = io.ReadAll(io.LimitReader(r, limit))
	if err == nil && len(data) == 0 {
		err = shelf.ErrEmpty
	}
	return data, f.Filename, err
}

// FileName adds today's date to the name of a file.
func (s *Shell) FileName(name string) string {
	return name + "-" + s.Engine.Now().In(s.Engine.Zone()).Format("2006-01-02")
}

// Attach begins an answer that is a file, however long it takes to write.
func (s *Shell) Attach(c *echo.Context, f roster.Form, name string) error {
	kind := roster.Types[f]
	if kind == "" {
		return echo.ErrBadRequest
	}
	if err := http.NewResponseController(c.Response()).SetWriteDeadline(time.Time{}); err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Content-Type", kind)
	h.Set("Content-Disposition",
		fmt.Sprintf(`attachment; filename="%s%s"`, name, roster.Ends[f]))
	return nil
}
