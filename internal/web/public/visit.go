package public

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/engine/forms"
	"ombak/internal/web/assets"
	"ombak/internal/web/shell"
)

// visited takes a page view from a site of our own. It answers every origin
// alike, and keeps only those of sites that were added.
func (s *Place) visited(c *echo.Context) error {
	r := c.Request()
	if r.Header.Get("Sec-GPC") == "1" || machine(r) != "" { // Global Privacy Control: nothing is kept
		return c.NoContent(http.StatusNoContent)
	}
	if !s.Limits.Allow("visit", shell.Network(c.RealIP()), time.Second, 60) {
		return c.NoContent(http.StatusTooManyRequests)
	}
	ctx := r.Context()
	ours, err := s.Store.IsSite(ctx, r.Header.Get("Origin"))
	if err != nil {
		return err
	}
	if !ours {
		return c.NoContent(http.StatusForbidden)
	}
	var v struct{ V, U, K string }
	if err := json.NewDecoder(io.LimitReader(r.Body, 8<<10)).Decode(&v); err != nil {
		return echo.ErrBadRequest
	}
	if forms.Origin(v.U) != r.Header.Get("Origin") {
		return echo.ErrBadRequest
	}
	if err := s.Engine.Visited(ctx, v.V, v.U, v.K); errors.Is(err, forms.ErrVisit) {
		return echo.ErrBadRequest
	} else if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// visitScript is the snippet that sites of our own load.
func (s *Place) visitScript(c *echo.Context) error { return s.snippet(c, "visit.js") }

// snippet answers a script that other sites load.
func (s *Place) snippet(c *echo.Context, name string) error {
	h := c.Response().Header()
	h.Set("Cross-Origin-Resource-Policy", "cross-origin")
	h.Set("Cache-Control", "public, max-age=3600")
	b, err := assets.Files.ReadFile("dist/" + name)
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, "text/javascript; charset=utf-8", b)
}
