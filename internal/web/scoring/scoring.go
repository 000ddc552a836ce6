package scoring

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/folder"
	"ombak/internal/core/right"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

const (
	bandStep = 5
	bands    = 13 // the last is "60 and more"
)

type scoringData struct {
	Model  store.Model
	Rules  []ruleForm
	Kinds  []signal.Kind
	Wrong  string
	Tide   shell.Tide
	Over   int64
	People int64
	Again  *store.Batch // scores are counted again by it
	F      *shell.Folders
}

// ruleForm is a rule as typed.
type ruleForm struct {
	Kind   signal.Kind
	Points string
	Often  score.Often
	N      string
	Lasts  string
}

func (s *Place) scoring(c *echo.Context) error {
	m, err := s.Store.Model(c.Request().Context())
	if err != nil && !store.IsNotFound(err) {
		return err
	}
	d := scoringData{Model: m}
	for _, r := range m.Rules {
		f := ruleForm{Kind: r.On.Kind, Points: strconv.Itoa(r.Points), Often: r.Often}
		if r.N > 0 {
			f.N = strconv.Itoa(r.N)
		}
		if r.Lasts > 0 {
			f.Lasts = strconv.Itoa(r.Lasts)
		}
		d.Rules = append(d.Rules, f)
	}
	return s.showScoring(c, http.StatusOK, d)
}

func (s *Place) showScoring(c *echo.Context, code int, d scoringData) error {
	ctx := c.Request().Context()
	d.Kinds = signal.Kinds()
	if again, err := s.Store.Recounting(ctx); err == nil {
		d.Again = &again
	} else if !store.IsNotFound(err) {
		return err
	}
	d.Rules = append(d.Rules, ruleForm{}) // an empty one, to add
	counts, err := s.Store.ScoreBands(ctx, d.Model.ID, bandStep, bands)
	if err != nil {
		return err
	}
	d.Tide = shell.Tide{Name: "People by score, in steps of five", Each: "Score from", Names: [2]string{"People"},
		W: 344, H: 190, Left: 40, Bottom: 24}
	for i, n := range counts {
		d.People += n
		p := shell.TidePoint{Row: strconv.Itoa(i * bandStep), Value: float64(n),
			Title: fmt.Sprintf("%d people with %d to %d", n, i*bandStep, (i+1)*bandStep-1)}
		if i%2 == 0 {
			p.Tick = strconv.Itoa(i * bandStep)
		}
		if i == bands-1 {
			p.Tick, p.Title = fmt.Sprintf("%d+", i*bandStep), fmt.Sprintf("%d people with %d and more", n, i*bandStep)
		}
		d.Tide.Points = append(d.Tide.Points, p)
	}
	for i, n := range counts {
		if i*bandStep >= d.Model.Line {
			d.Over += n
		}
	}
	if d.Model.Line > 0 {
		d.Tide.Up, d.Tide.UpText = min(float64(d.Model.Line)/bandStep, bands),
			fmt.Sprintf("ready line %d", d.Model.Line)
	}
	d.Tide.Layout()
	if d.F, err = s.Folders(c, folder.Model, "/scoring"); err != nil {
		return err
	}
	return s.PageCode(c, code, "scoring.html", "", "Scoring", "Scoring", d)
}

func (s *Place) saveScoring(c *echo.Context) error {
	ctx := c.Request().Context()
	m, err := s.Store.Model(ctx)
	if err != nil && !store.IsNotFound(err) {
		return err
	}
	old := m.Rules
	if m.Name == "" {
		m.Name = "Engagement"
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	d := scoringData{}
	m.Rules = nil
	whole := func(text, what string, low, high int) int {
		n, err := strconv.Atoi(strings.TrimSpace(strings.ReplaceAll(text, "−", "-")))
		if (err != nil || n < low || n > high) && d.Wrong == "" {
			d.Wrong = fmt.Sprintf("%s is a whole number from %d to %d.", what, low, high)
		}
		return n
	}
	m.Line = whole(c.FormValue("line"), "The ready line", 1, 10_000)
	at := func(name string, i int) string {
		if list := v[name]; i < len(list) {
			return list[i]
		}
		return ""
	}
	if len(v["kind"]) > 100 {
		return echo.ErrBadRequest
	}
	for i := range v["kind"] {
		k, _ := strconv.Atoi(at("kind", i))
		f := ruleForm{signal.Kind(k), at("points", i), score.Often(at("often", i)), at("n", i), at("lasts", i)}
		if f.Kind == 0 || strings.TrimSpace(f.Points) == "" {
			continue // emptied: the rule is gone
		}
		d.Rules = append(d.Rules, f)
		r := score.Rule{On: signal.Pattern{Kind: f.Kind}, Points: whole(f.Points, "Points", -1000, 1000),
			Often: f.Often}
		if f.Often == score.PerDay || f.Often == score.InAll {
			r.N = whole(f.N, "At most …", 1, 1000)
		}
		if strings.TrimSpace(f.Lasts) != "" {
			r.Lasts = whole(f.Lasts, "How many days points last", 1, 3660)
		}
		if err := r.Check(); err != nil && d.Wrong == "" {
			d.Wrong = shell.Sentence(err)
		}
		m.Rules = append(m.Rules, r)
	}
	// What this form does not show stays as it was.
	for _, r := range old {
		if r.Often == score.While || r.Half > 0 || r.Wipe || r.If.Asks() {
			m.Rules = append(m.Rules, r)
		}
	}
	if d.Wrong == "" && len(m.Rules) == 0 {
		d.Wrong = "A model without rules gives nobody a score."
	}
	if d.Wrong != "" {
		d.Model = m
		return s.showScoring(c, http.StatusUnprocessableEntity, d)
	}
	if err := s.Engine.SaveModel(ctx, m); err != nil {
		return err
	}
	return s.Done(c, "/scoring",
		"Saved. All scores are being counted again; nobody is handed over by the change itself.")
}

// Routes are those of the place Scoring.
func (s *Place) Routes(in *echo.Group) {
	writes := shell.Allow(right.Marketer, right.Lead, right.Admin)
	in.GET("/scoring", s.scoring)
	in.POST("/scoring", s.saveScoring, writes)
	in.POST("/scoring/usual", s.usualModel, writes)
	in.GET("/scoring/fit", s.fit)
	in.POST("/scoring/fit", s.saveFit, writes)
}

func (s *Place) usualModel(c *echo.Context) error {
	if err := s.Engine.UsualModel(c.Request().Context()); err != nil {
		return err
	}
	return s.Done(c, "/scoring", "These are points to begin with. Agree on them, and on the ready line, with sales.")
}
