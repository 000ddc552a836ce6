package store

import (
	"context"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/contact"
	"ombak/internal/core/rule"
	"ombak/internal/core/sequence"
)

// The rule of core/contact in SQL, over a person p. A test holds it against the
// core, line by line.
const (
	// mayEmail is that an email may go out on a ground other than consent.
	mayEmail = `(p.erased_at is null and p.email <> '' and not p.do_not_contact
		and p.opted_out_at is null and p.bounced_at is null)`
	mayCall = "(p.erased_at is null and p.phone <> '' and not p.do_not_contact and p.opted_out_at is null " +
		"and p.no_calls_at is null)"
	maySocial = "(p.erased_at is null and p.profile <> '' and not p.do_not_contact and p.opted_out_at is null)"
)

// groundSQL is a contact.Ground as expressions: of a bigint or null, of a text,
// of truths.
type groundSQL struct{ purpose, other, request, claimed string }

// touchGround is the ground that a touch t was made with.
var touchGround = groundSQL{"t.purpose_id", "t.ground", "t.request", "false"}

// fixed is a ground as expressions. Its words do not come into them.
func fixed(g contact.Ground) groundSQL {
	out := groundSQL{"null::bigint", "''", strconv.FormatBool(g.Request), strconv.FormatBool(g.Claimed)}
	if g.Purpose != 0 {
		out.purpose = strconv.FormatInt(g.Purpose, 10) + "::bigint"
	}
	if g.Other != "" {
		out.other = "'named'"
	}
	return out
}

// whyNot is contact.Why: the reason why a person p may not be reached by a
// channel on a ground, null where they may.
func whyNot(by contact.Channel, g groundSQL) string {
	quoted := func(r contact.Reason) string { return "'" + string(r) + "'" }
	lines := []string{"case", "when p.erased_at is not null then " + quoted(contact.Erased)}
	switch by {
	case contact.Email:
		lines = append(lines, "when p.email = '' then "+quoted(contact.NoAddress))
	case contact.Call:
		lines = append(lines, "when p.phone = '' then "+quoted(contact.NoNumber))
	case contact.Social:
		lines = append(lines, "when p.profile = '' then "+quoted(contact.NoProfile))
	case contact.Post:
		lines = append(lines, "when p.street = '' or p.city = '' then "+quoted(contact.NoPostal))
	}
	lines = append(lines,
		"when "+g.request+" then null",
		"when p.do_not_contact then "+quoted(contact.DoNotContact),
		"when p.opted_out_at is not null and not "+g.claimed+" then "+quoted(contact.OptedOut))
	if by == contact.Call {
		lines = append(lines, "when p.no_calls_at is not null then "+quoted(contact.NoCalls))
	}
	if by == contact.Email {
		lines = append(lines, "when p.bounced_at is not null then "+quoted(contact.Bounced))
	}
	said := "exists (select from consent x where x.person_id = p.id and x.purpose_id = " + g.purpose + " and x.current"
	lines = append(lines,
		"when "+g.claimed+" then null",
		"when "+g.purpose+" is null and "+g.other+" = '' then "+quoted(contact.NoGround),
		"when "+g.purpose+" is null or "+said+" and x.given) then null",
		"when "+said+") then "+quoted(contact.TookBack),
		"else "+quoted(contact.NoConsent)+" end")
	return strings.Join(lines, "\n\t\t\t")
}

// whyNotEnter is sequence.Plan.WhyNot, over a person p, for a plan with these ways.
func whyNotEnter(ways []sequence.Reaches) string {
	if len(ways) == 0 {
		return "null::text"
	}
	var none []string
	for _, w := range ways {
		none = append(none, "("+whyNot(w.By, fixed(w.On))+") is not null")
	}
	return "case when " + strings.Join(none, " and ") + " then " + whyNot(ways[0].By, fixed(ways[0].On)) + " end"
}

// WhyNot asks the rule in SQL about one person.
func (db Queries) WhyNot(
	ctx context.Context, person int64, by contact.Channel, g contact.Ground,
) (contact.Reason, error) {
	return one[contact.Reason](ctx, db, "select coalesce("+whyNot(by, fixed(g))+", '') from person p where p.id = $1",
		person)
}

// WhyNotEnter asks why one person cannot enter a plan with these ways.
func (db Queries) WhyNotEnter(ctx context.Context, person int64, ways []sequence.Reaches) (contact.Reason, error) {
	return one[contact.Reason](ctx, db, "select coalesce("+whyNotEnter(ways)+", '') from person p where p.id = $1",
		person)
}

// Reachable lists who of some people could be reached by some channel.
func (db Queries) Reachable(ctx context.Context, people []int64) (map[int64]bool, error) {
	list, err := all[int64](ctx, db,
		"select p.id from person p where p.id = any ($1) and ("+mayEmail+" or "+mayCall+" or "+maySocial+")", people)
	out := make(map[int64]bool, len(list))
	for _, id := range list {
		out[id] = true
	}
	return out, err
}

// Grounds lists what, besides a consent, may be named as a ground.
func (db Queries) Grounds(ctx context.Context) ([]string, error) {
	return all[string](ctx, db, "select name from ground order by position, id")
}

// AddGround lets another ground be named.
func (tx Tx) AddGround(ctx context.Context, name string) error {
	_, err := exec(ctx, tx, `insert into ground (name, position)
		values ($1, (select coalesce(max(position), 0) + 1 from ground))`, name)
	if taken(err) {
		return ErrTaken
	}
	return err
}

// RemoveGround lets a ground be named no more. What runs on it goes on.
func (tx Tx) RemoveGround(ctx context.Context, name string) error {
	_, err := exec(ctx, tx, "delete from ground where name = $1", name)
	return err
}

// Entering is how many would enter a sequence by its rule now, and how many
// not, by reason: the first that holds.
type Entering struct {
	Enter int64
	Bare  int64 // of those who enter: have agreed to nothing, so that only another ground lets them in
	Not   []NotEntering
}

// NotEntering is how many do not enter for a reason.
type NotEntering struct {
	Why string
	N   int64
}

// mayNot is why a person p may not enter a sequence now that has an entry, as far as that
// says it; null where they may. seq is an expression.
func (c *compiler) mayNot(e *Entry, seq string, now time.Time, byRule bool) string {
	lines := []string{"case",
		"when exists (select from enrolment e where e.sequence_id = " + seq +
			" and e.person_id = p.id and e.ended_at is null) then '" + IsOnIt + "'"}
	was := "exists (select from enrolment e where e.sequence_id = " + seq + " and e.person_id = p.id"
	switch {
	case e.Times == 0 || e.Times == 1:
		lines = append(lines, "when "+was+") then '"+WasOnIt+"'")
	case e.Times > 1:
		lines = append(lines, "when (select count(*) from enrolment e where e.sequence_id = "+seq+
			" and e.person_id = p.id) >= "+c.arg(e.Times)+" then '"+WasOnIt+"'")
	}
	if e.Times != 0 && e.Times != 1 {
		if e.Gap > 0 {
			lines = append(lines, "when "+was+" and e.ended_at > "+c.arg(now.Add(-time.Duration(e.Gap)*24*time.Hour))+
				") then '"+TooSoon+"'")
		}
		// Whoever is in an audience enters again by joining it again.
		if r := e.Rule; byRule && r != nil && r.If != nil && r.If.About == rule.Audience && r.If.Op == rule.Is {
			lines = append(lines, "when "+was+" and not exists (select from audience_member m where m.audience_id = "+
				c.arg(r.If.ID)+" and m.person_id = p.id and m.joined_at > e.entered_at)) then '"+NotAgain+"'")
		}
	}
	if len(e.NotIn) > 0 {
		lines = append(lines, "when exists (select from audience_member m where m.person_id = p.id"+
			" and m.audience_id = any ("+c.arg(e.NotIn)+")) then '"+Excluded+"'")
	}
	if len(e.NotOn) > 0 {
		lines = append(lines, "when exists (select from enrolment e where e.person_id = p.id and e.ended_at is null"+
			" and e.sequence_id = any ("+c.arg(e.NotOn)+")) then '"+OnAnother+"'")
	}
	if byRule && !e.WithDeal {
		lines = append(lines,
			"when exists (select from deal_of d where d.person_id = p.id and d.closed_at is null) then '"+HasDeal+"'")
	}
	return strings.Join(append(lines, "end"), "\n\t\t\t")
}

// Why somebody does not enter, besides the reasons of core/contact.
const (
	IsOnIt     = "are on it"
	TooSoon    = "were on it lately"
	NotAgain   = "have not joined again since"
	Excluded   = "in an audience that is left out"
	OnAnother  = "on a sequence that is left out"
	WasOnIt    = "were on it"
	HasDeal    = "open deal"
	NotRunning = "does not run"
)

// WhoEnters counts who of those for whom the rule of an entry holds would enter a sequence.
func (db Queries) WhoEnters(
	ctx context.Context, e *Entry, sequenceID int64, ways []sequence.Reaches, q PeopleQuery,
) (Entering, error) {
	var out Entering
	cat, err := catalogueFor(ctx, db, e.Rule)
	if err != nil {
		return out, err
	}
	c := compiler{now: q.Now, cat: cat}
	where := c.rule(e.Rule)
	rows, err := all[struct {
		Why  string
		N    int64
		Bare int64
	}](ctx, db, `
		with x as (
			select p.id, coalesce(`+c.mayNot(e, c.arg(sequenceID), q.Now, true)+`,
				`+whyNotEnter(ways)+`, '') as why`+peopleTables+`
			where `+where+` and p.erased_at is null)
		select why, count(*) as n, count(*) filter (where why = ''
			and not exists (select from consent k where k.person_id = x.id and k.current and k.given)) as bare
		from x group by 1 order by 2 desc, 1`, planned(c.args)...)
	for _, r := range rows {
		if r.Why == "" {
			out.Enter, out.Bare = r.N, r.Bare
		} else {
			out.Not = append(out.Not, NotEntering{r.Why, r.N})
		}
	}
	return out, err
}

// CountByOwner counts those for whom a rule holds, by their owner; 0: nobody's.
func (db Queries) CountByOwner(ctx context.Context, r rule.Rule, now time.Time) (map[int64]int64, error) {
	cat, err := catalogueFor(ctx, db, &r)
	if err != nil {
		return nil, err
	}
	c := compiler{now: now, cat: cat}
	where := c.rule(&r)
	rows, err := all[struct{ Owner, N int64 }](ctx, db, `
		select coalesce(p.owner_id, 0) as owner, count(*) as n`+peopleTables+`
		where `+where+` and p.erased_at is null
		group by 1`, planned(c.args)...)
	out := make(map[int64]int64, len(rows))
	for _, x := range rows {
		out[x.Owner] = x.N
	}
	return out, err
}
