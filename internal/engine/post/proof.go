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

// Proof looks for what would go wrong with a document and some readers.
func (e *Post) Proof(
	ctx context.Context, doc *message.Document, fromOwner bool, sender *int64, readers rule.Rule,
) (Proof, error) {
	var p Proof
	pages, err := e.Store.PageNames(ctx)
	if err != nil {
		return p, err
	}
	items, err := e.Store.Shelf(ctx, "", e.Now(), false)
	if err != nil {
		return p, err
	}
	events, err := e.Store.EventNames(ctx)
	if err != nil {
		return p, err
	}
	p.Findings = doc.Proof(func(target string) bool {
		target, _, _ = strings.Cut(target, "?")
		target, _, _ = strings.Cut(target, "#")
		for _, x := range items {
			if at := fmt.Sprintf("/s/%d", x.ID); target == at || target == at+"/file" {
				return true
			}
		}
		for _, x := range events {
			if target == message.EventLink(x.ID) {
				return true
			}
		}
		for _, x := range pages {
			if x.Published && (target == "/p/"+x.Slug || target == "/g/"+x.Slug && x.FileName != "") {
				return true
			}
		}
		return false
	})
	fields, err := e.Fields(ctx)
	if err != nil {
		return p, err
	}
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
	users := map[int64]store.User{}
	list, err := e.Store.Users(ctx)
	if err != nil {
		return p, err
	}
	for _, u := range list {
		users[u.ID] = u
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
