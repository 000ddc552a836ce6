package post

import (
	"context"
	"fmt"
	"strings"

	"ombak/internal/core/message"
	"ombak/internal/core/rule"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// Proof is what the proof of a message found.
type Proof struct {
	Findings []message.Finding
	Stopped  []Stopped
	People   int64 // readers that were looked at
}

// Stopped is a merge field that keeps the message from some readers.
type Stopped struct {
	Field  message.Field
	Group  int64
	People int64
	Rule   rule.Rule // whom
}

// Grave reports whether readers would get something broken.
func (p Proof) Grave() bool {
	for _, f := range p.Findings {
		if f.Grave {
			return true
		}
	}
	return false
}

// groupRule is who of some readers reads the words of a group: those for whom
// its rule holds and none before it.
func groupRule(doc *message.Document, readers rule.Rule, group int64) rule.Rule {
	r := rule.Rule{}
	if readers.Asks() {
		r.All = append(r.All, readers)
	}
	for i := range doc.Groups {
		if doc.Groups[i].ID == group {
			r.All = append(r.All, doc.Groups[i].Rule)
			break
		}
		r.All = append(r.All, rule.Rule{None: []rule.Rule{doc.Groups[i].Rule}})
	}
	return r
}

// surroundings are what a message is held against.
type surroundings struct {
	there  map[string]bool // pages, files and events that links can lead to
	fields []message.Field
	users  map[int64]store.User
}

func (e *Post) surroundings(ctx context.Context) (s surroundings, err error) {
	s.there, s.users = map[string]bool{}, map[int64]store.User{}
	pages, err := e.Store.PageNames(ctx)
	if err != nil {
		return s, err
	}
	for _, x := range pages {
		s.there["/p/"+x.Slug] = x.Published
		s.there["/g/"+x.Slug] = x.Published && x.FileName != ""
	}
	items, err := e.Store.Shelf(ctx, "", e.Now(), false)
	if err != nil {
		return s, err
	}
	for _, x := range items {
		at := fmt.Sprintf("/s/%d", x.ID)
		s.there[at], s.there[at+"/file"] = true, true
	}
	events, err := e.Store.EventNames(ctx)
	if err != nil {
		return s, err
	}
	for _, x := range events {
		s.there[message.EventLink(x.ID)] = true
	}
	if s.fields, err = e.Fields(ctx); err != nil {
		return s, err
	}
	list, err := e.Store.Users(ctx)
	for _, u := range list {
		s.users[u.ID] = u
	}
	return s, err
}

// Proof looks for what would go wrong with a document and some readers.
func (e *Post) Proof(
	ctx context.Context, doc *message.Document, fromOwner bool, sender *int64, readers rule.Rule,
) (Proof, error) {
	about, err := e.surroundings(ctx)
	if err != nil {
		return Proof{}, err
	}
	return e.proof(ctx, about, doc, fromOwner, sender, readers)
}

func (e *Post) proof(
	ctx context.Context, about surroundings, doc *message.Document, fromOwner bool, sender *int64, readers rule.Rule,
) (p Proof, err error) {
	fields, users := about.fields, about.users
	p.Findings = doc.Proof(func(target string) bool {
		target, _, _ = strings.Cut(target, "?")
		target, _, _ = strings.Cut(target, "#")
		return about.there[target]
	})
	if _, err := message.Compile(doc, fields); err != nil {
		p.Findings = append(p.Findings, message.Finding{Text: base.Told(err), Grave: true})
	}
	if sender == nil {
		p.Findings = append(p.Findings,
			message.Finding{Text: "nobody is chosen who sends it to readers without an owner", Grave: true})
	}
	now := e.Now()
	if p.People, err = e.HowMany(ctx, store.PeopleQuery{Rule: readers, Now: now}); err != nil {
		return p, err
	}
	groups := []int64{message.Else}
	for i := range doc.Groups {
		groups = append(groups, doc.Groups[i].ID)
	}
	for _, g := range groups {
		whom := groupRule(doc, readers, g)
		for _, name := range doc.NeededBy(g) {
			for _, f := range fields {
				if f.Name != name {
					continue
				}
				if f.Of == "" {
					if strings.HasPrefix(name, "event.") && doc.Invite == nil && doc.Event == 0 {
						p.Findings = append(p.Findings,
							message.Finding{Group: g, Grave: true,
								Text: fmt.Sprintf("it speaks of its event (%s), and none is chosen", name)})
					}
					if name == message.EventPlace && doc.Event == 0 && doc.Invite != nil && doc.Invite.Place == "" {
						p.Findings = append(p.Findings,
							message.Finding{Group: g, Grave: true,
								Text: "it says where its event is, and the invitation does not"})
					}
					if strings.HasPrefix(name, "owner.") {
						s := Stopped{Field: f, Group: g,
							Rule: and(whom, rule.Condition{Field: "owner", Op: rule.NotKnown})}
						if s.People,
							err = e.HowMany(ctx, store.PeopleQuery{Rule: s.Rule, Now: now}); err != nil {
							return p, err
						}
						if s.People > 0 {
							p.Stopped = append(p.Stopped, s)
						}
					}
					if name == "sender.phone" && sender != nil && users[*sender].Phone == "" {
						p.Findings = append(p.Findings,
							message.Finding{Group: g, Grave: true,
								Text: fmt.Sprintf("%s has no telephone number, and the message has it without a "+
									"fallback", users[*sender].Name)})
					}
					continue
				}
				s := Stopped{Field: f, Group: g, Rule: and(whom, rule.Condition{Field: f.Of, Op: rule.NotKnown})}
				if s.People, err = e.HowMany(ctx, store.PeopleQuery{Rule: s.Rule, Now: now}); err != nil {
					return p, err
				}
				if s.People > 0 {
					p.Stopped = append(p.Stopped, s)
				}
			}
		}
	}
	return p, nil
}

func and(r rule.Rule, c rule.Condition) rule.Rule {
	return rule.Rule{All: append(append([]rule.Rule{}, r.All...), rule.Rule{If: &c})}
}
