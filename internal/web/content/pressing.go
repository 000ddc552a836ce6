package content

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/message"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// pressed is a button of the writer that somebody pressed. Doing it may open
// another section or group, and say something.
type pressed struct {
	c     *echo.Context
	s     *Place
	id    int64 // of the message
	user  int64
	at    int   // the section that is open
	group int64 // whose words are shown
	form  map[string][]string
	do    []string // what the button does, with its arguments
	said  string
}

// arg is an argument as a number; what is no number is no section.
func (p *pressed) arg(i int) int {
	if i >= len(p.do) {
		return 0
	}
	n, err := strconv.Atoi(p.do[i])
	if err != nil {
		return 0
	}
	return n
}

func (p *pressed) ctx() context.Context { return p.c.Request().Context() }

// edit changes the draft, as a step that can be undone.
func (p *pressed) edit(what string, f func(d *message.Document) error) error {
	return p.s.Engine.EditMessage(p.ctx(), p.id, p.user, what,
		func(d *store.MessageDraft) error { return f(&d.Doc.V) })
}

// pressings is what each button does, by its first word.
var pressings = map[string]func(p *pressed) error{
	"open":  func(p *pressed) error { p.at = p.arg(1); return nil },
	"group": func(p *pressed) error { p.group = int64(p.arg(1)); return nil },
	"add":   addSection,
	"remove": func(p *pressed) error {
		err := p.edit("took out a section", func(d *message.Document) error { return d.Remove(p.arg(1)) })
		p.at = 0
		return err
	},
	"move": func(p *pressed) error {
		return p.edit("moved a section", func(d *message.Document) error { return d.Move(p.arg(1), p.arg(2)) })
	},
	"copy": func(p *pressed) error {
		return p.edit("copied a section", func(d *message.Document) (err error) {
			p.at, err = d.Copy(p.arg(1))
			return err
		})
	},
	"order": orderSections,
	"undo":  func(p *pressed) error { return p.step(-1) },
	"redo":  func(p *pressed) error { return p.step(1) },
	"keep": func(p *pressed) error {
		err := p.s.Engine.KeepMessage(p.ctx(), p.id, p.user)
		if err == nil {
			p.said = "Saved. Sequences that are running go on with the version they were launched with."
		}
		return err
	},
	"attach": func(p *pressed) error {
		item := int64(p.arg(1))
		if item == 0 && len(p.form["attach"]) > 0 {
			item = shell.Number(p.form["attach"][0])
		}
		return p.s.Engine.Attach(p.ctx(), p.id, p.user, item)
	},
	"detach": func(p *pressed) error {
		return p.edit("took a file off", func(d *message.Document) error {
			d.Files = slices.DeleteFunc(d.Files, func(f message.File) bool { return f.Item == int64(p.arg(1)) })
			return nil
		})
	},
	"unset": func(p *pressed) error {
		return p.edit("gave up a version", func(d *message.Document) error { return d.Unset(p.arg(1), p.group) })
	},
	"prefer": func(p *pressed) error {
		return p.edit("order of groups", func(d *message.Document) error { return d.Prefer(int64(p.arg(1))) })
	},
	"use": func(p *pressed) error {
		var use []int64
		for _, g := range p.form["use"] {
			use = append(use, shell.Number(g))
		}
		return p.s.Engine.UseGroups(p.ctx(), p.id, p.user, use)
	},
}

// addSection is "add KIND BEHIND": behind the last section where BEHIND is 0.
func addSection(p *pressed) error {
	kind := message.Kind(strings.Join(p.do[1:max(len(p.do)-1, 1)], " "))
	return p.edit("put in: "+string(kind), func(d *message.Document) (err error) {
		behind := p.arg(len(p.do) - 1)
		if behind == 0 && len(d.Sections) > 0 {
			behind = d.Sections[len(d.Sections)-1].ID
		}
		p.at, err = d.Insert(kind, behind)
		return err
	})
}

// orderSections is "order 3,1,2".
func orderSections(p *pressed) error {
	return p.edit("moved a section", func(d *message.Document) error {
		var ids []int
		for _, x := range strings.Split(strings.Join(p.do[1:], ""), ",") {
			n, err := strconv.Atoi(x)
			if err != nil {
				return echo.ErrBadRequest
			}
			ids = append(ids, n)
		}
		d.Order(ids)
		return nil
	})
}

// step goes back or forth in what was done to the draft.
func (p *pressed) step(by int) error {
	_, err := p.s.Engine.MoveMessageDraft(p.ctx(), p.id, by)
	return err
}
