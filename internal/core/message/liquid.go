package message

import (
	"bytes"
	"errors"
	"fmt"
	"html"
	"io"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/osteele/liquid/expressions"
	"github.com/osteele/liquid/parser"
	liquid "github.com/osteele/liquid/render"
	"github.com/osteele/liquid/tags"
	"github.com/osteele/tuesday"

	"ombak/internal/core/plainly"
)

// Words are written by people whom we do not know well, and filled in on our own machine. So of the Liquid language
// there is only what cannot reach a file, cannot repeat, and ends soon: fields, some filters, and conditions. What is
// allowed is listed here, and each template is read by these lists before Liquid sees it.

// Limits of one template: its merge fields and conditions, how deep conditions stand in each other, bytes of one of
// them, filters behind one value, bytes of a value on its way through the filters, and bytes of what comes out.
const (
	maxMarks   = 600
	maxDepth   = 12
	maxMark    = 1000
	maxFilters = 8
	maxValue   = 20_000
	maxOut     = 1_500_000
)

// Fault says what of a template cannot be used, and why.
type Fault struct {
	Place string // which part of the message: "the subject"; empty where nobody said yet
	Mark  string // as it was written: "{% include … %}"
	Why   string
	cause error
}

func (f *Fault) Error() string {
	s := f.Why
	if f.Mark != "" {
		s = "“" + f.Mark + "”: " + s
	}
	if f.Place != "" {
		s = "in " + f.Place + ", " + s
	}
	return s
}

// Plain marks it as an error that users may read.
func (*Fault) Plain() {}

// Unwrap gives the *Unknown of a field that does not exist.
func (f *Fault) Unwrap() error { return f.cause }

// at says where a fault is, unless it is known already.
func at(place string, err error) error {
	if f, ok := errors.AsType[*Fault](err); ok && f.Place == "" {
		f.Place = place
	}
	return err
}

// filter is a filter that templates may use: how many arguments it needs at least, and those it has where they are
// left out.
type filter struct {
	do    any
	needs int
	usual []string
}

func text(f func(string) string) filter { return filter{do: f} }

// filters are all of them. Each works in time and space that grow with what it is given and no faster: what comes
// out is measured before it is made.
var filters = map[string]filter{
	"default": {do: func(v, other any) any {
		if s, ok := v.(string); v == nil || v == false || ok && s == "" {
			return other
		}
		return v
	}, needs: 1},
	"upcase":     text(strings.ToUpper),
	"downcase":   text(strings.ToLower),
	"strip":      text(strings.TrimSpace),
	"escape":     text(html.EscapeString),
	"capitalize": text(capitalize),
	"append": {do: func(s, more string) (string, error) {
		return measured(len(s)+len(more), func() string { return s + more })
	}, needs: 1},
	"prepend": {do: func(s, more string) (string, error) {
		return measured(len(s)+len(more), func() string { return more + s })
	}, needs: 1},
	"replace": {do: func(s, old, by string) (string, error) {
		if old == "" {
			return s, nil
		}
		return measured(len(s)+strings.Count(s, old)*len(by), func() string { return strings.ReplaceAll(s, old, by) })
	}, needs: 2},
	"remove":        {do: func(s, old string) string { return strings.ReplaceAll(s, old, "") }, needs: 1},
	"truncate":      {do: truncate, usual: []string{"50", `"…"`}},
	"truncatewords": {do: truncateWords, usual: []string{"15", `"…"`}},
	"date":          {do: date, needs: 1},
	"plus":          {do: func(a, b float64) float64 { return a + b }, needs: 1},
	"minus":         {do: func(a, b float64) float64 { return a - b }, needs: 1},
	"times":         {do: func(a, b float64) float64 { return a * b }, needs: 1},
	"round":         {do: func(a float64, n int) float64 { return rounded(a, n) }, usual: []string{"0"}},
}

var errLong = plainly.New("a value becomes too long")

// measured makes a text if it will not be too long.
func measured(size int, f func() string) (string, error) {
	if size > maxValue {
		return "", errLong
	}
	return f(), nil
}

func capitalize(s string) string {
	for i := range s {
		if i > 0 {
			return strings.ToUpper(s[:i]) + s[i:]
		}
	}
	return strings.ToUpper(s)
}

func truncate(s string, n int, end string) string {
	r, e := []rune(s), []rune(end)
	if len(r) <= n {
		return s
	}
	return string(r[:min(max(n-len(e), 0), len(r))]) + end
}

func truncateWords(s string, n int, end string) string {
	if w := strings.Fields(s); len(w) > n {
		return strings.Join(w[:max(n, 0)], " ") + end
	}
	return s
}

// directives are those of strftime that stand for a date and a time, without widths.
var directives = regexp.MustCompile(`^(%[AaBbdeHIjlMmpSUuWwYyZz%]|[^%])*$`)

func date(t time.Time, format string) (string, error) {
	if len(format) > 100 || !directives.MatchString(format) {
		return "", plainly.New("a date is written by letters such as %d %B %Y")
	}
	return tuesday.Strftime(format, t)
}

func rounded(a float64, n int) float64 {
	p := math.Pow10(min(max(n, 0), 9))
	return math.Round(a*p) / p
}

// known lists the tags that templates may use, and whether each opens something that has to be closed, closes it, or
// stands within.
var knownTags = map[string]int{
	"if": opens, "unless": opens, "case": opens, "elsif": within, "else": within, "when": within,
	"endif": closes, "endunless": closes, "endcase": closes, "comment": opens, "endcomment": closes,
}

const (
	within = iota
	opens
	closes
)

var config = func() liquid.Config {
	c := liquid.NewConfig()
	tags.AddStandardTags(c)
	// The list above keeps it out; should it ever come through, it reads no file.
	c.AddTag("include", func(string) (func(io.Writer, liquid.Context) error, error) {
		return nil, plainly.New("this is not for messages")
	})
	for name, f := range filters {
		c.AddFilter(name, f.do)
	}
	c.AddFilter("required_by_reader", func(v any, field string) (any, error) {
		if s, ok := v.(string); v == nil || ok && strings.TrimSpace(s) == "" {
			return nil, &Missing{field}
		} else if len(s) > maxValue {
			return nil, errLong
		}
		return v, nil
	})
	return c
}()

// template is a text that is ready to be filled in. Most of one is plain text and
// fields without a filter: those are written as they are, and Liquid is asked only
// for what is left.
type template struct {
	root   liquid.Node
	pieces []piece // empty: Liquid is asked for all of it
}

// piece is a part of a template: one of them.
type piece struct {
	text  string
	field *plainField
	node  liquid.Node
}

// plainField is a value of a reader, or of a letter (ombak.…).
type plainField struct {
	group, name string
	required    string // the field that is missing where there is no value; "": then nothing is written
	escape      bool
}

// plainObject is such a field as prepare writes it.
var plainObject = regexp.MustCompile(`^([a-z_]+)\.([a-z_0-9]+)(?: \| required_by_reader: "([^"]+)")?( \| escape)?$`)

// piecesOf takes a template apart; none where space around its marks is trimmed,
// which reaches from one piece to the next.
func piecesOf(src string, root liquid.Node) []piece {
	seq, ok := root.(*liquid.SeqNode)
	if !ok || strings.Contains(src, "{{-") || strings.Contains(src, "-}}") || strings.Contains(src, "{%-") ||
		strings.Contains(src, "-%}") {
		return nil
	}
	var out []piece
	for _, n := range seq.Children {
		p := piece{node: n}
		switch n := n.(type) {
		case *liquid.TextNode:
			p = piece{text: n.Source}
		case *liquid.ObjectNode:
			if m := plainObject.FindStringSubmatch(n.Args); m != nil {
				p = piece{field: &plainField{group: m[1], name: m[2], required: m[3], escape: m[4] != ""}}
			}
		}
		out = append(out, p)
	}
	return out
}

// write writes a field's value, as Liquid would.
func (f *plainField) write(w *bounded, b map[string]any) error {
	group, _ := b[f.group].(map[string]any)
	value, _ := group[f.name].(string)
	if f.required != "" {
		if strings.TrimSpace(value) == "" {
			return &Missing{f.required}
		}
		if len(value) > maxValue {
			return errLong
		}
	}
	if f.escape {
		value = html.EscapeString(value)
	}
	_, err := io.WriteString(w, value)
	return err
}

// parse readies what prepare answered.
func parse(src string) (*template, error) {
	root, err := config.Compile(src, parser.SourceLoc{})
	if err != nil {
		return nil, &Fault{Why: "the conditions do not fit together"}
	}
	return &template{root, piecesOf(src, root)}, nil
}

// fill fills a template in. Whatever Liquid stumbles over is an error of this one email.
func (t *template) fill(b map[string]any) (out string, err error) {
	defer func() {
		if p := recover(); p != nil {
			if e, ok := p.(error); ok && errors.Is(e, errLong) {
				out, err = "", e
				return
			}
			out, err = "", plainly.Errorf("the merge fields cannot be filled in: %v", p)
		}
	}()
	w := &bounded{}
	rerr := error(nil)
	if len(t.pieces) == 0 {
		rerr = rendered(t.root, w, b)
	}
	for _, p := range t.pieces {
		switch {
		case p.node != nil:
			rerr = rendered(p.node, w, b)
		case p.field != nil:
			rerr = p.field.write(w, b)
		default:
			_, rerr = io.WriteString(w, p.text)
		}
		if rerr != nil {
			break
		}
	}
	if rerr == nil {
		return w.String(), nil
	}
	// Liquid's errors know a Cause, not Unwrap, and a filter's holds its own.
	for cause := error(rerr); cause != nil; {
		if f, ok := cause.(expressions.FilterError); ok {
			cause = f.Err
		}
		if m, ok := cause.(*Missing); ok {
			return "", m
		}
		if errors.Is(cause, errLong) {
			return "", errLong
		}
		c, ok := cause.(interface{ Cause() error })
		if !ok {
			break
		}
		cause = c.Cause()
	}
	return "", plainly.Errorf("the merge fields cannot be filled in: %v", rerr)
}

// bounded is a buffer that takes so much and no more.
type bounded struct{ bytes.Buffer }

// rendered has Liquid write a node.
func rendered(n liquid.Node, w *bounded, b map[string]any) error {
	if err := liquid.Render(n, w, b, config); err != nil {
		return err
	}
	return nil
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > maxOut {
		return 0, errLong
	}
	return b.Buffer.Write(p)
}

// expression is what stands in a merge field or a condition, piece by piece.
var expression = regexp.MustCompile(
	`"[^"]*"|'[^']*'|-?\d+(?:\.\d+)?|[A-Za-z_][A-Za-z_0-9]*(?:\.[A-Za-z_0-9]+)*|==|!=|<>|<=|>=|<|>|\||:|,|\S`)

var (
	word     = regexp.MustCompile(`^[A-Za-z_]`)
	literal  = regexp.MustCompile(`^["'0-9]|^-\d`)
	compares = []string{"==", "!=", "<>", "<=", ">=", "<", ">", "contains", "and", "or"}
	plain    = []string{"true", "false", "nil", "null", "empty", "blank"}
)

// marks reads one template's marks.
type marks struct {
	known map[string]bool
	open  []string
	n     int
}

// prepare reads a template by the lists of what is allowed, makes each merge field refuse to be empty and, for HTML,
// escape itself. Fields are written as text, so an editor may have escaped them.
func prepare(src string, escape bool, known map[string]bool) (string, error) {
	if !strings.Contains(src, "{{") && !strings.Contains(src, "{%") {
		return src, nil
	}
	r := &marks{known: known}
	var out strings.Builder
	for _, t := range parser.Scan(src, parser.SourceLoc{}, nil) {
		switch t.Type {
		case parser.TextTokenType:
			if i := strings.Index(t.Source, "{{"); i >= 0 {
				return "", &Fault{Mark: clip(t.Source[i:]), Why: "a merge field is opened by {{ and not closed by }}"}
			} else if i := strings.Index(t.Source, "{%"); i >= 0 {
				return "", &Fault{Mark: clip(t.Source[i:]), Why: "a condition is opened by {% and not closed by %}"}
			}
			out.WriteString(t.Source)
		case parser.ObjTokenType, parser.TagTokenType:
			s, err := r.mark(t, escape)
			if err != nil {
				if f, ok := errors.AsType[*Fault](err); ok && f.Mark == "" {
					f.Mark = clip(t.Source)
				}
				return "", err
			}
			out.WriteString(s)
		}
	}
	if n := len(r.open); n > 0 {
		return "", &Fault{Mark: "{% " + r.open[n-1] + " … %}", Why: "it is not closed by {% end" + r.open[n-1] + " %}"}
	}
	return out.String(), nil
}

func clip(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return s
}

// mark reads a merge field or a condition, and writes it anew.
func (r *marks) mark(t parser.Token, escape bool) (string, error) {
	if r.n++; r.n > maxMarks {
		return "", &Fault{Why: fmt.Sprintf("one part of a message has at most %d merge fields and conditions",
			maxMarks)}
	}
	if len(t.Source) > maxMark {
		return "", &Fault{Why: fmt.Sprintf("it is longer than %d letters", maxMark)}
	}
	body := t.Args
	if escape {
		body = strings.ReplaceAll(html.UnescapeString(body), "\u00a0", " ")
	}
	pieces := expression.FindAllString(body, -1)
	trimmed := func(left, s, right string) string {
		if strings.HasPrefix(t.Source[2:], "-") {
			left += "-"
		}
		if strings.HasSuffix(t.Source[:len(t.Source)-2], "-") {
			right = "-" + right
		}
		return left + " " + s + " " + right
	}
	if t.Type == parser.TagTokenType {
		s, err := r.tag(t.Name, pieces)
		return trimmed("{%", s, "%}"), err
	}
	s, err := r.field(pieces, escape)
	return trimmed("{{", s, "}}"), err
}

// tag reads a condition, or what belongs to one.
func (r *marks) tag(name string, pieces []string) (string, error) {
	role, ok := knownTags[name]
	if !ok {
		return "", &Fault{Why: "messages have no “" + name + "”; there are if, unless, case and comment"}
	}
	switch role {
	case opens:
		if len(r.open) >= maxDepth {
			return "", &Fault{Why: fmt.Sprintf("conditions stand at most %d deep in each other", maxDepth)}
		}
		r.open = append(r.open, name)
	case closes:
		n := len(r.open)
		if n == 0 || "end"+r.open[n-1] != name {
			return "", &Fault{Why: "nothing is open that it could close"}
		}
		r.open = r.open[:n-1]
	case within:
		if len(r.open) == 0 {
			return "", &Fault{Why: "it stands outside of a condition"}
		}
	}
	asks := role != closes && name != "else" && name != "comment"
	switch {
	case asks && len(pieces) == 0:
		return "", &Fault{Why: "it asks nothing"}
	case !asks:
		return name, nil
	}
	for _, p := range pieces {
		switch {
		case literal.MatchString(p), slices.Contains(compares, p), slices.Contains(plain, p), p == "," &&
			name == "when":
		case word.MatchString(p):
			if !r.known[p] {
				return "", unknown(p)
			}
		default:
			return "", &Fault{Why: "“" + p + "” cannot stand in a condition"}
		}
	}
	return name + " " + strings.Join(pieces, " "), nil
}

func unknown(field string) *Fault {
	u := &Unknown{field}
	return &Fault{Why: u.Error(), cause: u}
}

// field reads a merge field: a value and the filters behind it.
func (r *marks) field(pieces []string, escape bool) (string, error) {
	if len(pieces) == 0 {
		return "", unknown("{{ }}")
	}
	field := pieces[0]
	switch {
	case field == signatureField && escape:
		return "sender.signature_html", nil
	case field == signatureField:
		return "sender.signature_text", nil
	case literal.MatchString(field):
		field = ""
	case !r.known[field]:
		return "", unknown(firstWord(strings.Join(pieces, " ")))
	}
	out := pieces[0]
	rest := pieces[1:]
	for n := 0; len(rest) > 0; n++ {
		if rest[0] != "|" || len(rest) < 2 {
			return "", &Fault{Why: "behind a field stands | and a filter, not “" + rest[0] + "”"}
		}
		f, ok := filters[rest[1]]
		switch {
		case !ok:
			return "", &Fault{Why: "there is no filter “" + rest[1] + "”"}
		case n == maxFilters:
			return "", &Fault{Why: fmt.Sprintf("a field has at most %d filters", maxFilters)}
		}
		name := rest[1]
		var args []string
		rest = rest[2:]
		if len(rest) > 0 && rest[0] == ":" {
			for rest = rest[1:]; ; rest = rest[1:] {
				if len(rest) == 0 || !literal.MatchString(rest[0]) && !r.known[rest[0]] {
					return "", &Fault{Why: "the filter “" + name +
						"” is given what is neither a text in quotes, a number nor a field"}
				}
				args = append(args, rest[0])
				if rest = rest[1:]; len(rest) == 0 || rest[0] != "," {
					break
				}
			}
		}
		if len(args) < f.needs || len(args) > max(f.needs, len(f.usual)) {
			return "", &Fault{Why: fmt.Sprintf("the filter “%s” is given %d values", name, len(args))}
		}
		if len(args) < len(f.usual) {
			args = append(args, f.usual[len(args):]...)
		}
		out += " | " + name
		if len(args) > 0 {
			out += ": " + strings.Join(args, ", ")
		}
	}
	out += fmt.Sprintf(` | required_by_reader: "%s"`, field)
	if escape {
		out += " | escape"
	}
	return out, nil
}
