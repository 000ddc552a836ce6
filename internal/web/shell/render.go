package shell

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"log/slog"
	"math"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"text/template/parse"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/act"
	"ombak/internal/core/calendar"
	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/right"
	"ombak/internal/store"
)

//go:embed templates
var own embed.FS

// pages are the templates of one place.
type pages struct {
	files  fs.FS
	funcs  template.FuncMap
	shared []string
}

var registered []pages

// Register has the pages in the folder templates of files be found by their names.
// Shared ones of them are parsed along with each, as the shell's own parts are, and
// have funcs besides. It is called while the program starts.
func Register(files fs.FS, funcs template.FuncMap, shared ...string) {
	list, err := fs.Glob(files, "templates/*")
	if err != nil {
		panic(err)
	}
	for _, file := range list { // a page is found by the name of its file alone
		for _, p := range registered {
			if _, err := fs.Stat(p.files, file); err == nil && !slices.Contains(shared, path.Base(file)) &&
				path.Base(file) != "parts.html" {
				panic("shell: two places have a page in " + file)
			}
		}
	}
	registered = append(registered, pages{files, funcs, shared})
}

func init() { Register(own, nil) }

// View is what every page gets; Data is its own.
type View struct {
	Title string
	Place string // the place in the bar that is lit
	User  store.User
	CSRF  string
	Note  string // something that has just been done
	Undo  string // where that is taken back

	Currency string // the workspace's
	Bad      string // something that was not
	Scheme   string // light, dark or empty: as the machine has it
	Now      time.Time
	Zone     *time.Location
	Demo     bool
	Mailbox  string
	Website  string
	Moving   *time.Time // the demo clock is on its way there
	Path     string
	Seen     string // how far the page has been told of changes
	Lately   bool   // what is counted over everybody may be a minute old
	Data     any
}

// May reports whether the user has one of the roles.
func (v View) May(roles ...right.Role) bool {
	for _, r := range roles {
		if v.User.Role == r {
			return true
		}
	}
	return false
}

// Writes reports whether the user may change content, sequences and scoring.
func (v View) Writes() bool { return v.May(right.Marketer, right.Lead, right.Admin) }

// Dates have one form everywhere, and so have times.
const (
	DayForm  = "2 Jan 2006"
	timeForm = "Mon 2 Jan, 15:04"
	LongForm = "Mon 2 Jan 2006, 15:04"
)

// At gives an instant on the workspace's clock: "Tue 14 Apr, 09:20", with the
// year where it is another one.
func (v View) At(t any) string {
	if at := instant(t); at.IsZero() {
		return ""
	} else if at = at.In(v.Zone); at.Year() == v.Now.In(v.Zone).Year() {
		return at.Format(timeForm)
	} else {
		return at.Format(LongForm)
	}
}

// Soon gives an instant as it is said of today and the days around: "10:30", "tomorrow 09:00",
// "Mon 13:30", else its date.
func (v View) Soon(t time.Time) string {
	at, now := t.In(v.Zone), v.Now.In(v.Zone)
	days := int(calendar.At(calendar.DateOf(at, v.Zone), 0, time.UTC).Sub(
		calendar.At(calendar.DateOf(now, v.Zone), 0, time.UTC)).Hours() / 24)
	switch {
	case days == 0:
		return at.Format("15:04")
	case days == 1:
		return "tomorrow " + at.Format("15:04")
	case days == -1:
		return "yesterday " + at.Format("15:04")
	case days > 0 && days < 7:
		return at.Format("Mon 15:04")
	case at.Year() == now.Year():
		return at.Format("2 Jan")
	}
	return at.Format(DayForm)
}

// Day gives its date alone.
func (v View) Day(t any) string {
	at := instant(t)
	if at.IsZero() {
		return ""
	}
	return at.In(v.Zone).Format(DayForm)
}

// instant is a time or what points to one; zero where there is none.
func instant(t any) time.Time {
	switch x := t.(type) {
	case time.Time:
		return x
	case *time.Time:
		if x != nil {
			return *x
		}
	}
	return time.Time{}
}

// ZoneName is the workspace's zone as people say it.
func (v View) ZoneName() string {
	name := v.Zone.String()
	return strings.ReplaceAll(name[strings.LastIndexByte(name, '/')+1:], "_", " ")
}

// Money writes an amount with the workspace's currency.
func (v View) Money(minor int64) string { return Money(minor, v.Currency) }

// Amount is Money without the currency, as it is typed.
func (v View) Amount(minor int64) string { return pipeline.Amount(minor, v.Currency) }

// Money writes an amount in minor units with its currency.
func Money(minor int64, currency string) string { return pipeline.Money(minor, currency) }

// Sum is Money in whole units: nobody asks of a sum how many cents it has.
func (v View) Sum(minor int64) string {
	unit := int64(math.Pow10(pipeline.Digits(v.Currency)))
	return Money(int64(math.Round(float64(minor)/float64(unit)))*unit, v.Currency)
}

// MoneyIn is Money in a currency of its own.
func (View) MoneyIn(minor int64, currency string) string { return Money(minor, currency) }

// AmountIn is Amount in a currency of its own.
func (View) AmountIn(minor int64, currency string) string { return pipeline.Amount(minor, currency) }

// Ago says how long before now an instant is, roughly; or how long until it.
func (v View) Ago(t any) string {
	var at time.Time
	switch x := t.(type) {
	case time.Time:
		at = x
	case *time.Time:
		if x == nil {
			return ""
		}
		at = *x
	}
	d := v.Now.Sub(at)
	if d < 0 {
		return "in " + roughly(-d)
	}
	if d < time.Minute {
		return "just now"
	}
	return roughly(d) + " ago"
}

func roughly(d time.Duration) string {
	for _, u := range []struct {
		of   time.Duration
		word string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}} {
		if n := int(d / u.of); n > 0 {
			if n == 1 {
				return "1 " + u.word
			}
			return fmt.Sprintf("%d %ss", n, u.word)
		}
	}
	return "less than a minute"
}

// Theirs gives an instant on the clock of a person, with their zone's name,
// where it differs from the workspace's.
func (v View) Theirs(zone, country, city string, t time.Time) string {
	loc, guess := calendar.ZoneFor(calendar.Whereabouts{Zone: zone, Country: country, City: city}, v.Zone)
	s := t.In(loc).Format("15:04") + " in " +
		strings.ReplaceAll(loc.String()[strings.LastIndexByte(loc.String(), '/')+1:], "_", " ")
	switch {
	case guess:
		s += " (a guess from the country)"
	case zone == "" && country == "":
		s += " (ours: where they are is not known)"
	}
	return s
}

var funcs = template.FuncMap{
	"icon": func(name string) template.HTML {
		return template.HTML(`<svg class="i" aria-hidden="true"><use href="/assets/icons.svg#` +
			template.HTMLEscapeString(name) + `"/></svg>`)
	},
	// token is what a form carries so that nobody else can send it.
	"token": func(csrf string) template.HTML {
		return template.HTML(`<input type="hidden" name="_csrf" value="` + template.HTMLEscapeString(csrf) + `">`)
	},
	"asset": func(name string) string { return "/assets/" + name + "?v=" + version() },
	"html":  func(s string) template.HTML { return template.HTML(s) }, // of what core/message has cleaned, alone
	// encoded is a query of an address that url.Values has encoded: in an
	// address it stands as it is.
	"encoded":   func(query string) template.URL { return template.URL(query) },
	"n":         Thousands,
	"zones":     calendar.ZoneNames,
	"uses":      act.Uses,
	"weekdays":  func() []time.Weekday { return weekdays },
	"intervals": func(h calendar.SendingHours, d time.Weekday) string { return calendar.Intervals(h.Days[d]) },
	"countries": calendar.Countries,
	"country":   shownCountry,
	"size": func(bytes int64) string {
		if bytes < 1_000_000 {
			return fmt.Sprintf("%d kB", max((bytes+500)/1000, 1))
		}
		if bytes >= 1_000_000_000 {
			return fmt.Sprintf("%.1f GB", float64(bytes)/1e9)
		}
		return fmt.Sprintf("%.1f MB", float64(bytes)/1e6)
	},
	"score":   func(f float64) string { return strings.TrimSuffix(fmt.Sprintf("%.1f", f), ".0") },
	"full":    person.Full,
	"initial": initials,
	"clip": func(s string, n int) string {
		if r := []rune(strings.Join(strings.Fields(s), " ")); len(r) > n {
			return string(r[:n]) + "…"
		}
		return s
	},
	"list":     func(x ...any) []any { return x },
	"sentence": Sentence,
	"dict": func(kv ...any) (map[string]any, error) {
		m := map[string]any{}
		for i := 0; i+1 < len(kv); i += 2 {
			k, ok := kv[i].(string)
			if !ok {
				return nil, fmt.Errorf("dict: %v is no name", kv[i])
			}
			m[k] = kv[i+1]
		}
		return m, nil
	},
	"share": func(part, of int64) string {
		if of == 0 {
			return "none yet"
		}
		return fmt.Sprintf("%.0f %% of %s", float64(part)/float64(of)*100, Thousands(of))
	},
	"percent": func(part, of int64) string { return fmt.Sprintf("%.0f %%", float64(part)/float64(max(of, 1))*100) },
	"plural": func(n any, one, many string) string {
		if Thousands(n) == "1" {
			return one
		}
		return many
	},
	"deref": func(p *int64) int64 {
		if p == nil {
			return 0
		}
		return *p
	},
	"lasts": Lasts,
	"waits": Waits,
	"inc": func(n any) int {
		switch x := n.(type) {
		case int:
			return x + 1
		case *int:
			return *x + 1
		}
		return 0
	},
	"floatOf":   func(n int) float64 { return float64(n) },
	"mid":       func(x, w float64) float64 { return x + w/2 },
	"eventLink": message.EventLink,
	"roles":     right.Roles,
	"fields":    SimpleFields,
	"flag":      person.CountryName,
	"number":    person.ShowPhone,
	"toLine":    toLine,
	"tel":       func(e164 string) template.HTML { return telLink(e164, person.ShowPhone(e164)) },
	"telWords":  telLink,
	"query":     func(s string) string { return url.QueryEscape(s) },
	"title": func(s string) string {
		if s == "" {
			return s
		}
		return strings.ToUpper(s[:1]) + s[1:]
	},
}

// toLine says what a score means for the ready line.
func toLine(score float64, line int) string {
	if score >= float64(line) {
		return "ready"
	}
	return plainNumber(math.Ceil(float64(line)-score)) + " to go"
}

// telLink is a telephone number that a device can call (RFC 3966).
func telLink(e164, words string) template.HTML {
	if !strings.HasPrefix(e164, "+") {
		return template.HTML(template.HTMLEscapeString(words))
	}
	return template.HTML(fmt.Sprintf(`<a class="nowrap" href="tel:%s">%s</a>`,
		template.HTMLEscapeString(e164), template.HTMLEscapeString(words)))
}

// Thousands writes a whole number with commas.
func Thousands(n any) string {
	s := fmt.Sprint(n)
	sign := ""
	if strings.HasPrefix(s, "-") {
		sign, s = "−", s[1:]
	}
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return sign + s
}

func initials(name string) string {
	out := ""
	for _, w := range strings.Fields(name) {
		out += string([]rune(w)[:1])
	}
	if r := []rune(out); len(r) > 2 {
		out = string(r[0]) + string(r[len(r)-1])
	}
	return out
}

// renderer renders "file.html", or "file.html#block" for a part of one.
type renderer struct{}

var parsed sync.Map // file, or file#part → *template.Template

// TemplateOf is the page in a file ("" as its part) or a part of one, with the parts that it uses. Those that it does
// not use are left out: of all pages together that is most of what there is.
func TemplateOf(file, part string) (*template.Template, error) {
	key := file
	if part == "" {
		part = "layout"
	}
	t, ok := parsed.Load(key)
	if ok && t.(*template.Template).Lookup(part) == nil {
		key += "#" + part // a part that many pages share, and this one shows by its name
		t, ok = parsed.Load(key)
	}
	if ok {
		return t.(*template.Template), nil
	}
	for _, p := range registered {
		if _, err := fs.Stat(p.files, "templates/"+file); err != nil {
			continue
		}
		all, names, err := p.parse(file)
		if err != nil {
			return nil, err
		}
		if all.Lookup(part) == nil {
			return nil, fmt.Errorf("the page %s has no part %s", file, part)
		}
		if names = append(names, "layout"); !slices.Contains(names, part) {
			key, names = file+"#"+part, []string{part}
		}
		t, err := used(all, template.New(file).Funcs(funcs).Funcs(p.funcs), names)
		if err == nil {
			parsed.Store(key, t)
		}
		return t, err
	}
	return nil, fmt.Errorf("there is no page %s", file)
}

// parse reads a page with all parts that it can use, and answers which it has of its own.
func (p pages) parse(file string) (all *template.Template, names []string, err error) {
	if all, err = template.New("layout.html").Funcs(funcs).Funcs(p.funcs).ParseFS(own, ownParts...); err != nil {
		return nil, nil, err
	}
	for _, name := range p.shared {
		if all, err = all.ParseFS(p.files, "templates/"+name); err != nil {
			return nil, nil, err
		}
	}
	alone, err := template.New(file).Funcs(funcs).Funcs(p.funcs).ParseFS(p.files, "templates/"+file)
	if err != nil {
		return nil, nil, err
	}
	for _, t := range alone.Templates() {
		names = append(names, t.Name())
	}
	all, err = all.ParseFS(p.files, "templates/"+file)
	return all, names, err
}

// ownParts are the files of parts that any page can use.
var ownParts = []string{"templates/layout.html", "templates/parts.html", "templates/rule.html", "templates/act.html",
	"templates/filed.html", "templates/hours.html"}

// used puts into a set of templates those of another that some use, directly or through others.
func used(all, into *template.Template, names []string) (*template.Template, error) {
	met := map[string]bool{}
	for len(names) > 0 {
		name := names[0]
		names = names[1:]
		t := all.Lookup(name)
		if met[name] || t == nil || t.Tree == nil {
			continue // one that is missing is an error where it is shown
		}
		met[name] = true
		var err error
		if _, err = into.AddParseTree(name, t.Tree); err != nil {
			return nil, err
		}
		eachUse(t.Tree.Root, func(name string) { names = append(names, name) })
	}
	return into, nil
}

// eachUse calls f for every template that a node uses.
func eachUse(n parse.Node, f func(name string)) {
	branch := func(b *parse.BranchNode) {
		eachUse(b.List, f)
		if b.ElseList != nil {
			eachUse(b.ElseList, f)
		}
	}
	switch n := n.(type) {
	case *parse.ListNode:
		if n != nil {
			for _, x := range n.Nodes {
				eachUse(x, f)
			}
		}
	case *parse.IfNode:
		branch(&n.BranchNode)
	case *parse.RangeNode:
		branch(&n.BranchNode)
	case *parse.WithNode:
		branch(&n.BranchNode)
	case *parse.TemplateNode:
		f(n.Name)
	}
}

// ReadyPages reads all pages, and looks at each for what has to be escaped: otherwise whoever asks for one first waits
// for that.
func ReadyPages() error {
	for _, p := range registered {
		files, err := fs.Glob(p.files, "templates/*.html")
		if err != nil {
			return err
		}
		for _, file := range files {
			t, err := TemplateOf(path.Base(file), "")
			if err != nil {
				return err
			}
			if t.Lookup("content") == nil {
				continue // parts of others
			}
			// What cannot be escaped is an error. That there is nothing to show is none.
			var bad *template.Error
			if err := t.ExecuteTemplate(io.Discard, "layout", nil); errors.As(err, &bad) {
				return fmt.Errorf("the page %s: %w", file, err)
			}
		}
	}
	return nil
}

// Render renders into a buffer first, so that a template that fails half way
// is an error and not half a page.
func (renderer) Render(_ *echo.Context, w io.Writer, name string, data any) error {
	file, block, part := strings.Cut(name, "#")
	t, err := TemplateOf(file, block)
	if err != nil {
		return err
	}
	if !part {
		block = "layout"
	}
	b := buffers.Get().(*bytes.Buffer)
	b.Reset()
	defer buffers.Put(b)
	if err := t.ExecuteTemplate(b, block, data); err != nil {
		return fmt.Errorf("template %s: %w", name, err)
	}
	_, err = w.Write(b.Bytes())
	return err
}

// buffers are what pages were rendered into: each holds what the largest page of late takes, and need not grow again.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// View readies what every page gets.
func (s *Shell) View(c *echo.Context, place, title string, data any) View {
	v := View{Currency: s.Engine.Workspace().Currency, Title: title, Place: place, Now: s.Engine.Now(),
		Zone: s.Engine.Zone(), Demo: s.Demo != nil, Data: data, Path: c.Request().URL.RequestURI()}
	v.CSRF, _ = c.Get("csrf").(string)
	v.Seen, _ = c.Get("seen").(string)
	if u, ok := c.Get("user").(store.User); ok {
		v.User = u
	}
	if s.Demo != nil {
		v.Mailbox, v.Website = s.Demo.Mailbox(), s.Demo.Website()
		if t, ok := s.Demo.Moving(); ok {
			v.Moving = &t
		}
	}
	ctx := c.Request().Context()
	v.Note, v.Undo = s.Sessions.PopString(ctx, "note"), s.Sessions.PopString(ctx, "undo")
	v.Bad = s.Sessions.PopString(ctx, "bad")
	v.Scheme = schemeOf(c)
	if large, err := s.Engine.Large(ctx); err == nil {
		v.Lately = large
	} else if ctx.Err() == nil {
		slog.WarnContext(ctx, "how many people there are is not known", "error", err)
	}
	return v
}

// Page renders a place: whole, or for htmx the part it asked for.
func (s *Shell) Page(c *echo.Context, file, part, place, title string, data any) error {
	return s.PageCode(c, http.StatusOK, file, part, place, title, data)
}

// PageCode is Page with the status it is answered with.
func (s *Shell) PageCode(c *echo.Context, code int, file, part, place, title string, data any) error {
	v := s.View(c, place, title, data)
	if part != "" && IsHTMX(c) {
		return c.Render(code, file+"#"+part, v)
	}
	return c.Render(code, file, v)
}

// IsHTMX reports whether a part of a page is asked for, in place.
func IsHTMX(c *echo.Context) bool { return c.Request().Header.Get("HX-Request") != "" }

// Done sends the browser on, with a word about what was done.
func (s *Shell) Done(c *echo.Context, to, note string) error {
	if note != "" {
		s.Sessions.Put(c.Request().Context(), "note", note)
	}
	return c.Redirect(http.StatusSeeOther, to)
}

// DoneUndo is done with a button that takes it back.
func (s *Shell) DoneUndo(c *echo.Context, to, note, undo string) error {
	s.Sessions.Put(c.Request().Context(), "undo", undo)
	return s.Done(c, to, note)
}

// schemeOf is the scheme that somebody chose for their browser; empty: none.
func schemeOf(c *echo.Context) string {
	if k, err := c.Cookie("ombak_scheme"); err == nil && (k.Value == "dark" || k.Value == "light") {
		return k.Value
	}
	return ""
}

// NotDone sends the browser back, with a word about why not.
func (s *Shell) NotDone(c *echo.Context, to, why string) error {
	s.Sessions.Put(c.Request().Context(), "bad", why)
	return c.Redirect(http.StatusSeeOther, to)
}
