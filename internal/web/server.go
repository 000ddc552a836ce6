// Package web is the interface: pages rendered on the server. Each place in it is a
// package with its templates beside its handlers, and stands on the shell alone:
// frame, sign-in, rendering, live events, and the parts that many places use.
//
// Handlers read from the store, ask the engine where something changes, and hand a
// view model to a template. They hold no rules of the job and no SQL.
package web

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/labstack/echo/v5"
	"golang.org/x/sync/errgroup"

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
	places []place    // and these
}

// place is one of the places of the interface.
type place interface{ Routes(in *echo.Group) }

// New makes the server; ctx ends its background work.
func New(ctx context.Context, c shell.Config) *Server { return &Server{Shell: shell.New(ctx, c)} }

// Handler is everything Ombak answers over HTTP.
func (s *Server) Handler() http.Handler {
	e, open, in := s.Frame()
	settled := settings.Place{Shell: s.Shell}
	settled.JoinRoutes(open)
	(&public.Place{Shell: s.Shell}).Routes(e, in)
	s.places = []place{
		&today.Place{Shell: s.Shell}, &people.Place{Shell: s.Shell}, &content.Place{Shell: s.Shell},
		&sequences.Place{Shell: s.Shell}, &scoring.Place{Shell: s.Shell}, &desk.Place{Shell: s.Shell},
		&pipeline.Place{Shell: s.Shell}, &settled,
	}
	for _, p := range s.places {
		p.Routes(in)
	}
	s.routes = e
	return e
}

// Warm readies all pages, and counts, where there are many people, what they show that is counted over everybody, so
// that nobody who is the first to ask for one of them waits for that. Handler has been called before.
func (s *Server) Warm(ctx context.Context) error {
	if err := shell.ReadyPages(); err != nil {
		return err
	}
	large, err := s.Engine.Large(ctx)
	if err != nil || !large {
		return err
	}
	for _, p := range s.places {
		if p, ok := p.(interface{ Warm(context.Context) error }); ok {
			if err := p.Warm(ctx); err != nil {
				return fmt.Errorf("counting over everybody: %w", err)
			}
		}
	}
	return nil
}

// rehearsals is how often, by so many at once: the database plans a statement for what is asked five times in each
// connection before it plans it for good, and which of a pool's connections a page is read over is chance.
const rehearsals, rehearsing = 35, 4

// Rehearse has, where there are many people, the pages that ask most read before anybody comes.
func (s *Server) Rehearse(ctx context.Context) error {
	large, err := s.Engine.Large(ctx)
	if err != nil || !large {
		return err
	}
	all, ctx := errgroup.WithContext(ctx)
	for range rehearsing {
		all.Go(func() error {
			for range rehearsals {
				if err := s.rehearse(ctx); err != nil {
					return fmt.Errorf("reading a page before it is asked for: %w", err)
				}
			}
			return nil
		})
	}
	return all.Wait()
}

// rehearse reads each of those pages once.
func (s *Server) rehearse(ctx context.Context) error {
	for _, p := range s.places {
		if p, ok := p.(interface{ Rehearse(context.Context) error }); ok {
			if err := p.Rehearse(ctx); err != nil {
				return err
			}
		}
	}
	return nil
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
