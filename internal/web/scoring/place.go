// Package scoring is what points are for, the fit, and how a change of them comes to count.
package scoring

import (
	"context"
	"embed"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/right"
	"ombak/internal/engine/base"
	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, nil, "parts.html") }

// Place answers its pages.
type Place struct {
	*shell.Shell

	bands base.KeptBy[int64, []int64]  // by model
	from  base.KeptBy[[2]int64, int64] // by model and least score
	fits  base.KeptBy[string, []int64] // by what a fit asks for
}

// scoredFrom counts the people with a score of at least so much.
func (s *Place) scoredFrom(ctx context.Context, model int64, least int) (int64, error) {
	return shell.Lately(ctx, s.Shell, &s.from, [2]int64{model, int64(least)}, func(ctx context.Context) (int64, error) {
		return s.Store.ScoredFrom(ctx, model, least)
	})
}

// Routes are those of the place Scoring.
func (s *Place) Routes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	in.GET("/scoring", s.points)
	in.POST("/scoring", s.savePoints, writes)
	in.POST("/scoring/edit", s.editPoints, writes)
	in.POST("/scoring/usual", s.usualModel, writes)
	in.GET("/scoring/fit", s.fit)
	in.POST("/scoring/fit", s.saveFit, writes)
	in.GET("/scoring/draft", s.draft)
	in.POST("/scoring/draft/count", s.countDraft, writes)
	in.POST("/scoring/draft/over", s.takeOver, writes)
	in.POST("/scoring/draft/drop", s.dropDraft, writes)
	in.GET("/scoring/file", s.file)
	in.POST("/scoring/file", s.bringFile, writes)
	in.GET("/scoring/figures", s.figures)
	in.POST("/scoring/figures", s.countFigures, writes)
	in.GET("/scoring/versions", s.versions)
	in.POST("/scoring/versions/:number", s.draftFrom, writes)
	in.GET("/scoring/models", s.models)
	in.POST("/scoring/models", s.addModel, writes)
	in.POST("/scoring/models/:id/name", s.renameModel, writes)
	in.POST("/scoring/models/:id/remove", s.removeModel, writes)
	in.GET("/scoring/lifted", s.lifted)
	in.POST("/scoring/lifted", s.handLifted, writes)
}
