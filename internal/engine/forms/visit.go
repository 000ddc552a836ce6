package forms

import (
	"context"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/plainly"
	"ombak/internal/core/signal"
	"ombak/internal/engine/base"
	"ombak/internal/store"
)

// How long a browser that nobody is known by is remembered, how many of its
// views are carried over, and how long an address tells whose it is.
const (
	RememberVisits = 90 * 24 * time.Hour
	maxCarried     = 200
	visitTokenFor  = 30 * time.Minute
)

// VisitParam is the parameter by which a link out of an email tells a site of
// our own whose browser it is; VisitorParam the one by which the site tells a
// page of Ombak which browser comes. The site's snippet takes the first off.
const (
	VisitParam   = "ombak_v"
	VisitorParam = "ombak_visitor"
)

// host is a name as the domain name system has it (RFC 1123, 2.1), or an IPv4
// address, with a port perhaps. It goes into security headers as it stands, so
// nothing else may be in it.
var host = regexp.MustCompile(`^([a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.)*[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(:[0-9]{1,` +
	`5})?$`)

// Origin is the origin of a web address, empty for what is none.
func Origin(address string) string {
	u, err := url.Parse(strings.TrimSpace(address))
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return ""
	}
	name := strings.ToLower(u.Host)
	if !host.MatchString(name) || len(name) > 260 {
		return ""
	}
	return u.Scheme + "://" + name
}

// AddSite adds a site of our own whose visits are recorded.
func (e *Forms) AddSite(ctx context.Context, address string) error {
	origin := Origin(address)
	if origin == "" {
		return plainly.New("a site is an address such as https://karang.example")
	}
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.AddSite(ctx, origin, e.Now()) })
}

// VisitToken tells a site of our own whose browser comes, for a short while.
func (e *Forms) VisitToken(person int64) string {
	at := e.Now().Unix()
	return fmt.Sprintf("%d.%d.%s", person, at, e.Sign("visit", person, at))
}

// visitor reads a VisitToken; 0 for one that is not ours, or old.
func (e *Forms) visitor(token string) int64 {
	var person, at int64
	var sig string
	if n, err := fmt.Sscanf(strings.ReplaceAll(token, ".", " "), "%d %d %s", &person, &at, &sig); n != 3 ||
		err != nil || !e.Signed("visit", person, at, sig) {
		return 0
	}
	if age := e.Now().Sub(time.Unix(at, 0)); age < -time.Minute || age > visitTokenFor {
		return 0
	}
	return person
}

// forSite adds to a link's target who comes, where it is a site of our own.
func (e *Forms) forSite(target string, l store.SentLink) string {
	origin := Origin(target)
	if origin == "" || !slices.Contains(l.Sites.V, origin) {
		return target
	}
	u, err := url.Parse(target)
	if err != nil {
		return target // not one that a parameter could be added to
	}
	q := u.Query()
	q.Set(VisitParam, e.VisitToken(l.Person))
	u.RawQuery = q.Encode()
	return u.String()
}

var visitorID = regexp.MustCompile(`^[a-z0-9]{16,40}$`)

// ErrVisit is answered for a view that cannot be one.
var ErrVisit = plainly.New("this is no view of a page")

// Visited keeps that a browser viewed a page of a site of our own. token, where
// given, tells whose browser it is: then what it viewed before is theirs too.
func (e *Forms) Visited(ctx context.Context, id, address, token string) error {
	u, err := url.Parse(address)
	if err != nil || Origin(address) == "" || len(address) > 2000 || !visitorID.MatchString(id) {
		return ErrVisit
	}
	q := u.Query()
	q.Del(VisitParam)
	u.RawQuery, u.Fragment = q.Encode(), ""
	now := e.Now()
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		person, err := tx.MeetVisitor(ctx, id, now)
		if err != nil {
			return err
		}
		if who := e.visitor(token); who != 0 && who != person {
			if person, err = e.join(ctx, tx, id, who); err != nil {
				return err
			}
		}
		v := store.Visit{At: now, URL: u.String()}
		if person == 0 {
			return tx.KeepVisit(ctx, id, v)
		}
		return e.RecordSignals(ctx, tx, []store.Signal{viewed(person, v)})
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

func viewed(person int64, v store.Visit) store.Signal {
	return store.Signal{Person: person, Detail: base.Cut(v.URL, 300),
		Signal: signal.Signal{At: v.At, Kind: signal.PageView}}
}

// join says whose a browser is, and carries over what it viewed before. It
// answers the person, 0 where there is no such one.
func (e *Forms) join(ctx context.Context, tx store.Tx, id string, person int64) (int64, error) {
	people, err := tx.PeopleByID(ctx, []int64{person})
	if err != nil || people[person] == nil {
		return 0, err
	}
	before, err := tx.JoinVisitor(ctx, id, person, e.Now().Add(-RememberVisits), maxCarried)
	if err != nil || len(before) == 0 {
		return person, err
	}
	list := make([]store.Signal, len(before))
	for i, v := range before {
		list[i] = viewed(person, v)
	}
	return person, e.RecordSignals(ctx, tx, list)
}

// KnowVisitor joins the browser that came from a site of our own to whoever
// filled in a form.
func (e *Forms) KnowVisitor(ctx context.Context, id string, person int64) error {
	if !visitorID.MatchString(id) {
		return nil // it came from elsewhere
	}
	err := e.Store.InTx(ctx, func(tx store.Tx) error {
		was, err := tx.MeetVisitor(ctx, id, e.Now())
		if err != nil || was == person {
			return err
		}
		_, err = e.join(ctx, tx, id, person)
		return err
	})
	if err == nil {
		e.Nudge()
	}
	return err
}

// RemoveSite ends what is recorded on a site of our own.
func (e *Forms) RemoveSite(ctx context.Context, origin string) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error { return tx.RemoveSite(ctx, origin) })
}
