package desk

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/answer"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/post"
	"ombak/internal/engine/sales"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// answerForm is an answer with what is needed to sort it and to write back.
type answerForm struct {
	Letter    store.Incoming
	P         store.Person
	Suggested bool
	Suggest   answer.Suggestion
	Until     string           // what is in the field: the day they name, or what was typed
	Back      []store.EndedWay // the ways that the answer ended
	Thread    []post.Written
	Snippets  []store.Snippet
	Once      string
	Typed     url.Values // what was typed and could not be kept
}

// Sorts lists what it may come to.
func (answerForm) Sorts() []answer.Sort { return answer.Sorts() }

// Before is what is said before the words that lead to the suggestion; these, and what follows.
func (f answerForm) Before() string { return f.Letter.Said[:f.Suggest.From] }

// Led are the words that lead to the suggestion.
func (f answerForm) Led() string { return f.Letter.Said[f.Suggest.From:f.Suggest.To] }

// Rest is what follows.
func (f answerForm) Rest() string { return f.Letter.Said[f.Suggest.To:] }

// Is reports whether a sort is suggested.
func (f answerForm) Is(s answer.Sort) bool { return f.Suggested && f.Suggest.Sort == s }

// At is what they do, and where.
func (f answerForm) At() string {
	if f.P.Title != "" && f.P.Company != "" {
		return f.P.Title + ", " + f.P.Company
	}
	return f.P.Title + f.P.Company
}

// Social reports whether they answered on the network, where they are written to by hand.
func (f answerForm) Social() bool { return f.Letter.Kind == signal.SocialReply }

// Was is what was typed into a field and could not be kept.
func (f answerForm) Was(field string) string { return f.Typed.Get(field) }

// Asks reports whether nobody knows yet whether they wrote it.
func (f answerForm) Asks() bool { return f.Letter.Unsure && f.Letter.Sorted == "" }

// answerForm reads it.
func (s *Place) answerForm(ctx context.Context, in store.Incoming, user int64, typed url.Values) (*answerForm, error) {
	f := &answerForm{Letter: in, Once: rand.Text(), Typed: typed}
	var err error
	if f.P, err = s.Store.Person(ctx, *in.Person); err != nil {
		return nil, err
	}
	if f.Suggest, f.Until, f.Suggested, err = s.Engine.Suggest(ctx, &in); err != nil {
		return nil, err
	}
	if typed != nil {
		f.Until, f.Once = typed.Get("until"), typed.Get("once")
	}
	if f.Back, err = s.Store.EndedWays(ctx, *in.Person, sequence.Answered, in.At); err != nil {
		return nil, err
	}
	if f.Thread, err = s.Engine.Thread(ctx, *in.Person, 8); err != nil {
		return nil, err
	}
	f.Snippets, err = s.Store.Snippets(ctx, user)
	return f, err
}

// answerOf reads which answer an address is of, and whose it is.
func (s *Place) answerOf(c *echo.Context) (id, person int64, err error) {
	if id, err = shell.IDOf(c, "id"); err != nil {
		return 0, 0, err
	}
	in, err := s.Store.Incoming(c.Request().Context(), id)
	if err != nil {
		return 0, 0, err
	}
	if in.Person == nil {
		return 0, 0, store.ErrNotFound
	}
	return id, *in.Person, nil
}

// replyOf is what was typed to be written back; nil: nothing.
func replyOf(c *echo.Context, id, person int64) *post.ByHand {
	text := strings.TrimSpace(c.FormValue("text"))
	if text == "" {
		return nil
	}
	return &post.ByHand{Person: person, Text: text, Item: shell.Number(c.FormValue("shelf")), Once: c.FormValue("once"),
		Answers: id}
}

// sortAnswer takes what an answer came to, with what is written back.
func (s *Place) sortAnswer(c *echo.Context) error {
	ctx := c.Request().Context()
	id, person, err := s.answerOf(c)
	if err != nil {
		return err
	}
	x := sales.Sorting{ID: id, User: shell.UserOf(c).ID, As: answer.Sort(c.FormValue("as")),
		HandOver: c.FormValue("then") == "handoff", Until: c.FormValue("until"),
		Back: shell.Number(c.FormValue("back")), Reply: replyOf(c, id, person)}
	if email := strings.TrimSpace(c.FormValue("right_email")); email != "" {
		first, last, _ := strings.Cut(strings.TrimSpace(c.FormValue("right_name")), " ")
		x.Right = &sales.RightPerson{First: first, Last: last, Email: email}
	}
	if x.Reply != nil && !s.mayWrite(c) {
		return s.unsorted(c, id, errTooMany)
	}
	if err := s.Engine.SortAnswer(ctx, x); err != nil {
		return s.unsorted(c, id, err)
	}
	s.took(c)
	note := "Sorted: " + string(x.As) + "."
	if x.Reply != nil {
		note += " What you wrote is on its way."
	}
	return s.DoneUndo(c, backTo(c), note, fmt.Sprintf("/desk/answers/%d/back", id))
}

var errTooMany = plainly.New("you have sent many in a short time: wait a minute")

func (s *Place) mayWrite(c *echo.Context) bool {
	return s.Limits.Allow("byhand", fmt.Sprint(shell.UserOf(c).ID), 10*time.Second, 30)
}

// unsorted answers why an answer was not sorted, or not written to, and keeps what was typed.
func (s *Place) unsorted(c *echo.Context, id int64, err error) error {
	switch {
	case errors.Is(err, base.ErrGone):
		return s.NotDone(c, "/desk", "Somebody else has sorted this answer meanwhile.")
	case errors.Is(err, base.ErrNotYours):
		return shell.NotYours(err)
	}
	if _, plain := plainly.Says(err); !plain {
		return err
	}
	form, err1 := c.FormValues()
	if err1 != nil {
		return err1
	}
	return s.showDesk(c, http.StatusUnprocessableEntity, deskData{typed: form,
		Wrong: shell.Sentence(err) + " What you wrote is still here.", item: keyOf(store.AnswerWork, id)})
}

func (s *Place) unsortAnswer(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	err = s.Engine.UnsortAnswer(c.Request().Context(), id, shell.UserOf(c).ID)
	if errors.Is(err, base.ErrNotYours) {
		return shell.NotYours(err)
	}
	if errors.Is(err, sales.ErrMovedOn) {
		return s.NotDone(c, "/desk", shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, fmt.Sprintf("/desk?item=answer-%d", id),
		"It is back on the desk. A letter that went out with it is not.")
}

// writeBack sends what was typed, and leaves the answer to be sorted.
func (s *Place) writeBack(c *echo.Context) error {
	ctx := c.Request().Context()
	id, person, err := s.answerOf(c)
	if err != nil {
		return err
	}
	b := replyOf(c, id, person)
	switch {
	case b == nil:
		return s.unsorted(c, id, plainly.New("write a few words"))
	case !s.mayWrite(c):
		return s.unsorted(c, id, errTooMany)
	}
	if err := s.Engine.WriteBackNow(ctx, *b, shell.UserOf(c).ID); err != nil {
		return s.unsorted(c, id, err)
	}
	return s.Done(c, fmt.Sprintf("/desk?item=answer-%d", id),
		"It is on its way, from you. The answer waits to be sorted.")
}

// insertSnippet answers the field with a snippet behind what was typed, its merge fields filled in.
func (s *Place) insertSnippet(c *echo.Context) error {
	ctx := c.Request().Context()
	_, person, err := s.answerOf(c)
	if err != nil {
		return err
	}
	text := c.FormValue("text")
	u := shell.UserOf(c)
	if n := shell.Number(c.FormValue("snippet")); n > 0 {
		x, err := s.Store.Snippet(ctx, n, u.ID)
		if err != nil {
			return err
		}
		words, err := s.told(ctx, x.Body, person, u.ID)
		if err != nil {
			return err
		}
		if text = strings.TrimRight(text, " \n\r\t"); text != "" {
			text += "\n\n"
		}
		text += words
	}
	return c.Render(http.StatusOK, "desk.html#write-back", s.View(c, "", "", text))
}

// snippetsData is the room of snippets.
type snippetsData struct {
	Room  string
	List  []store.Snippet
	Now   store.Snippet
	Wrong string
	Names []string // of merge fields
}

func (s *Place) snippets(c *echo.Context) error {
	d := snippetsData{}
	if id := shell.Number(c.QueryParam("id")); id > 0 {
		var err error
		if d.Now, err = s.Store.Snippet(c.Request().Context(), id, shell.UserOf(c).ID); err != nil {
			return err
		}
	}
	return s.showSnippets(c, http.StatusOK, d)
}

func (s *Place) showSnippets(c *echo.Context, code int, d snippetsData) error {
	ctx := c.Request().Context()
	d.Room = "snippets"
	var err error
	if d.List, err = s.Store.Snippets(ctx, shell.UserOf(c).ID); err != nil {
		return err
	}
	fields, err := s.Engine.Fields(ctx)
	if err != nil {
		return err
	}
	for _, f := range fields {
		d.Names = append(d.Names, f.Name)
	}
	return s.PageCode(c, code, "snippets.html", "", "Desk", "Snippets", d)
}

func (s *Place) keepSnippet(c *echo.Context) error {
	u := shell.UserOf(c)
	x := store.Snippet{ID: shell.Number(c.FormValue("id")), Name: c.FormValue("name"), Body: c.FormValue("body")}
	if c.FormValue("whose") != "all" {
		x.User = &u.ID
	}
	if _, err := s.Engine.KeepSnippet(c.Request().Context(), x, u.ID); err != nil {
		if _, plain := plainly.Says(err); !plain {
			return err
		}
		return s.showSnippets(c, http.StatusUnprocessableEntity, snippetsData{Now: x, Wrong: shell.Sentence(err)})
	}
	return s.Done(c, "/desk/snippets", "Kept.")
}

func (s *Place) removeSnippet(c *echo.Context) error { return s.takeSnippet(c, true) }
func (s *Place) backSnippet(c *echo.Context) error   { return s.takeSnippet(c, false) }

func (s *Place) takeSnippet(c *echo.Context, gone bool) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if err := s.Engine.RemoveSnippet(c.Request().Context(), id, shell.UserOf(c).ID, gone); err != nil {
		return err
	}
	if gone {
		return s.DoneUndo(c, "/desk/snippets", "Deleted.", fmt.Sprintf("/desk/snippets/%d/back", id))
	}
	return s.Done(c, "/desk/snippets", "It is back.")
}

// suggestData are the rules by which sorts are suggested.
type suggestData struct {
	Room  string
	Rules answer.Rules
	Wrong string
	Try   string
	Tried answer.Suggestion
	Found bool
}

// Phrases are a rule's, one a line.
func (suggestData) Phrases(r answer.Rule) string { return strings.Join(r.Phrases, "\n") }

// Led are the words that lead to what is suggested of the text that is tried.
func (d suggestData) Led() string { return d.Try[d.Tried.From:d.Tried.To] }

func (s *Place) suggestions(c *echo.Context) error {
	rules, err := s.Engine.AnswerRules(c.Request().Context())
	if err != nil {
		return err
	}
	return s.showSuggestions(c, http.StatusOK, suggestData{Rules: rules, Try: c.QueryParam("try")})
}

func (s *Place) showSuggestions(c *echo.Context, code int, d suggestData) error {
	d.Room = "suggestions"
	d.Tried, d.Found = d.Rules.Suggest(d.Try)
	return s.PageCode(c, code, "suggestions.html", "", "Desk", "What answers may come to", d)
}

// keepSuggestions keeps the rules.
func (s *Place) keepSuggestions(c *echo.Context) error {
	ctx := c.Request().Context()
	rules, err := s.Engine.AnswerRules(ctx)
	if err != nil {
		return err
	}
	if c.FormValue("usual") != "" {
		rules = answer.Usual()
	} else {
		for i := range rules {
			rules[i].Phrases = strings.Split(c.FormValue("phrases."+string(rules[i].Sort)), "\n")
		}
	}
	change, err := s.Engine.ChangeAnswerRules(ctx, rules, shell.UserOf(c).ID)
	if _, plain := plainly.Says(err); plain {
		return s.showSuggestions(c, http.StatusUnprocessableEntity,
			suggestData{Rules: rules, Wrong: shell.Sentence(err) + " Nothing was changed."})
	}
	if err != nil {
		return err
	}
	if change == 0 {
		return s.Done(c, "/desk/suggestions", "Nothing is different.")
	}
	if shell.UserOf(c).Role != right.Admin { // who alone takes back what was changed
		return s.Done(c, "/desk/suggestions", "Saved.")
	}
	return s.DoneUndo(c, "/desk/suggestions", "Saved.", fmt.Sprintf("/settings/changes/%d/undo", change))
}

// answerRoutes are those of answers and snippets.
func (s *Place) answerRoutes(in *echo.Group) {
	sells := shell.Allow(right.Rep, right.Lead, right.Admin)
	in.POST("/desk/answers/:id", s.sortAnswer, sells)
	in.POST("/desk/answers/:id/back", s.unsortAnswer, sells)
	in.POST("/desk/answers/:id/write", s.writeBack, sells)
	in.POST("/desk/answers/:id/snippet", s.insertSnippet, sells)
	in.GET("/desk/suggestions", s.suggestions)
	in.POST("/desk/suggestions", s.keepSuggestions, shell.Allow(right.Lead, right.Admin))
	in.GET("/desk/snippets", s.snippets)
	in.POST("/desk/snippets", s.keepSnippet)
	in.POST("/desk/snippets/:id/delete", s.removeSnippet)
	in.POST("/desk/snippets/:id/back", s.backSnippet)
}
