package scoring

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/engine/people"
	"ombak/internal/web/shell"
)

// The form of the fit has several rules: the root of the first is f0, of the
// second f1. Their points are in fields p.f0, p.f1. A button named do carries
// "line", which adds one, or "drop f1".

type fitData struct {
	Lines    []fitLine
	Bands    []bandLine
	FitBands []bandLine
	Most     int
	Wrong    string
	Tide     shell.Tide
	People   int64
	Is       about
	Since    int
}

type fitLine struct {
	Root   string
	Points string
	Editor shell.RuleView
	Wrong  string
}

// bandLine is a band as typed.
type bandLine struct{ Name, From string }

// fitForm is what the form says, as far as it can be read; wrong is the first
// thing that cannot.
func fitForm(v url.Values, cat *rule.Catalogue, m *score.Model) (lines []fitLine, wrong error) {
	note := func(err error) {
		if wrong == nil {
			wrong = err
		}
	}
	m.Fit = nil
	do, at, _ := strings.Cut(v.Get("do"), " ")
	for i := range 40 {
		root := "f" + strconv.Itoa(i)
		r, there, err := shell.ReadRuleAt(v, root, cat)
		if err != nil {
			note(err)
		}
		if !there || do == "drop" && at == root {
			continue
		}
		l := fitLine{Points: strings.TrimSpace(v.Get("p." + root))}
		w := rule.Weighed{If: r}
		if w.Points, err = strconv.Atoi(strings.ReplaceAll(l.Points, "−", "-")); err != nil {
			note(plainly.Errorf("points are a whole number, and %q is none", l.Points))
		}
		if err := (rule.Fit{{If: r, Points: 1}}).Check(cat); err != nil {
			l.Wrong = shell.Sentence(err)
		}
		m.Fit = append(m.Fit, w)
		lines = append(lines, l)
	}
	if do == "line" {
		c := rule.Begin("field "+string(person.Country), cat)
		m.Fit = append(m.Fit, rule.Weighed{If: rule.Rule{If: &c}, Points: 10})
		lines = append(lines, fitLine{Points: "10"})
	}
	note(m.Fit.Check(cat))
	return lines, wrong
}

// bandForm reads a list of bands; lines without a name are dropped.
func bandForm(names, froms []string) (typed []bandLine, bands []rule.Band, err error) {
	for i, name := range names {
		if i >= len(froms) || i > 20 {
			break
		}
		b := bandLine{person.Name(name), strings.TrimSpace(froms[i])}
		if b.Name == "" {
			continue
		}
		typed = append(typed, b)
		n, e := strconv.Atoi(b.From)
		if e != nil && err == nil {
			err = plainly.Errorf("the band “%s” begins at a whole number", b.Name)
		}
		bands = append(bands, rule.Band{Name: b.Name, From: n})
	}
	if err == nil {
		bands, err = rule.Ranges(bands)
	}
	return typed, bands, err
}

func typedBands(list []rule.Band) []bandLine {
	var out []bandLine
	for _, b := range list {
		out = append(out, bandLine{b.Name, strconv.Itoa(b.From)})
	}
	return out
}

func (s *Place) fit(c *echo.Context) error {
	kept, cat, is, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	m := changing(&kept)
	d := fitData{Bands: typedBands(m.Bands), FitBands: typedBands(m.FitBands), Is: is,
		Since: kept.DraftChanges}
	if v := c.QueryParams(); v.Has("form") { // what is being typed
		d.Lines, _ = fitForm(v, cat, &m)
		d.Bands, _, _ = bandForm(v["bn"], v["bf"])
		d.FitBands, _, _ = bandForm(v["fbn"], v["fbf"])
	} else {
		for _, w := range m.Fit {
			d.Lines = append(d.Lines, fitLine{Points: strconv.Itoa(w.Points)})
		}
	}
	return s.showFit(c, http.StatusOK, d, m, cat)
}

func (s *Place) showFit(c *echo.Context, code int, d fitData, m score.Model, cat *rule.Catalogue) error {
	onRecord := slices.DeleteFunc(rule.Subjects(cat), func(x rule.Subject) bool {
		return !strings.HasPrefix(x.Key, "field ")
	})
	for i := range d.Lines {
		l := &d.Lines[i]
		l.Root = "f" + strconv.Itoa(i)
		l.Editor = shell.ViewRuleAt(m.Fit[i].If, l.Root, cat, onRecord)
	}
	d.Most = m.Fit.Most()
	d.Bands = append(d.Bands, bandLine{})
	d.FitBands = append(d.FitBands, bandLine{})
	var whole rule.Fit // without what is still being made
	for _, w := range m.Fit {
		if w.If = shell.Complete(w.If, cat); w.If.Asks() {
			whole = append(whole, w)
		}
	}
	if whole.Check(cat) == nil && len(whole) > 0 {
		spread, err := s.Store.FitSpread(c.Request().Context(), cat, whole)
		if err != nil {
			return err
		}
		d.Tide = shell.Tide{Name: "People by fit, in steps of ten", Each: "Fit from", Names: [2]string{"People"},
			W: 344, H: 190, Left: 40, Bottom: 24}
		for i, n := range spread {
			d.People += n
			p := shell.TidePoint{Value: float64(n),
				Title: fmt.Sprintf("%d people with a fit of %d to %d", n, i*10, i*10+9), Tick: strconv.Itoa(i * 10)}
			if i == len(spread)-1 {
				p.Title = fmt.Sprintf("%d people with a fit of 100", n)
			}
			d.Tide.Points = append(d.Tide.Points, p)
		}
		d.Tide.Layout()
	}
	return s.PageCode(c, code, "fit.html", "form", "Scoring", "Fit and bands", d)
}

func (s *Place) saveFit(c *echo.Context) error {
	kept, cat, is, err := s.modelAndCatalogue(c)
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	m := changing(&kept)
	d := fitData{Is: is, Since: int(shell.Number(v.Get("since")))}
	var wrong, wrong2, wrong3 error
	d.Lines, wrong = fitForm(v, cat, &m)
	d.FitBands, m.FitBands, wrong2 = bandForm(v["fbn"], v["fbf"])
	d.Bands, m.Bands, wrong3 = bandForm(v["bn"], v["bf"])
	if do := v.Get("do"); do != "" && do != "save" { // an edit without the page's script
		return s.showFit(c, http.StatusOK, d, m, cat)
	}
	for _, err := range []error{wrong, wrong2, wrong3} {
		if err != nil {
			d.Wrong = shell.Sentence(err)
			return s.showFit(c, http.StatusUnprocessableEntity, d, m, cat)
		}
	}
	err = s.Engine.KeepDraft(c.Request().Context(), modelOf(c), m, d.Since, shell.UserOf(c).ID)
	if err == nil {
		return s.keptDraft(c, to(c, "/scoring/fit"), kept.ID == 0)
	}
	if _, plain := plainly.Says(err); !plain {
		return err
	}
	if d.Wrong = shell.Sentence(err); errors.Is(err, people.ErrDraftMoved) {
		d.Wrong, d.Since = movedOn, kept.DraftChanges
	}
	return s.showFit(c, http.StatusUnprocessableEntity, d, m, cat)
}
