// Package people is records, lists, companies, audiences, tags and imports.
package people

import (
	"context"
	"embed"
	"text/template"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/engine/base"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

//go:embed templates
var files embed.FS

func init() { shell.Register(files, template.FuncMap{"whyOut": sequence.WhyTakenOut}, "parts.html") }

// Place answers its pages.
type Place struct {
	*shell.Shell

	counts  base.KeptBy[store.CompanyQuery, int64] // how many, by what is asked
	words   base.KeptBy[string, []string]          // countries and industries of companies
	figures base.KeptBy[string, map[int64]store.AudienceFigures]
	moves   base.KeptBy[int64, []store.DayMoves]
	first   base.KeptBy[int64, []int64] // of a company with many people those with the highest scores
}

// Routes are those of the place People. Reps see all of it and keep
// records in order; who may be written to, and what happens to many at once,
// is for those who write.
func (s *Place) Routes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	keeps := shell.Allow(right.Marketer, right.Rep, right.Lead, right.Admin)
	p := in.Group("/people")
	in.GET("/people", s.people)
	in.GET("/people/found", s.found)
	in.GET("/people/:id", s.person)
	in.POST("/people/:id/hand-over", s.handOver, writes)
	in.GET("/people/:id/hand-over", s.whoGets)
	in.GET("/people/:id/timeline", s.earlier)
	in.POST("/people/:id/ask", s.askFor, shell.Allow(right.Rep))
	in.GET("/sequences/:id/people", s.stepPeople)
	in.GET("/content/emails/:id/people", s.mailingPeople)
	p.GET("/count", s.countPeople)
	p.POST("/export", s.exportPeople, writes)
	p.POST("/bulk", s.bulk, writes)
	p.POST("/views", s.saveView)
	p.POST("/views/:id/remove", s.removeView)
	p.GET("/new", s.newPerson, keeps)
	p.POST("", s.addPerson, keeps)

	p.POST("/:id/field", s.setField, keeps)
	p.POST("/:id/mark", s.setMark, writes)
	p.POST("/:id/way", s.wayByHand, writes)
	p.GET("/put-in", s.putIn, keeps)
	p.POST("/put-in", s.putInNow, keeps)
	p.POST("/put-in/choose", s.choosePutIn, keeps)
	p.POST("/:id/take-out", s.takeOut, keeps)
	p.POST("/:id/notes", s.addNote, keeps)
	p.POST("/:id/notes/:note/remove", s.removeNote, keeps)
	p.POST("/:id/changes/:change/undo", s.undoChange, writes)
	p.GET("/:id/everything", s.everything, writes)
	p.POST("/:id/erase", s.erasePerson, shell.Allow(right.Lead, right.Admin))

	p.GET("/companies", s.companies)
	p.GET("/companies/count", s.countCompanies)
	p.GET("/companies/export", s.exportCompanies, writes)
	p.POST("/companies/people", s.peopleOf)
	p.GET("/companies/:id", s.company)
	p.POST("/companies/:id", s.setCompany, keeps)

	p.GET("/audiences", s.audiences)
	p.GET("/audiences/export", s.exportAudiences, writes)
	p.POST("/audiences/bulk", s.bulkAudiences, writes)
	p.GET("/audiences/new", s.audienceEditor, writes)
	p.GET("/audiences/who", s.audienceWho, writes)
	p.POST("/audiences/new", s.saveAudience, writes)
	p.GET("/audiences/:id", s.audience)
	p.GET("/audiences/:id/edit", s.audienceEditor, writes)
	p.POST("/audiences/:id/edit", s.saveAudience, writes)
	p.POST("/audiences/:id/remove", s.removeAudience, writes)
	p.POST("/audiences/:id/export", s.exportAudience, writes)

	p.GET("/tags", s.tags)
	p.GET("/tags/:id", s.tag, writes)
	p.POST("/tags", s.saveTag, writes)
	p.POST("/tags/:id", s.saveTag, writes)
	p.POST("/tags/:id/merge", s.mergeTags, writes)
	p.POST("/tags/clean", s.cleanTags, writes)
	p.POST("/fields", s.addField, writes)
	p.POST("/fields/:id", s.changeField, writes)
	p.POST("/purposes", s.addPurpose, writes)

	p.GET("/imports", s.imports, writes)
	p.POST("/imports", s.upload, writes)
	p.POST("/imports/network", s.fromNetwork, writes)
	p.GET("/imports/:id", s.importPage, writes)
	p.POST("/imports/:id", s.checkImport, writes)
	p.POST("/imports/:id/start", s.startImport, writes)
	p.GET("/imports/:id/to-mend.csv", s.rejectsFile, writes)
	p.GET("/work", s.work, writes)
	p.GET("/work/:id", s.batch, writes)
	p.GET("/work/:id/file", s.exportedFile, writes)
	p.POST("/work/:id/stop", s.stopBatch, writes)
	p.POST("/work/:id/undo", s.undoBatch, writes)

	p.GET("/doubles", s.doubles, writes)
	p.GET("/merge", s.mergePage, writes)
	p.POST("/merge", s.merge, writes)
	p.POST("/not-double", s.notDouble, writes)
}

// doublesShown is how many pairs of likely duplicates are shown.
const doublesShown = 50

// Warm counts what is counted over everybody before anybody asks.
func (s *Place) Warm(ctx context.Context) error {
	if _, err := s.Engine.Doubles(ctx, doublesShown); err != nil {
		return err
	}
	if _, err := s.audienceFigures(ctx); err != nil {
		return err
	}
	if _, err := shell.Lately(ctx, s.Shell, &s.words, "countries", s.Store.CompanyCountries); err != nil {
		return err
	}
	if _, err := shell.Lately(ctx, s.Shell, &s.words, "industries", s.Store.Industries); err != nil {
		return err
	}
	for _, f := range shell.SimpleFields() {
		if _, err := s.ValuesOf(ctx, f); err != nil {
			return err
		}
	}
	large, err := s.Store.LargestCompanies(ctx, companyLarge, 20)
	for i := range large {
		if _, err := s.best(ctx, &large[i]); err != nil {
			return err
		}
	}
	return err
}

// Rehearse reads the pages of a person and a company and finds somebody, as those do who come.
func (s *Place) Rehearse(ctx context.Context) error {
	q := store.PeopleQuery{Order: store.ByScore, Limit: 1, Now: s.Engine.Now()}
	list, _, err := s.Store.People(ctx, q)
	if err != nil || len(list) == 0 {
		return err
	}
	q.Text, q.Limit = list[0].Email, 8
	if _, _, err := s.Store.People(ctx, q); err != nil {
		return err
	}
	var d personData
	if err := s.readPerson(ctx, &d, list[0].ID, nil); err != nil || d.P.CompanyID == nil {
		return err
	}
	var at companyData
	if at.C, err = s.Store.Company(ctx, *d.P.CompanyID); err != nil {
		return err
	}
	people, err := s.best(ctx, &at.C)
	if err != nil {
		return err
	}
	return s.joined(ctx, &at, people)
}

// audienceFigures are those that a list of audiences shows.
func (s *Place) audienceFigures(ctx context.Context) (map[int64]store.AudienceFigures, error) {
	count := func(ctx context.Context) (map[int64]store.AudienceFigures, error) {
		return s.Store.AudienceFigures(ctx, s.Engine.Now().AddDate(0, 0, -30))
	}
	return shell.Lately(ctx, s.Shell, &s.figures, "", count)
}
