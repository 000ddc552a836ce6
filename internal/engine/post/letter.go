package post

import (
	"context"
	"fmt"
	"html"
	"strings"
	"sync"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/event"
	"ombak/internal/core/message"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/mail"
	"ombak/internal/store"
)

// WordsOf readies a version of a message. Versions never change, so each is
// readied once.
func (e *Post) WordsOf(ctx context.Context, id int64, version int) (*message.Program, error) {
	key := [2]int64{id, int64(version)}
	if p, ok := e.words.Load(key); ok {
		return p.(*message.Program), nil
	}
	fields, err := e.Fields(ctx)
	if err != nil {
		return nil, err
	}
	doc, err := e.Store.VersionDoc(ctx, id, version)
	if store.IsNotFound(err) {
		return nil, &unsendable{plainly.New("its message is not there any more")}
	}
	if err != nil {
		return nil, err
	}
	p, err := message.Compile(&doc, fields)
	if err != nil {
		return nil, &unsendable{err}
	}
	e.words.Store(key, p)
	return p, nil
}

// letters is what it takes to write to some readers, loaded in a few queries
// however many they are.
type letters struct {
	e       *Post
	now     time.Time
	fields  []message.Field
	Whom    map[int64]*store.Person
	users   map[int64]store.User
	slugs   map[int64]string // of booking pages, by whose they are
	edits   map[[2]int64]*message.Edit
	records map[int64]*rule.Record
	signals map[int64][]signal.Signal
	kept    map[int64]flow.Kept
	threads map[int64]thread // by touch, where it answers in one
	shown   sync.Map         // user → shownUser: many letters are from few
	events  sync.Map         // by number
}

// shownUser is how a user is shown in letters.
type shownUser struct{ phone, signature string }

func (l *letters) show(u store.User) shownUser {
	if x, ok := l.shown.Load(u.ID); ok {
		return x.(shownUser)
	}
	x := shownUser{person.ShowPhone(u.Phone), Signature(u)}
	l.shown.Store(u.ID, x)
	return x
}

// thread is what an email answers to.
type thread struct {
	subject string
	before  []string // Message-IDs, the first first
}

// gatherThreads finds the threads in which emails of sequences answer.
func (l *letters) gatherThreads(ctx context.Context, list []store.Outgoing) error {
	known := map[int64]map[sequence.StepID][]sequence.StepID{}
	var fresh []int64
	for i := range list {
		v := list[i].Plan
		if _, ok := known[v]; ok || v == 0 {
			continue
		}
		known[v] = nil
		if x, ok := l.e.threads.Load(v); ok {
			known[v] = x.(map[sequence.StepID][]sequence.StepID)
		} else {
			fresh = append(fresh, v)
		}
	}
	plans, err := l.e.Store.Versions(ctx, fresh)
	if err != nil {
		return err
	}
	for _, v := range plans {
		x := map[sequence.StepID][]sequence.StepID{}
		for _, step := range v.Plan.V.Steps {
			id := step.About().ID
			if before := v.Plan.V.ThreadOf(id); len(before) > 0 {
				x[id] = before
			}
		}
		l.e.threads.Store(v.ID, x) // a version never changes
		known[v.ID] = x
	}
	answers := map[int64][]sequence.StepID{}
	var ways []int64
	for i := range list {
		if steps := known[list[i].Plan][sequence.StepID(list[i].Step)]; len(steps) > 0 {
			answers[list[i].ID] = steps
			ways = append(ways, list[i].Enrolment)
		}
	}
	l.threads = map[int64]thread{}
	if err := l.gatherAnswers(ctx, list); err != nil || len(ways) == 0 {
		return err
	}
	return l.e.Store.InTx(ctx, func(tx store.Tx) error {
		sent, err := tx.SentInWays(ctx, ways)
		if err != nil {
			return err
		}
		for i := range list {
			o := &list[i]
			var t thread
			for _, step := range answers[o.ID] { // the nearest first
				for _, s := range sent {
					if s.Enrolment == o.Enrolment && s.Step == int32(step) {
						t.before = append([]string{s.MailID}, t.before...)
						t.subject = s.Subject // the first one's stands
					}
				}
			}
			if len(t.before) > 0 {
				l.threads[o.ID] = t
			}
		}
		return nil
	})
}

// gatherAnswers finds the letters that emails by hand answer.
func (l *letters) gatherAnswers(ctx context.Context, list []store.Outgoing) error {
	var ids []int64
	for i := range list {
		if list[i].Answers != 0 {
			ids = append(ids, list[i].Answers)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	answered, err := l.e.Store.AnsweredLetters(ctx, ids)
	if err != nil {
		return err
	}
	for i := range list {
		for _, a := range answered {
			if a.ID != list[i].Answers {
				continue
			}
			t := thread{subject: a.Subject}
			for _, id := range []string{a.Before, a.MailID} {
				if id != "" && !strings.HasSuffix(id, unnamed) {
					t.before = append(t.before, id)
				}
			}
			l.threads[list[i].ID] = t
		}
	}
	return nil
}

// answering is a letter as an answer in its thread.
func (t thread) answering(m mail.Letter) mail.Letter {
	if n := len(t.before); n > 0 {
		m.InReplyTo, m.References = t.before[n-1], t.before
		m.Subject = t.subject
		if !strings.HasPrefix(strings.ToLower(m.Subject), "re:") {
			m.Subject = "Re: " + m.Subject
		}
	}
	return m
}

// letterNeeds is what the rules of messages' groups ask of their readers.
type letterNeeds struct{ records, signals bool }

// allNeeds asks for everything.
var allNeeds = letterNeeds{true, true}

// needsOf is what the messages of some emails need: to read what everybody has
// done costs more than all the rest of a letter.
func (e *Post) needsOf(ctx context.Context, list []store.Outgoing) (n letterNeeds) {
	seen := map[[2]int64]bool{}
	for _, o := range list {
		key := [2]int64{o.Message, int64(o.Version)}
		if seen[key] {
			continue
		}
		seen[key] = true
		p, err := e.WordsOf(ctx, o.Message, o.Version)
		if err != nil {
			return allNeeds // whoever writes it finds that too, and says so
		}
		n.records = n.records || p.Groups()
		n.signals = n.signals || p.AsksSignals()
	}
	return n
}

// gatherLetters loads what the readers of some messages may be asked for.
// grouped says that some message has words for groups of readers.
func (e *Post) gatherLetters(ctx context.Context, people, messages []int64, need letterNeeds) (*letters, error) {
	l := &letters{e: e, now: e.Now(), users: map[int64]store.User{}}
	var err error
	if l.fields, err = e.Fields(ctx); err != nil {
		return nil, err
	}
	users, err := e.Store.Users(ctx)
	if err != nil {
		return nil, err
	}
	if l.slugs, err = e.Store.BookingSlugs(ctx); err != nil {
		return nil, err
	}
	for _, u := range users {
		l.users[u.ID] = u
	}
	return l, e.Store.InTx(ctx, func(tx store.Tx) error {
		if l.Whom, err = tx.PeopleByID(ctx, people); err != nil {
			return err
		}
		if l.edits, err = tx.PersonalEdits(ctx, messages, people); err != nil || !need.records {
			return err
		}
		if l.records, err = tx.Records(ctx, people); err != nil {
			return err
		}
		if l.kept, err = e.KeptOf(ctx, tx.Queries, people); err != nil || !need.signals {
			return err
		}
		var since []store.Since
		for _, p := range people {
			since = append(since, store.Since{Person: p})
		}
		l.signals, err = tx.SignalsSince(ctx, flow.Unique(since))
		return err
	})
}

// facts are what the rules of groups ask of a reader.
func (l *letters) facts(p *store.Person) rule.Facts {
	return flow.NewStanding(l.records[p.ID], l.signals[p.ID], l.kept[p.ID])
}

// values are the merge fields of a reader; sender is who writes, 0: nobody.
func (l *letters) values(names []message.Field, p *store.Person, sender int64) message.Values {
	v := message.ValuesOf(p.Values(), names)
	user := func(group string, id int64) {
		u, ok := l.users[id]
		if !ok {
			return
		}
		v[group+".name"], v[group+".email"], v[group+".phone"] = u.Name, u.Email, l.show(u).phone
		v[group+".first_name"], _, _ = strings.Cut(u.Name, " ")
	}
	if p.OwnerID != nil {
		user("owner", *p.OwnerID)
	}
	user("sender", sender)
	if slug := l.slugs[sender]; slug != "" {
		v["sender.booking"] = l.e.URL + "/b/" + slug
	}
	if p.OwnerID != nil && l.slugs[*p.OwnerID] != "" {
		v["owner.booking"] = l.e.URL + "/b/" + l.slugs[*p.OwnerID]
	}
	if u, ok := l.users[sender]; ok {
		v["sender.signature"] = l.show(u).signature
	}
	return v
}

// about adds to a reader's values what the words say of their event, of the
// shelf, and of what they are sent for.
func (l *letters) about(
	ctx context.Context, v message.Values, words *message.Program, p *store.Person, campaign string,
) (message.Values, error) {
	doc := words.Document()
	zone, _ := calendar.ZoneFor(calendar.Whereabouts{Zone: p.Zone, Country: p.Country, City: p.City}, l.e.Zone())
	doc.Invite.Tell(v, zone)
	if doc.Event != 0 {
		e, err := l.event(ctx, doc.Event)
		if store.IsNotFound(err) {
			return nil, &unsendable{plainly.New("the event that it is about is not there any more")}
		}
		if err != nil {
			return nil, err
		}
		message.TellEvent(v, &e, zone)
	}
	if words.NamesShelf() {
		for _, f := range l.fields {
			if strings.HasPrefix(f.Name, "shelf.") {
				v[f.Name] = f.Label
			}
		}
	}
	v[message.CampaignName] = campaign
	return v, nil
}

// event reads an event that letters are about, once for all of them.
func (l *letters) event(ctx context.Context, id int64) (event.Event, error) {
	if x, ok := l.events.Load(id); ok {
		return x.(event.Event), nil
	}
	list, err := l.e.Store.EventsByID(ctx, []int64{id})
	if err != nil {
		return event.Event{}, err
	}
	e, ok := list[id]
	if !ok {
		return e, store.ErrNotFound
	}
	l.events.Store(id, e)
	return e, nil
}

// Signature is a user's signature: their own, else their name and how to reach
// them.
func Signature(u store.User) string {
	if strings.TrimSpace(u.Signature) != "" {
		return message.Clean(u.Signature)
	}
	s := "<p>" + html.EscapeString(u.Name)
	for _, x := range []string{person.ShowPhone(u.Phone), u.Email} {
		if x != "" {
			s += "<br>" + html.EscapeString(x)
		}
	}
	return s + "</p>"
}

// Draft is what one reader would get.
type Draft struct {
	message.Rendered
	Group  int64
	Sender store.User
}

// ErrNoSender is why an email without anybody who sends it stops.
var ErrNoSender = plainly.New("nobody sends it: the reader has no owner and the message names no other sender")

// WriteFor writes a document as one person would get it, with links that lead
// straight to their targets. group −1 lets the groups' rules decide.
func (e *Post) WriteFor(
	ctx context.Context, doc *message.Document, id, reader int64, fromOwner bool, sender *int64, group int64,
) (Draft, error) {
	var d Draft
	l, err := e.gatherLetters(ctx, []int64{reader}, []int64{id}, allNeeds)
	if err != nil {
		return d, err
	}
	p := l.Whom[reader]
	if p == nil {
		return d, store.ErrNotFound
	}
	if fromOwner && p.OwnerID != nil {
		sender = p.OwnerID
	}
	if sender == nil {
		return d, ErrNoSender
	}
	d.Sender = l.users[*sender]
	if d.Group = group; group < 0 {
		d.Group = doc.GroupOf(l.facts(p), l.now)
		doc = doc.With(l.edits[[2]int64{id, reader}])
	}
	words, err := message.Compile(doc, l.fields)
	if err != nil {
		return d, err
	}
	v, err := l.about(ctx, l.values(words.Names(), p, *sender), words, p, "[the campaign]")
	if err != nil {
		return d, err
	}
	d.Rendered, err = words.Render(d.Group, v,
		message.Addresses{OptOut: e.URL + message.OptOutLink, Sender: e.imprint()})
	return d, err
}

// unsendable is an error that is about one email and stops it, for a person to
// look at. Any other error is a moment's: the email goes out later.
type unsendable struct{ error }

func (u *unsendable) Unwrap() error { return u.error }

// shortLetter is how long the text of a letter by hand is that has no pixel.
const shortLetter = 1500

// letter writes a claimed email for its reader. It answers whose words it has
// and what was changed in them. What is wrong with the email itself is an
// *unsendable.
func (l *letters) letter(
	ctx context.Context, o *store.Outgoing,
) (letter mail.Letter, group int64, edit *message.Edit, err error) {
	e := l.e
	reader := l.Whom[o.Person]
	switch {
	case reader == nil:
		return letter, 0, nil, &unsendable{plainly.New("the reader is not there any more")}
	case o.Sender == nil:
		return letter, 0, nil, &unsendable{ErrNoSender}
	case reader.Email == "":
		return letter, 0, nil, &unsendable{plainly.New("the reader has no email address")}
	}
	p, err := e.WordsOf(ctx, o.Message, o.Version)
	if err != nil {
		return letter, 0, nil, err
	}
	if p.Groups() {
		group = p.GroupOf(l.facts(reader), l.now)
	}
	if edit = l.edits[[2]int64{o.Message, o.Person}]; edit != nil {
		if p, err = message.Compile(p.Document().With(edit), l.fields); err != nil {
			return letter, 0, nil, &unsendable{plainly.Errorf("what was changed for this reader: %w", err)}
		}
	}
	optOut := e.OptOutURL(o.ID)
	to := message.Addresses{
		Link: func(n int, _ string) string { return e.LinkURL(o.ID, n) }, OptOut: optOut,
		Pixel: e.PixelURL(o.ID), Trap: e.TrapURL(o.ID), Sender: e.imprint(),
	}
	values, err := l.about(ctx, l.values(p.Names(), reader, *o.Sender), p, reader, o.Campaign)
	if err != nil {
		return letter, 0, nil, err
	}
	r, err := p.Render(group, values, to)
	if err == nil && o.ByHand && len(r.Text) < shortLetter {
		to.Pixel, to.Trap = "", "" // a few lines with a picture that nobody sees look like what they are not
		r, err = p.Render(group, values, to)
	}
	if err != nil {
		return letter, 0, nil, &unsendable{err}
	}
	if o.ByHand {
		// programs that answer for somebody who is away stay silent to what says it is a list's (RFC 3834, 2)
		optOut = ""
	}
	from := l.users[*o.Sender]
	doc := p.Document()
	invite, err := e.invitation(doc.Invite, from, reader.Email, fmt.Sprintf("t%d", o.ID))
	if err != nil {
		return letter, 0, nil, &unsendable{err}
	}
	if len(o.Invite) > 0 {
		invite = o.Invite
	}
	files, err := e.attachments(ctx, doc)
	if store.IsNotFound(err) {
		return letter, 0, nil, &unsendable{plainly.New("a file it takes along is not there any more")}
	}
	if err != nil {
		return letter, 0, nil, err
	}
	return l.threads[o.ID].answering(mail.Letter{
		ID: o.MailID, FromName: from.Name, From: from.Email, To: reader.Email, Subject: r.Subject, Date: e.Now(),
		ReturnPath: "bounce+" + strings.SplitN(o.MailID, "@", 2)[0] + "@" + e.Domain,
		ReplyTo:    doc.ReplyTo, Cc: doc.Cc, Bcc: doc.Bcc,
		Text: r.Text, HTML: absolutePictures(e.PassesIn(r.HTML, base.PassForPicture), e.URL), Invite: invite,
		OptOut: optOut, Files: files,
	}), group, edit, nil
}

// imprint is who writes, in one line, as it stands under each email.
func (e *Post) imprint() string {
	w := e.Workspace()
	return strings.Join(strings.FieldsFunc(w.Name+"\n"+w.Address, func(r rune) bool { return r == '\n' }), ", ")
}

// absolutePictures makes the addresses of Ombak's own pictures whole ones.
func absolutePictures(s, url string) string {
	return strings.ReplaceAll(s, `src="/`, `src="`+html.EscapeString(url)+`/`)
}

// Absolute makes an address of Ombak's own pages a whole one.
func (e *Post) Absolute(target string) string {
	if strings.HasPrefix(target, "/") && !strings.HasPrefix(target, "//") {
		return e.URL + target
	}
	return target
}

// GroupFor is whose words of a document a person would get.
func (e *Post) GroupFor(ctx context.Context, doc *message.Document, reader int64) (int64, error) {
	if len(doc.Groups) == 0 {
		return message.Else, nil
	}
	l, err := e.gatherLetters(ctx, []int64{reader}, nil, allNeeds)
	if err != nil {
		return 0, err
	}
	p := l.Whom[reader]
	if p == nil {
		return 0, store.ErrNotFound
	}
	return doc.GroupOf(l.facts(p), l.now), nil
}
