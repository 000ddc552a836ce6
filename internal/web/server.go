// Package web is the interface: pages rendered on the server, one file for
// each place in them. Handlers read from the store, ask the engine where
// something changes, and hand a view model to a template. They hold no rules
// of the job and no SQL.
package web

import (
	"net/http"
)

// Handler is everything Ombak answers over HTTP.
func (s *Server) Handler() http.Handler {
	e, open, in := s.frame()
	s.publicRoutes(e, in)
	s.joinRoutes(open)
	s.todayRoutes(in)
	s.peopleRoutes(in)
	s.contentRoutes(in)
	s.sequencesRoutes(in)
	s.scoringRoutes(in)
	s.deskRoutes(in)
	s.pipelineRoutes(in)
	s.settingsRoutes(in)
	s.routes = e
	return e
}
