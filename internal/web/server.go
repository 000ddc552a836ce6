// Package web is the interface: pages rendered on the server. Each place in it is a
// package with its templates beside its handlers, and stands on the shell alone:
// frame, sign-in, rendering, live events, and the parts that many places use.
//
// Handlers read from the store, ask the engine where something changes, and hand a
// view model to a template. They hold no rules of the job and no SQL.
package web

import (
	"context"
	"net/http"
	"slices"

	"github.com/labstack/echo/v5"

	"ombak/internal/web/content"
	"ombak/internal/web/desk"
	"ombak/internal/web/people"
	"ombak/internal/web/pipeline"
	"ombak/internal/web/public"
	"ombak/internal/web/scoring"
	"ombak/internal/web/sequences"
	"ombak/internal/web/settings"
	"ombak/internal/web/shell"
	"ombak/internal/web/today"
)

// Server serves the interface.
type Server struct {
	*shell.Shell
	routes *echo.Echo // as the last call of Handler made them
}

// New makes the server; ctx ends its background work.
func New(ctx context.Context, c shell.Config) *Server { return &Server{Shell: shell.New(ctx, c)} }

// Handler is everything Ombak answers over HTTP.
func (s *Server) Handler() http.Handler {
	e, open, in := s.Frame()
	settled := settings.Place{Shell: s.Shell}
	settled.JoinRoutes(open)
	(&public.Place{Shell: s.Shell}).Routes(e, in)
	for _, place := range []interface{ Routes(in *echo.Group) }{
		&today.Place{Shell: s.Shell}, &people.Place{Shell: s.Shell}, &content.Place{Shell: s.Shell},
		&sequences.Place{Shell: s.Shell}, &scoring.Place{Shell: s.Shell}, &desk.Place{Shell: s.Shell},
		&pipeline.Place{Shell: s.Shell}, &settled,
	} {
		place.Routes(in)
	}
	s.routes = e
	return e
}

// Pages lists the patterns of what can be asked for, as the last call of Handler made them.
func (s *Server) Pages() []string {
	var out []string
	for _, r := range s.routes.Router().Routes() {
		if r.Method == http.MethodGet {
			out = append(out, r.Path)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
