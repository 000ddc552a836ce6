// Package forms is where readers meet us: pages and forms, visits, the shelf, and the
// links in letters.
package forms

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"

	"ombak/internal/core/act"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/shelf"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/engine/flow"
	"ombak/internal/engine/people"
	"ombak/internal/engine/post"
	"ombak/internal/store"
)

// Forms answers readers.
type Forms struct {
	*base.Base
	*flow.Flow
	*people.People
	*post.Post

	mailings struct { // what pressing links of those that went out does
		sync.Mutex
		of map[int64]*store.Mailing
	}
}

// New readies the room.
func New(b *base.Base, f *flow.Flow, p *people.People, t *post.Post) *Forms {
	return &Forms{Base: b, Flow: f, People: p, Post: t}
}

// askedAgain is how long a page that somebody asks again sends them nothing
// again.
const askedAgain = 24 * time.Hour

// Show keeps that a page was shown to somebody, and answers the token by which
// the page tells how far they came. source is the campaign tag, site the site
// that shows the form, empty for the page itself.
func (e *Forms) Show(ctx context.Context, p store.Page, source, site string) (string, error) {
	id, err := e.Store.PageVisit(ctx, p.ID, base.Cut(source, 100), site, e.Now())
	return e.PageVisitToken(p.ID, id), err
}

// StartForm keeps that somebody began to fill a form in; a token that is not
// ours does nothing.
func (e *Forms) StartForm(ctx context.Context, p store.Page, token string) error {
	visit := e.PageVisit(p.ID, token)
	if visit == 0 {
		return nil
	}
	return e.Store.StartForm(ctx, visit, e.Now())
}

// Browser is who sits there, as far as can be told.
type Browser struct {
	Person int64 // 0: nobody known
	Proven bool  // a link in an email of theirs was pressed there
	Known  page.Known
	chain  int64
}

// Browser tells who a browser is by the token it was given (of ReaderToken, or
// of a form filled in), or by its name on a site of our own. What a form may
// know of it is the record of whoever has proved to be themselves; of anybody
// else no more than what came from the same browser, so that nobody learns by
// typing an address what is known of its owner.
func (e *Forms) Browser(ctx context.Context, token, visitor string) (Browser, error) {
	var b Browser
	who, answer := e.ReadToken(token)
	if who != 0 {
		err := e.Store.InTx(ctx, func(tx store.Tx) error {
			list, err := tx.PeopleByID(ctx, []int64{who})
			if p := list[who]; p != nil && p.Erased == nil {
				b = Browser{Person: who, Proven: true, Known: page.Known(p.Values())}
			}
			return err
		})
		return b, err
	}
	if !visitorID.MatchString(visitor) {
		visitor = ""
	}
	if answer == 0 && visitor == "" {
		return b, nil
	}
	list, err := e.Store.BrowserAnswers(ctx, answer, visitor)
	for _, a := range list { // the newest says who it is
		if b.Person == 0 {
			b.Person, b.Known, b.chain = a.Person, page.Known{}, answer
		}
		if a.Person != b.Person {
			continue
		}
		for f, v := range a.Answers.V {
			if b.Known[f] == "" {
				b.Known[f] = v
			}
		}
	}
	return b, err
}

// For is what is known of a browser whose visitor gives an address: nothing
// where it is another's.
func (b Browser) For(address string) Browser {
	if a, err := person.Email(address); err != nil || a == "" || a != b.Known[person.EmailField] {
		return Browser{}
	}
	return b
}

// View keeps that a known reader looked at a page.
func (e *Forms) View(ctx context.Context, person int64, p store.Page) error {
	return e.RecordOne(ctx, pageSignal(person, p, signal.PageView, p.Title, e.Now()))
}

// Download keeps that a known reader took a page's file.
func (e *Forms) Download(ctx context.Context, person int64, p store.Page) error {
	return e.RecordOne(ctx, pageSignal(person, p, signal.Download, p.Offer, e.Now()))
}

func pageSignal(person int64, p store.Page, k signal.Kind, detail string, at time.Time) store.Signal {
	return store.Signal{Person: person, Detail: detail,
		Signal: signal.Signal{At: at, Kind: k, Place: signal.Place{Page: p.ID}}}
}

// Filled is a form that was filled in, with answers that were checked.
type Filled struct {
	page.Answers
	Visit   string  // the token of Show
	Seen    bool    // that the page was looked at is kept already
	Browser Browser // by its For
	Visitor string  // the browser's name on a site of our own
	Site    string  // that showed the form
}

// FormFilled takes a filled form in: its person is met, what they did is kept,
// what they asked for is sent, and what follows from it is done, at once or
// once their address has proved itself. It answers who it is, and the token to
// give their browser, empty where it has one.
//
// Nothing that is known is changed by somebody who only claims to be them: the
// answers of a browser that is not known as theirs fill gaps.
func (e *Forms) FormFilled(ctx context.Context, p store.Page, f Filled) (id int64, token string, err error) {
	now := e.Now()
	form := &p.Doc.V.Form
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		v := f.Values
		source := f.Hidden[person.Source]
		if source == "" {
			source = "page " + p.Slug
		}
		var err error
		if id, _, err = tx.MeetPerson(ctx,
			store.NewPerson{First: v[person.FirstName], Last: v[person.LastName], Email: v[person.EmailField],
				Company: v[person.Company],
				Domain:  person.CompanyDomain(v[person.EmailField]), Country: v[person.Country], City: v[person.City],
				Source: source}, now); err != nil {
			return err
		}
		// Somebody who was erased and comes back by themselves may be kept again.
		if err := tx.ForgetNeverAgain(ctx, e.Hashed(v[person.EmailField])); err != nil {
			return err
		}
		theirs := f.Browser.Proven && f.Browser.Person == id
		if err := e.answered(ctx, tx, id, f.Answers, theirs, "by form “"+p.Title+"”"); err != nil {
			return err
		}
		a := store.Answer{Page: p.ID, Person: id, At: now, Site: f.Site}
		if f.Browser.Person == id {
			a.Chain = f.Browser.chain
		}
		if visitorID.MatchString(f.Visitor) {
			a.Visitor = f.Visitor
		}
		a.Answers.V, a.Hidden.V, a.Consents.V = maps.Clone(v), f.Hidden, f.Consents
		a.Acts.V = form.Acts
		waits := form.Proved && !theirs
		if !waits {
			a.Proved = &now
		}
		var list []store.Signal
		if visit := e.PageVisit(p.ID, f.Visit); visit != 0 {
			at, err := tx.FinishVisit(ctx, p.ID, visit, now)
			switch {
			case store.IsNotFound(err): // the same view again
			case err != nil:
				return err
			default:
				a.Visit = &visit
				if !f.Seen && !at.After(now) && now.Sub(at) < 24*time.Hour {
					list = append(list, pageSignal(id, p, signal.PageView, p.Title, at))
				}
			}
		}
		list = append(list, pageSignal(id, p, signal.Form, p.Title, now))
		if a.ID, err = tx.AddAnswer(ctx, a); err != nil {
			return err
		}
		if token = ""; !theirs && a.Chain == 0 {
			token = e.ClaimToken(a.ID)
		}
		if form.Message != 0 {
			if _, err := tx.MailAnswer(ctx, a.ID, id, p.ID, form.Message, askedAgain, now); err != nil {
				return err
			}
		}
		if !waits {
			a.Title = p.Title
			if err := e.follow(ctx, tx, a, theirs); err != nil {
				return err
			}
		}
		return e.RecordSignals(ctx, tx, list)
	})
	if err == nil {
		e.Nudge()
	}
	return id, token, err
}

// answered keeps on a record what its person answered. Where they come from is
// kept once, by the first form that tells.
func (e *Forms) answered(ctx context.Context, tx store.Tx, id int64, a page.Answers, theirs bool, how string) error {
	people, err := tx.PeopleByID(ctx, []int64{id})
	if err != nil || people[id] == nil {
		return err
	}
	p := people[id]
	now := p.Values()
	set := person.Values{}
	for f, v := range a.Values {
		switch f {
		case person.EmailField:
		case person.Company:
			if now[f] == "" {
				set[f] = v
			}
		default:
			if theirs || now[f] == "" {
				set[f] = v
			}
		}
	}
	for f, v := range a.Hidden {
		if now[f] == "" && set[f] == "" {
			set[f] = v
		}
	}
	return e.Applied(ctx, tx, []store.Edit{{P: p, Now: now, Set: set}}, store.Author{How: how, At: e.Now()})
}

// Prove keeps that the address of whoever filled a form in is theirs: they
// pressed a link in what came there. What waited for that is done.
func (e *Forms) Prove(ctx context.Context, answer int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		list, err := tx.ProveAnswers(ctx, answer, e.Now())
		if err != nil {
			return err
		}
		for _, a := range list {
			// Who is too late for the last seat reads so on the event's own page.
			if err := e.follow(ctx, tx, a, true); err != nil && !errors.Is(err, ErrFull) {
				return err
			}
		}
		return nil
	})
}

// follow does what follows from a filled form. Whoever opted out of all mail and
// has proved to be themselves gets again what they agree to now; a claim does
// not undo anybody's opt-out.
func (e *Forms) follow(ctx context.Context, tx store.Tx, a store.Answer, proven bool) error {
	how := "by form “" + a.Title + "”"
	if proven && len(a.Consents.V) > 0 {
		var purposes []int64
		for _, c := range a.Consents.V {
			purposes = append(purposes, c.Purpose)
		}
		if _, err := tx.OptInAgain(ctx, a.Person, purposes, store.Author{How: how, At: e.Now()}); err != nil {
			return err
		}
	}
	for _, c := range a.Consents.V {
		ground := "ticked “" + c.Words + "”"
		if a.Proved != nil && a.Proved.After(a.At) {
			ground += ", and pressed the link in the email that came"
		}
		if err := tx.SetConsent(ctx, c.Purpose, a.Person, true, ground,
			store.Author{How: how, At: e.Now()}); err != nil {
			return err
		}
	}
	acts := make([]act.Act, len(a.Acts.V))
	for i, k := range a.Acts.V {
		acts[i] = k.Act
	}
	if err := e.DoFor(ctx, tx, acts, a.Person, how); err != nil {
		return err
	}
	entries, err := tx.EnteredByPage(ctx, a.Page)
	if err != nil {
		return err
	}
	for _, q := range entries {
		if err := e.Enter(ctx, tx, q, a.Person); err != nil {
			return err
		}
	}
	return e.registered(ctx, tx, a.Page, a.Person, how)
}

// NewPage begins a page that nobody sees yet.
func (e *Forms) NewPage(ctx context.Context, title string, user int64) (id int64, err error) {
	if title = person.Name(title); title == "" {
		return 0, plainly.New("give the page a title")
	}
	p := store.Page{Slug: Slug(title)}
	p.Doc.V = page.New(title, "", "Send it to me").WithLadder(person.Title, person.Country, person.PhoneField)
	for try := range 50 {
		err = e.Store.InTx(ctx, func(tx store.Tx) error {
			id, err = tx.SavePage(ctx, p, nil, e.Now())
			return err
		})
		if !errors.Is(err, store.ErrTaken) {
			return id, err
		}
		p.Slug = fmt.Sprintf("%s-%d", Slug(title), try+2)
	}
	return 0, err
}

// Slug makes an address of a title: small letters, figures and hyphens. Letters with
// marks lose them (Unicode, annex 15: what NFD takes apart); a few that are letters of
// their own are written as people there write them where they cannot.
func Slug(title string) string {
	bare := transform.Chain(norm.NFD, runes.Remove(runes.In(unicode.Mn)))
	s, _, err := transform.String(bare, written.Replace(strings.ToLower(title)))
	if err != nil { // no text makes it fail
		s = title
	}
	s = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return ' '
	}, s)
	if s = strings.Join(strings.Fields(s), "-"); len(s) > 60 {
		s = strings.Trim(s[:60], "-")
	}
	if s == "" {
		s = "page"
	}
	return s
}

var written = strings.NewReplacer("ø", "o", "æ", "ae", "œ", "oe", "ß", "ss", "đ", "d", "ł", "l", "þ", "th", "ð", "d")

// SavePage keeps where a page is and what file it offers; data nil leaves the
// file there is.
func (e *Forms) SavePage(ctx context.Context, p store.Page, data []byte, sniffed string) error {
	if data != nil {
		var err error
		if p.FileType, err = shelf.Accept(p.FileName, sniffed, data); err != nil {
			return err
		}
		p.FileName = shelf.SafeName(p.FileName)
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		_, err := tx.SavePage(ctx, p, data, e.Now())
		return err
	})
}

// EditPage changes the draft of a page, as one step that can be undone.
func (e *Forms) EditPage(ctx context.Context, id, user int64, what string, f func(*page.Document) error) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.EditPage(ctx, id, user, what, e.Now(), f) })
}

// MovePageDraft undoes (−1) or redoes (1) a step of a draft; false where there
// is none.
func (e *Forms) MovePageDraft(ctx context.Context, id int64, by int) (ok bool, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		ok, err = tx.MovePageDraft(ctx, id, by)
		return err
	})
	return ok, err
}

// PageFaults lists what keeps a page from being published, as far as one can
// see at a time.
func (e *Forms) PageFaults(ctx context.Context, d *page.Document) ([]error, error) {
	cat, err := e.Store.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	var out []error
	if err := d.Check(cat.Define); err != nil {
		out = append(out, err)
	}
	f := &d.Form
	if f.Message != 0 {
		m, err := e.Store.Message(ctx, f.Message)
		switch {
		case store.IsNotFound(err):
			out = append(out, plainly.New("the email that brings what was asked for is not there any more"))
		case err != nil:
			return nil, err
		case m.Version == 0:
			out = append(out, plainly.New("“"+m.Name+"” is a draft that was not kept yet"))
		}
	}
	if f.To != "" {
		ours, err := e.OurPage(ctx, f.To)
		if err != nil {
			return nil, err
		}
		if !ours {
			out = append(out,
				plainly.New("the page that follows is one of Ombak’s, such as /p/thanks, or one of your own sites"))
		}
	}
	purposes, err := e.Store.Purposes(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range f.Consents {
		if !slices.ContainsFunc(purposes, func(p store.Purpose) bool { return p.ID == c.Purpose }) {
			out = append(out, plainly.New("choose what the box for consent is for"))
		}
	}
	for _, a := range f.Acts {
		x, ok := a.Act.(act.Enrol)
		if !ok {
			continue
		}
		if _, err := e.Store.Sequence(ctx, x.Sequence); store.IsNotFound(err) {
			out = append(out, plainly.New("a sequence that the form leads into is not there any more"))
		} else if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// OurPage reports whether an address is one of Ombak's pages or of a site of
// our own: a form sends nobody elsewhere.
func (e *Forms) OurPage(ctx context.Context, address string) (bool, error) {
	address = message.Address(address)
	if strings.HasPrefix(address, "/p/") {
		return true, nil
	}
	if u, err := url.Parse(address); err != nil || u.User != nil {
		return false, nil
	}
	origin := Origin(address)
	if origin == "" {
		return false, nil
	}
	return e.Store.IsSite(ctx, origin)
}

// PublishPage shows visitors the draft from now on.
func (e *Forms) PublishPage(ctx context.Context, id int64) error {
	d, err := e.Store.PageDraft(ctx, id)
	if err != nil {
		return err
	}
	faults, err := e.PageFaults(ctx, &d.Doc.V)
	if err != nil {
		return err
	}
	if len(faults) > 0 {
		return faults[0]
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.PublishPage(ctx, id, d.Doc.V, e.Now()) })
}

// RemovePage takes a page that no running sequence is entered by away from
// visitors and off the lists; back puts it back.
func (e *Forms) RemovePage(ctx context.Context, id int64, back bool) error {
	use, err := e.Store.PageUse(ctx, id)
	if err != nil {
		return err
	}
	now := e.Now()
	at := &now
	if back {
		at = nil
	} else if len(use) > 0 {
		return plainly.New("the sequence “" + use[0].Name + "” is entered by its form: change that first")
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemovePage(ctx, id, at) })
}
