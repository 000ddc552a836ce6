package forms

import (
	"context"
	"slices"
	"time"

	"ombak/internal/core/message"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

func mailSignal(l store.SentLink, k signal.Kind, at time.Time) store.Signal {
	return store.Signal{Person: l.Person, Touch: l.Touch,
		Signal: signal.Signal{At: at, Kind: k,
			Place: signal.Place{Sequence: l.Sequence, Step: l.Step, Message: l.Message}}}
}

// Click follows a tracked link: it answers where it leads and who pressed it,
// and keeps the click. A signature that is not ours, or a link the email never
// had, is store.ErrNotFound. why marks a click by a machine.
func (e *Forms) Click(
	ctx context.Context, touch int64, n int, signature, why string,
) (target string, person int64, err error) {
	if !e.SignedTouch("link", touch, int64(n), signature) {
		return "", 0, store.ErrNotFound
	}
	l, err := e.Store.PressedLink(ctx, touch, e.Now().Add(-trapFor))
	if err != nil {
		return "", 0, err
	}
	link, err := e.linkOf(ctx, l, n)
	if err != nil {
		return "", 0, err
	}
	target = e.Absolute(e.WithPass(link.Target, base.PassForLink))
	if why == "" {
		why = e.tooSoon(l)
	}
	if why == "" && l.Trapped {
		why = FollowedTrap
	}
	s := mailSignal(l, signal.Click, e.Now())
	s.Link, s.Detail, s.Why, s.Machine = int32(n), link.Target, why, why != ""
	if err := e.RecordOne(ctx, s); err != nil {
		return "", 0, err
	}
	if why == "" {
		all, err := e.pressedAll(ctx, l, link)
		if err != nil {
			return "", 0, err
		}
		if all {
			why = pressedAllAtOnce
		}
	}
	if l.Answer != 0 && why == "" {
		if err := e.Prove(ctx, l.Answer); err != nil {
			return "", 0, err
		}
	}
	if l.Mailing == 0 {
		if why == "" {
			target = e.forSite(target, l)
		}
		return target, l.Person, nil
	}
	m, err := e.launched(ctx, l.Mailing)
	if err != nil {
		return "", 0, err
	}
	if why == "" {
		if err := e.Pressed(ctx, m, n, l.Person); err != nil {
			return "", 0, err
		}
	}
	if target = m.Plan.V.Tags.Tagged(target); why == "" {
		target = e.forSite(target, l)
	}
	return target, l.Person, nil
}

// mostLaunched bounds of how many one-off emails it is kept what pressing their links does.
const mostLaunched = 500

// launched is what pressing the links of a one-off email does that has gone out: nobody changes that any more.
func (e *Forms) launched(ctx context.Context, id int64) (*store.Mailing, error) {
	e.mailings.Lock()
	m := e.mailings.of[id]
	e.mailings.Unlock()
	if m != nil {
		return m, nil
	}
	read, err := e.Store.MailingActs(ctx, id)
	if err != nil {
		return nil, err
	}
	e.mailings.Lock()
	defer e.mailings.Unlock()
	if e.mailings.of == nil || len(e.mailings.of) >= mostLaunched {
		e.mailings.of = map[int64]*store.Mailing{}
	}
	e.mailings.of[id] = &read
	return &read, nil
}

// Ways in which programs that look at letters give themselves away. Common
// practice, no source: nobody reads within a few seconds of delivery, or
// presses every link within seconds.
const (
	soon             = 4 * time.Second
	atOnce           = 5 * time.Second
	trapFor          = time.Minute
	manyLinks        = 3 // fewer can be pressed by a hand
	pressedAllAtOnce = "pressed every link within seconds"
	FollowedTrap     = "followed a link that nobody sees"
)

// Trapped keeps that somebody followed the link that no reader sees: a program,
// which also opened and pressed what was opened and pressed just before.
func (e *Forms) Trapped(ctx context.Context, touch int64, signature string) error {
	if !e.SignedTouch("trap", touch, 0, signature) {
		return store.ErrNotFound
	}
	l, err := e.Store.SentLink(ctx, touch)
	if err != nil {
		return err
	}
	s := mailSignal(l, signal.Click, e.Now())
	s.Link, s.Why, s.Machine = store.TrapLink, FollowedTrap, true
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := tx.MarkTrapped(ctx, l.Person, touch, e.Now().Add(-trapFor), FollowedTrap); err != nil {
			return err
		}
		return e.RecordSignals(ctx, tx, []store.Signal{s})
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// tooSoon says why an open or a press comes too soon to be a person's. At the
// very instant of sending only a clock that is moved by hand can be.
func (e *Forms) tooSoon(l store.SentLink) string {
	if l.Sent == nil {
		return ""
	}
	if d := e.Now().Sub(*l.Sent); d > 0 && d < soon {
		return "within seconds of its delivery"
	}
	return ""
}

// pressedAll marks the presses of an email as a program's where with this one
// every link of the reader's words has been pressed within seconds.
func (e *Forms) pressedAll(ctx context.Context, l store.SentLink, link message.Link) (bool, error) {
	p, err := e.WordsOf(ctx, l.Message, l.Version)
	if err != nil {
		return false, err
	}
	var all []int32
	for _, x := range linksOf(p, l) {
		if x.Group == link.Group {
			all = append(all, int32(x.N))
		}
	}
	if len(all) < manyLinks {
		return false, nil
	}
	marked := false
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		var err error
		if marked, err = tx.MarkIfAllPressed(ctx, l.Touch, all, e.Now().Add(-atOnce), pressedAllAtOnce); err != nil ||
			!marked {
			return err
		}
		return tx.MarkStandings(ctx, []int64{l.Person}, e.Now())
	})
	return marked, err
}

// linkOf finds the link that an email has under a number.
func (e *Forms) linkOf(ctx context.Context, l store.SentLink, n int) (message.Link, error) {
	p, err := e.WordsOf(ctx, l.Message, l.Version)
	if err != nil {
		return message.Link{}, err
	}
	for _, x := range linksOf(p, l) {
		if x.N == n {
			return x, nil
		}
	}
	return message.Link{}, store.ErrNotFound
}

// linksOf lists the links of an email as it was sent.
func linksOf(p *message.Program, l store.SentLink) []message.Link {
	if l.Edit.V == nil {
		return p.Links()
	}
	return p.Document().With(l.Edit.V).Links()
}

// Open keeps that an email's picture was fetched.
func (e *Forms) Open(ctx context.Context, touch int64, signature, why string) error {
	if !e.SignedTouch("open", touch, 0, signature) {
		return store.ErrNotFound
	}
	l, err := e.Store.SentLink(ctx, touch)
	if err != nil {
		return err
	}
	if why == "" {
		why = e.tooSoon(l)
	}
	s := mailSignal(l, signal.Open, e.Now())
	s.Why, s.Machine = why, why != ""
	return e.RecordOne(ctx, s)
}

// CanOptOut reports whether an opt-out address is ours, and whose it is.
func (e *Forms) CanOptOut(ctx context.Context, touch int64, signature string) (store.SentLink, error) {
	if !e.SignedTouch("opt-out", touch, 0, signature) {
		return store.SentLink{}, store.ErrNotFound
	}
	return e.Store.SentLink(ctx, touch)
}

// OptOut keeps that a reader wants no more mail. Doing it again does nothing.
func (e *Forms) OptOut(ctx context.Context, touch int64, signature string) error {
	l, err := e.CanOptOut(ctx, touch, signature)
	if err != nil {
		return err
	}
	p, err := e.Store.Person(ctx, l.Person)
	if err != nil || p.OptedOut != nil {
		return err
	}
	return e.Record(ctx, mailSignal(l, signal.OptOut, e.Now()))
}

// Choose keeps what the reader of an email agrees to from now on: the purposes
// in agreed, and no other.
func (e *Forms) Choose(ctx context.Context, touch int64, signature string, agreed []int64) error {
	l, err := e.CanOptOut(ctx, touch, signature)
	if err != nil {
		return err
	}
	purposes, err := e.Store.Purposes(ctx)
	if err != nil {
		return err
	}
	said, err := e.Store.PersonConsents(ctx, l.Person)
	if err != nil {
		return err
	}
	for _, p := range purposes {
		was := slices.ContainsFunc(said, func(c store.ConsentLine) bool {
			return c.PurposeID == p.ID && c.Current && c.Given
		})
		is := slices.Contains(agreed, p.ID)
		if was == is {
			continue
		}
		if err := e.SetConsent(ctx, l.Person, p.ID, is, "by the reader", "on the page behind the email’s last line",
			0); err != nil {
			return err
		}
	}
	return nil
}
