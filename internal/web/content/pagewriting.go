package content

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/act"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// The writer of pages is one form, like that of messages: whatever is pressed
// sends all of it, what was typed is kept in the draft first, and then what the
// button named do says is done.
//
//	at   the block that is open
//	do   "open 3", "add button 3" (behind block 3), "remove 3", "move 3 -1", "copy 3", "order 3,1,2",
//	     "ask first name" (a further question), "unask 2", "raise 2" (a question up), "agree" and "disagree 2" (a box
//	     for consent), "hide" and "unhide 2" (a hidden field), "act" (one more), "undo", "redo", "publish"

// typedPage is the draft as its form has it now.
func typedPage(was page.Document, at int, v url.Values) page.Document {
	d := was
	line := func(k string, i int, n int) string {
		if i >= len(v[k]) {
			return ""
		}
		s := strings.Join(strings.Fields(strings.ToValidUTF8(strings.ReplaceAll(v[k][i], "\x00", ""), "")), " ")
		if len(s) > n {
			s = strings.ToValidUTF8(s[:n], "")
		}
		return s
	}
	d.Title = line("title", 0, person.MaxName)
	if i := d.Block(at); i >= 0 && v.Get("kind") == string(d.Blocks[i].Kind) {
		d.Blocks = slices.Clone(d.Blocks)
		d.Blocks[i].Content = typedSection(v, d.Blocks[i].Kind)
	}
	f := &d.Form
	f.Title, f.Button = line("form_title", 0, 200), line("button", 0, 120)
	f.Thanks, f.To, f.Message, f.Proved = message.Clean(v.Get("thanks")), line("to", 0, 500),
		shell.Number(v.Get("message")), v.Get("proved") != ""
	f.Later = v.Get("later") != ""
	f.AtOnce, _ = strconv.Atoi(v.Get("at_once")) // nothing typed: none
	chosen := func(k string, i int) bool { return slices.Contains(v[k], strconv.Itoa(i)) }
	f.Questions = nil
	for i := range v["q_field"] {
		if i < page.MaxQuestions {
			field := person.Field(line("q_field", i, 60))
			f.Questions = append(f.Questions,
				page.Question{Field: field, Label: line("q_label", i, 200), Help: line("q_help", i, 300),
					Must: chosen("q_must", i) || field == person.EmailField,
					Further: line("q_when", i, 10) == "further" &&
						field != person.EmailField})
		}
	}
	f.Consents = nil
	for i := range v["c_purpose"] {
		if i < page.MaxHidden {
			f.Consents = append(f.Consents,
				page.Consent{Purpose: shell.Number(v["c_purpose"][i]), Words: line("c_words", i, 500),
					Must: chosen("c_must", i)})
		}
	}
	f.Hidden = nil
	for i := range v["h_field"] {
		if i < page.MaxHidden {
			f.Hidden = append(f.Hidden,
				page.Hidden{Field: person.Field(line("h_field", i, 60)), Param: paramName(line("h_param", i, 60)),
					Value: line("h_value", i, 200)})
		}
	}
	f.Acts = nil
	for i := range v["act_do"] {
		if a := shell.TypedAct(v, i); a != nil && i < act.Max {
			f.Acts = append(f.Acts, act.Kept{Act: a})
		}
	}
	return d
}

// paramName keeps of a typed name what the parameter of an address can be.
func paramName(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
			return r
		}
		return -1
	}, s)
}

func samePage(a, b page.Document) bool {
	x, err := json.Marshal(a)
	y, err2 := json.Marshal(b)
	return err == nil && err2 == nil && string(x) == string(y)
}

// changePage keeps what was typed and does what was pressed.
func (s *Place) changePage(c *echo.Context) error {
	ctx := c.Request().Context()
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	v, err := c.FormValues()
	if err != nil {
		return err
	}
	at, _ := strconv.Atoi(v.Get("at")) // none is open
	user := shell.UserOf(c).ID
	if v.Has("title") {
		before, err := s.Store.PageDraft(ctx, id)
		if err != nil {
			return err
		}
		if !samePage(before.Doc.V, typedPage(before.Doc.V, at, v)) {
			err := s.Engine.EditPage(ctx, id, user, fmt.Sprintf("words of block %d", at), func(d *page.Document) error {
				if base := v.Get("base"); base != "" && base != shell.StateOf(*d) {
					return shell.ErrChanged
				}
				*d = typedPage(*d, at, v)
				return nil
			})
			if errors.Is(err, shell.ErrChanged) {
				return s.pageConflicts(c, id, at, v)
			}
			if err != nil {
				return err
			}
		}
	}
	said := ""
	do, rest, _ := strings.Cut(v.Get("do"), " ")
	at, said, err = s.doPage(c, id, at, do, rest)
	if errors.Is(err, echo.ErrBadRequest) || store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.showPage(c, http.StatusUnprocessableEntity,
			pageData{P: store.Page{ID: id}, At: at, Wrong: shell.Sentence(err)})
	}
	if v.Get("quiet") != "" {
		d, err := s.Store.PageDraft(ctx, id)
		if err != nil {
			return err
		}
		c.Response().Header().Set("X-State", shell.StateOf(d.Doc.V))
		return c.NoContent(http.StatusNoContent)
	}
	if shell.IsHTMX(c) {
		return s.showPage(c, http.StatusOK, pageData{P: store.Page{ID: id}, At: at, Said: said})
	}
	return s.Done(c, fmt.Sprintf("/content/pages/%d?at=%d", id, at), said)
}

// pageConflicts shows a draft as it stands beside what was typed.
func (s *Place) pageConflicts(c *echo.Context, id int64, at int, v url.Values) error {
	theirs, err := s.Store.PageDraft(c.Request().Context(), id)
	if err != nil {
		return err
	}
	mine := typedPage(theirs.Doc.V, at, v)
	d := pageConflict(&theirs.Doc.V, &mine)
	d.Name, d.Target, d.Base, d.State = theirs.Doc.V.Title, "writer", "base", shell.StateOf(theirs.Doc.V)
	d.Action = fmt.Sprintf("/content/pages/%d", id)
	d.Back = fmt.Sprintf("%s?at=%d", d.Action, at)
	return s.Conflict(c, "Content", d, v)
}

// doPage does what was pressed. It answers the block that is open then.
func (s *Place) doPage(c *echo.Context, id int64, at int, do, rest string) (open int, said string, err error) {
	ctx, user := c.Request().Context(), shell.UserOf(c).ID
	words := append(strings.Fields(rest), "", "")
	n, _ := strconv.Atoi(words[0]) // what is no number is no block
	edit := func(what string, f func(d *page.Document) error) error {
		return s.Engine.EditPage(ctx, id, user, what, f)
	}
	form := func(what string, f func(x *page.Form) error) error {
		return edit(what, func(d *page.Document) error { return f(&d.Form) })
	}
	switch do {
	case "":
	case "open":
		return n, "", nil
	case "add":
		behind, _ := strconv.Atoi(words[1])
		err = edit("put in: "+words[0], func(d *page.Document) error {
			if behind == 0 && len(d.Blocks) > 0 {
				behind = d.Blocks[len(d.Blocks)-1].ID
			}
			at, err = d.Insert(message.Kind(words[0]), behind)
			return err
		})
	case "remove":
		err = edit("took out a block", func(d *page.Document) error { return d.Remove(n) })
		at = 0
	case "move":
		by, _ := strconv.Atoi(words[1])
		err = edit("moved a block", func(d *page.Document) error { return d.Move(n, by) })
	case "copy":
		err = edit("copied a block", func(d *page.Document) error { at, err = d.Copy(n); return err })
	case "order":
		var ids []int
		for _, x := range strings.Split(words[0], ",") {
			k, err := strconv.Atoi(x)
			if err != nil {
				return at, "", echo.ErrBadRequest
			}
			ids = append(ids, k)
		}
		err = edit("moved a block", func(d *page.Document) error { d.Order(ids); return nil })
	case "ask":
		err = form("a question", func(f *page.Form) error {
			f.Questions = append(f.Questions, page.Question{Field: person.Field(rest), Further: true})
			return nil
		})
	case "unask":
		err = form("a question", func(f *page.Form) error { f.Questions = without(f.Questions, n); return nil })
	case "raise":
		err = form("order of questions", func(f *page.Form) error {
			if n > 0 && n < len(f.Questions) {
				f.Questions[n-1], f.Questions[n] = f.Questions[n], f.Questions[n-1]
			}
			return nil
		})
	case "agree":
		purposes, err := s.Store.Purposes(ctx)
		if err != nil {
			return at, "", err
		}
		if len(purposes) == 0 {
			return at, "",
				plainly.New("there is no purpose yet that people could agree to: add one under People, Tags and fields")
		}
		err = form("a box for consent", func(f *page.Form) error {
			f.Consents = append(f.Consents,
				page.Consent{Purpose: purposes[0].ID, Words: "Yes, write to me about: " + purposes[0].Name})
			return nil
		})
		return at, "", err
	case "disagree":
		err = form("a box for consent", func(f *page.Form) error { f.Consents = without(f.Consents, n); return nil })
	case "hide":
		err = form("a hidden field", func(f *page.Form) error {
			f.Hidden = append(f.Hidden, page.Hidden{Field: person.Department})
			return nil
		})
	case "unhide":
		err = form("a hidden field", func(f *page.Form) error { f.Hidden = without(f.Hidden, n); return nil })
	case "undo", "redo":
		_, err = s.Engine.MovePageDraft(ctx, id, map[string]int{"undo": -1, "redo": 1}[do])
	case "publish":
		if err = s.Engine.PublishPage(ctx, id); err == nil {
			said = "Published. Visitors see it from now on."
		}
	default:
		err = echo.ErrBadRequest
	}
	return at, said, err
}

func without[T any](list []T, i int) []T {
	if i < 0 || i >= len(list) {
		return list
	}
	return slices.Delete(list, i, i+1)
}
