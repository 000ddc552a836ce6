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
	"time"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// The writer of messages is one form. Whatever is pressed sends all of it: what
// was typed is kept in the draft first, and then what the button named do says
// is done. So nothing that was typed is lost, and everything can be undone.
//
//	at       the section that is open; for  the group whose words are shown
//	do       "open 3", "add button 3" (behind section 3), "remove 3", "move 3 -1", "copy 3", "order 3,1,2",
//	         "unset 3" (give up the group's own version), "use" (the ticked groups), "prefer 2" (ask whether somebody
// is of group 2 before the group above it), "undo", "redo", "keep"

// typedSection reads what the open section's form holds.
func typedSection(v url.Values, k message.Kind) message.Content {
	c := message.Content{Text: v.Get("text"), Label: v.Get("label"), Link: v.Get("link"), Picture: v.Get("picture"),
		Alt: v.Get("alt"), By: v.Get("by"),
		Ordered: v.Get("ordered") != "", Small: v.Get("small") != ""}
	if k == message.List {
		c.Items = strings.Split(strings.ReplaceAll(v.Get("items"), "\r\n", "\n"), "\n")
	}
	return k.Tidy(c)
}

// changeMessage keeps what was typed and does what was pressed.
func (s *Place) changeMessage(c *echo.Context) error {
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
	group := shell.Number(v.Get("for"))
	user := shell.UserOf(c).ID
	if err := s.keepTyped(c, id, user, at, group, v); err != nil {
		if store.IsNotFound(err) {
			return err
		}
		if errors.Is(err, shell.ErrChanged) {
			return s.messageConflicts(c, id, at, group, v)
		}
		return s.showMessage(c, http.StatusUnprocessableEntity, id, at, group, shell.Sentence(err))
	}
	p := pressed{c: c, s: s, id: id, user: user, at: at, group: group, form: v, do: strings.Fields(v.Get("do"))}
	if len(p.do) > 0 {
		do, known := pressings[p.do[0]]
		if !known {
			return echo.ErrBadRequest
		}
		err = do(&p)
	}
	at, group = p.at, p.group
	if errors.Is(err, echo.ErrBadRequest) {
		return err
	}
	if err != nil {
		return s.showMessage(c, http.StatusUnprocessableEntity, id, at, group, shell.Sentence(err))
	}
	if v.Get("quiet") != "" {
		d, err := s.Store.MessageDraft(ctx, id)
		if err != nil {
			return err
		}
		c.Response().Header().Set("X-State", messageState(&d))
		return c.NoContent(http.StatusNoContent)
	}
	if shell.IsHTMX(c) {
		c.Set("said", p.said)
		return s.showMessage(c, http.StatusOK, id, at, group, "")
	}
	return s.Done(c, fmt.Sprintf("/content/messages/%d?at=%d&for=%d", id, at, group), p.said)
}

// keepTyped keeps what the form holds, where it differs from the draft.
func (s *Place) keepTyped(c *echo.Context, id, user int64, at int, group int64, v url.Values) error {
	ctx := c.Request().Context()
	if !v.Has("subject") { // a button by itself
		return nil
	}
	before, err := s.Store.MessageDraft(ctx, id)
	if err != nil {
		return err
	}
	apply := s.applyTyped(c, at, group, v)
	// Only what is another draft is a step.
	trial, err := tried(&before, apply)
	if err != nil || trial.what == "" {
		return err
	}
	return s.Engine.EditMessage(ctx, id, user, trial.what, func(d *store.MessageDraft) error {
		if base := v.Get("base"); base != "" && base != messageState(d) {
			return shell.ErrChanged
		}
		_, err := apply(d)
		return err
	})
}

// messageConflicts shows a draft as it stands beside what was typed.
func (s *Place) messageConflicts(c *echo.Context, id int64, at int, group int64, v url.Values) error {
	ctx := c.Request().Context()
	m, err := s.Store.MessageText(ctx, id)
	if err != nil {
		return err
	}
	theirs, err := s.Store.MessageDraft(ctx, id)
	if err != nil {
		return err
	}
	mine, err := tried(&theirs, s.applyTyped(c, at, group, v))
	if err != nil {
		return err
	}
	d := messageConflict(&theirs, &mine.draft, group)
	d.Name, d.Target, d.Base, d.State = m.Name, "writer", "base", messageState(&theirs)
	d.Action = fmt.Sprintf("/content/messages/%d", id)
	d.Back = fmt.Sprintf("%s?at=%d&for=%d", d.Action, at, group)
	return s.Conflict(c, "Content", d, v)
}

// trial is a draft as it would be with what was typed, and what that changes;
// empty: nothing.
type trial struct {
	draft store.MessageDraft
	what  string
}

// tried applies what was typed to a copy of a draft.
func tried(before *store.MessageDraft, apply func(*store.MessageDraft) (string, error)) (t trial, err error) {
	b, err := json.Marshal(before)
	if err != nil {
		return t, err
	}
	if err := json.Unmarshal(b, &t.draft); err != nil {
		return t, err
	}
	t.what, err = apply(&t.draft)
	return t, err
}

// applyTyped is how what the form holds changes a draft.
func (s *Place) applyTyped(
	c *echo.Context, at int, group int64, v url.Values,
) func(*store.MessageDraft) (string, error) {
	ctx := c.Request().Context()
	return func(d *store.MessageDraft) (what string, err error) {
		doc := &d.Doc.V
		words := func(w *message.Words, typed, name string) {
			typed = strings.Join(strings.Fields(strings.ToValidUTF8(strings.ReplaceAll(typed, "\x00", ""), "")), " ")
			if *w == nil {
				*w = message.Words{}
			}
			switch now, own := (*w)[group]; {
			case group != message.Else && !own && typed == (*w)[message.Else]:
			case group != message.Else && typed == "" && own:
				delete(*w, group)
				what = name
			case typed != now:
				(*w)[group], what = typed, name
			}
		}
		words(&doc.Subject, v.Get("subject"), "subject")
		words(&doc.Preheader, v.Get("preheader"), "preheader")
		if written := strings.TrimSpace(strings.ReplaceAll(v.Get("written"), "\r\n",
			"\n")); written != doc.Written.For(group) && v.Has("written") {
			if len(written) > message.MaxBody {
				return "", plainly.Errorf("the text is longer than %d bytes", message.MaxBody)
			}
			if doc.Written == nil {
				doc.Written = message.Words{}
			}
			if doc.Written[group] = written; written == "" {
				delete(doc.Written, group)
			}
			what = "text alternative"
		}
		if i := doc.Section(at); i >= 0 && v.Has("kind") && v.Get("kind") == string(doc.Sections[i].Kind) {
			x := &doc.Sections[i]
			typed := typedSection(v, x.Kind)
			if x.Kind == message.ShelfItem {
				var err error
				if typed, err = s.shelfSection(c, v, x.Of(group)); err != nil {
					return "", err
				}
			}
			if !sameContent(typed, x.Kind.Tidy(x.Of(group))) {
				if err := doc.Set(at, group, typed); err != nil {
					return "", err
				}
				what = fmt.Sprintf("words of section %d", at)
			}
		}
		if v.Has("style") {
			style := message.Style(v.Get("style"))
			if style != doc.Style && (style == message.Plain || style == message.Designed) {
				doc.Style, what = style, "style"
			}
			if bare := v.Get("bare") != ""; bare != doc.Bare {
				doc.Bare, what = bare, "the line to opt out"
			}
			if w, err := readEnvelope(doc, v, s.Engine.Zone()); err != nil {
				return "", err
			} else if w != "" {
				what = w
			}
			if from := v.Get("from") == "owner"; from != d.FromOwner {
				d.FromOwner, what = from, "sender"
			}
			if sender := shell.Number(v.Get("sender")); sender > 0 && (d.SenderID == nil || *d.SenderID != sender) {
				if _, err := s.Store.User(ctx, sender); err != nil {
					return "", plainly.New("choose who sends it from the list")
				}
				d.SenderID, what = &sender, "sender"
			}
		}
		return what, nil
	}
}

// shelfSection is a section about an item of the shelf: its words and its
// address are the item's, but for what is typed about it.
func (s *Place) shelfSection(c *echo.Context, v url.Values, was message.Content) (message.Content, error) {
	id := shell.Number(v.Get("shelf"))
	if id == 0 {
		return message.Content{}, nil
	}
	i, err := s.Store.ShelfItem(c.Request().Context(), id)
	if store.IsNotFound(err) {
		return was, plainly.New("this is not on the shelf any more")
	}
	about := v.Get("text")
	if id != was.Shelf {
		about = i.About
	}
	return message.ShelfItem.Tidy(message.Content{Shelf: id, Label: i.Title, Link: fmt.Sprintf("/s/%d", id),
		Text: about}), err
}

// readEnvelope reads who gets answers and copies, and the invitation.
func readEnvelope(doc *message.Document, v url.Values, zone *time.Location) (what string, err error) {
	reply := strings.TrimSpace(v.Get("reply_to"))
	if reply != "" {
		if reply, err = person.Email(reply); err != nil {
			return "", plainly.New("answers go to an address such as name@company.example")
		}
	}
	if reply != doc.ReplyTo {
		doc.ReplyTo, what = reply, "address for answers"
	}
	for _, l := range []struct {
		name string
		list *[]string
	}{{"cc", &doc.Cc}, {"bcc", &doc.Bcc}} {
		var out []string
		for _, one := range strings.FieldsFunc(v.Get(l.name), func(r rune) bool {
			return r == ',' || r == ';' || r == ' ' || r == '\n'
		}) {
			a, err := person.Email(one)
			if err != nil {
				return "", plainly.Errorf("“%s” is no address a copy could go to", one)
			}
			if out = append(out, a); len(out) > 10 {
				return "", plainly.New("copies go to at most 10 addresses")
			}
		}
		if !slices.Equal(out, *l.list) {
			*l.list, what = out, "copies"
		}
	}
	if v.Has("about") {
		if about, _ := strconv.ParseInt(v.Get("about"), 10, 64); about != doc.Event {
			doc.Event, what = max(about, 0), "the event"
		}
	}
	title, when := person.Name(v.Get("event")), strings.TrimSpace(v.Get("when"))
	if title == "" && when == "" {
		if doc.Invite != nil {
			doc.Invite, what = nil, "invitation"
		}
		return what, nil
	}
	start, err := time.ParseInLocation("2006-01-02T15:04", when, zone)
	minutes, merr := strconv.Atoi(strings.TrimSpace(v.Get("minutes")))
	if title == "" || err != nil || merr != nil || minutes < 1 || minutes > 7*24*60 {
		return "", plainly.New("an invitation needs a title, a day and time, and how many minutes it takes")
	}
	inv := message.Invite{Title: title, Start: start.UTC(), Minutes: minutes, Place: person.Name(v.Get("place")),
		Note: person.Name(v.Get("event_note"))}
	if doc.Invite == nil || *doc.Invite != inv {
		doc.Invite, what = &inv, "invitation"
	}
	return what, nil
}

func sameContent(a, b message.Content) bool {
	x, err := json.Marshal(a)
	y, err2 := json.Marshal(b)
	return err == nil && err2 == nil && string(x) == string(y)
}
