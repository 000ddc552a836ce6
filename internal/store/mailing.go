package store

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ombak/internal/core/contact"
	"ombak/internal/core/mailing"
	"ombak/internal/core/rule"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
)

// Mailing is a one-off email.
type Mailing struct {
	ID        int64
	Name      string
	Note      string // what it is for
	State     string // draft, filling, sending, held or stopped
	Message   *int64 `db:"message_id"`
	Version   *int   `db:"message_version"`
	Purpose   *int64 `db:"purpose_id"`
	Audience  *int64 `db:"audience_id"`
	Excluded  JSON[[]int64]
	Plan      JSON[mailing.Plan]
	Acts      JSON[[]mailing.LinkAct]
	By        string
	Made      time.Time  `db:"made_at"`
	Launched  *time.Time `db:"launched_at"`
	FilledTo  int64      `db:"filled_to"`
	MsgName   string     `db:"message_name"`
	AudName   string     `db:"audience_name"`
	PurpName  string     `db:"purpose_name"`
	Waiting   int64      // emails that have not gone out yet
	Sent      int64
	LeftCount int64 `db:"left_count"`
}

// plainMailing is a mailing without what would be counted.
const plainMailing = `
	select l.id, l.name, l.note, l.state, l.message_id, l.message_version, l.purpose_id, l.audience_id,
		to_json(l.excluded) as excluded, l.plan, l.acts, l.made_at, l.launched_at, l.filled_to
	from mailing l `

const mailingFields = `
	select l.id, l.name, l.note, l.state, l.message_id, l.message_version, l.purpose_id, l.audience_id,
		to_json(l.excluded) as excluded, l.plan, l.acts, l.made_at, l.launched_at, l.filled_to,
	coalesce(u.name, '') as by, coalesce(m.name, '') as message_name, coalesce(a.name, '') as audience_name,
		coalesce(p.name, '') as purpose_name,
		coalesce(k.waiting, 0) as waiting, coalesce(k.sent, 0) as sent, coalesce(k.left_count, 0) as left_count
	from mailing l
	left join lateral (
		select sum(n) filter (where what like 'is ready %')::bigint as waiting,
			sum(n) filter (where what like 'is sent %')::bigint as sent,
			sum(n) filter (where what like 'left %')::bigint as left_count
		from kept
		where of = 'mailing' and id = l.id) k on true
	left join app_user u on u.id = l.made_by
	left join message m on m.id = l.message_id
	left join audience a on a.id = l.audience_id
	left join purpose p on p.id = l.purpose_id `

// Mailing reads one.
func (db Queries) Mailing(ctx context.Context, id int64) (Mailing, error) {
	return one[Mailing](ctx, db, mailingFields+"where l.id = $1", id)
}

// MailingText reads one without its figures.
func (db Queries) MailingText(ctx context.Context, id int64) (Mailing, error) {
	return one[Mailing](ctx, db, plainMailing+"where l.id = $1", id)
}

// LockMailing is MailingText within a transaction, locked.
func (tx Tx) LockMailing(ctx context.Context, id int64) (Mailing, error) {
	return one[Mailing](ctx, tx, plainMailing+"where l.id = $1 for update of l", id)
}

// Mailings lists all, the newest first.
func (db Queries) Mailings(ctx context.Context) ([]Mailing, error) {
	return all[Mailing](ctx, db, mailingFields+"order by l.id desc limit 200")
}

// SaveMailing keeps a draft, new where its id is 0.
func (tx Tx) SaveMailing(ctx context.Context, m Mailing, by int64, at time.Time) (int64, error) {
	excluded, acts := append([]int64{}, m.Excluded.V...),
		JSON[[]mailing.LinkAct]{append([]mailing.LinkAct{}, m.Acts.V...)}
	if m.ID == 0 {
		return one[int64](ctx, tx,
			"insert into mailing (name, message_id, purpose_id, audience_id, excluded, plan, acts, made_by, made_at) "+
				"values ($1, $2, $3, $4, $5, $6, $7, nullif($8::bigint, 0), $9) returning id",
			m.Name, m.Message, m.Purpose, m.Audience, excluded, m.Plan, acts, by, at)
	}
	n, err := exec(ctx, tx,
		"update mailing set name = $2, message_id = $3, purpose_id = $4, audience_id = $5, excluded = $6, plan = $7, "+
			"acts = $8 where id = $1 and state = 'draft'",
		m.ID, m.Name, m.Message, m.Purpose, m.Audience, excluded, m.Plan, acts)
	if err == nil && n == 0 {
		err = ErrOver
	}
	return m.ID, err
}

// RemoveMailing removes a draft.
func (tx Tx) RemoveMailing(ctx context.Context, id int64) error {
	n, err := exec(ctx, tx, "delete from mailing where id = $1 and state = 'draft'", id)
	if err == nil && n == 0 {
		err = ErrOver
	}
	return err
}

// LaunchMailing has the readers of a draft written down, in the version that
// the message has now. It answers ErrOver where it was launched before.
func (tx Tx) LaunchMailing(ctx context.Context, id int64, version int, at time.Time) error {
	n, err := exec(ctx, tx, `
		update mailing
		set state = 'filling', launched_at = $2, message_version = $3
		where id = $1 and state = 'draft' and message_id is not null`, id, at, version)
	if err == nil && n == 0 {
		err = ErrOver
	}
	return err
}

// SetMailingState moves a launched one between sending, held and stopped.
func (tx Tx) SetMailingState(ctx context.Context, id int64, from []string, to string) error {
	n, err := exec(ctx, tx, "update mailing set state = $3, hold_id = null where id = $1 and state = any ($2)", id,
		from, to)
	if err == nil && n == 0 {
		err = ErrOver
	}
	return err
}

// WithdrawMailing takes back the emails of a mailing that have not gone out.
func (tx Tx) WithdrawMailing(ctx context.Context, id int64, why string, at time.Time) (int64, error) {
	return withdraw(ctx, tx, why, at, "t.mailing_id = $3", id)
}

// MailingPlan reads when one is sent, and no more of it: its figures count all
// its readers.
func (db Queries) MailingPlan(ctx context.Context, id int64) (mailing.Plan, error) {
	p, err := one[JSON[mailing.Plan]](ctx, db, "select plan from mailing where id = $1", id)
	return p.V, err
}

// FillingMailing reads a mailing whose readers are still to be written down,
// locked, and that has to do with none of some audiences; ErrNotFound: there is
// none, or others are at it.
func (tx Tx) FillingMailing(ctx context.Context, uncounted []int64) (Mailing, error) {
	return one[Mailing](ctx, tx, plainMailing+`where l.state = 'filling' and not l.excluded && $1
		and (l.audience_id is null or l.audience_id <> all ($1)) order by l.id limit 1 for update of l skip locked`,
		append([]int64{}, uncounted...))
}

// Candidate is somebody of an audience with what decides whether they get an
// email.
type Candidate struct {
	ID                  int64
	Zone, Country, City string
	Email               bool
	DoNotContact        bool `db:"do_not_contact"`
	OptedOut            bool `db:"opted_out"`
	Bounced             bool
	Said                int16 // core/contact.Consent
	Deal                bool
	Excluded            bool
	LastMail            *time.Time `db:"last_mail"`
	Owner               *int64     `db:"owner_id"`
}

// Facts is what core/mailing asks of somebody read for a mailing of this purpose.
func (c *Candidate) Facts(purpose int64) mailing.Facts {
	f := mailing.Facts{Excluded: c.Excluded, OpenDeal: c.Deal,
		Facts: contact.Facts{Email: c.Email, DoNotContact: c.DoNotContact,
			OptedOut: c.OptedOut, Bounced: c.Bounced,
			Consents: contact.Consents{{Purpose: purpose, Is: contact.Consent(c.Said)}}}}
	if c.LastMail != nil {
		f.LastMail = *c.LastMail
	}
	return f
}

// Candidates reads up to n people of an audience, those with ids above after,
// in the order of their ids.
func (db Queries) Candidates(ctx context.Context, m *Mailing, after int64, now time.Time, n int) ([]Candidate, error) {
	if m.Audience == nil {
		return nil, nil
	}
	r := rule.ThingIs(rule.Audience, *m.Audience)
	c := compiler{now: now, few: true}
	where := c.rule(&r)
	purpose := int64(0)
	if m.Purpose != nil {
		purpose = *m.Purpose
	}
	excluded := append([]int64{}, m.Excluded.V...)
	rest := now.AddDate(0, 0, -m.Plan.V.Rest)
	return all[Candidate](ctx, db, `
		select p.id, p.zone, p.country, p.city, p.email <> '' as email, p.do_not_contact,
			p.opted_out_at is not null as opted_out, p.bounced_at is not null as bounced, p.owner_id,
		coalesce((select case when x.given then 1 else 2 end
			from consent x
			where x.person_id = p.id and x.purpose_id = `+c.arg(purpose)+`
		and x.current), 0) as said,
		exists (select from deal_of d where d.person_id = p.id and d.closed_at is null) as deal,
		exists (select from audience_member x where x.person_id = p.id and x.audience_id = any (`+c.arg(excluded)+
		`
		)) as excluded,
		(select max(coalesce(t.done_at, t.made_at)) from touch t where t.person_id = p.id and t.kind = 'email'
			and `+reaches+` and coalesce(t.done_at, t.made_at) >= `+c.arg(rest)+`) as last_mail`+
		peopleTables+`where `+where+` and p.erased_at is null and p.id > `+c.arg(after)+` order by p.id limit `+
		c.arg(n), planned(c.args)...)
}

// Written is somebody of a mailing as written down: when their email may go
// out, or why there is none.
type Written struct {
	Person int64
	At     time.Time
	Why    mailing.Reason
}

// FillMailing writes people of a mailing down, up to the last of whom, and
// whether that were all.
func (tx Tx) FillMailing(ctx context.Context, m *Mailing, list []Written, last int64, all bool, now time.Time) error {
	var people, left []int64
	var at []time.Time
	var why []string
	for _, w := range list {
		if w.Why == "" {
			people, at = append(people, w.Person), append(at, w.At)
		} else {
			left, why = append(left, w.Person), append(why, string(w.Why))
		}
	}
	if _, err := exec(ctx, tx, `
		with u as materialized (select * from unnest($2::bigint[], $3::timestamptz[]) as u(person, at)),
		made as (
			insert into touch (mailing_id, person_id, step, kind, state, made_at, message_id, message_version,
				purpose_id)
			select $1, u.person, 0, 'email', 'ready', $4, $5, $6, $7 from u
			on conflict (mailing_id, person_id) where mailing_id is not null and not merged do nothing
			returning id, person_id)
		insert into letter (touch_id, lane, ready_at)
		select made.id, $8, u.at from made join u on u.person = made.person_id`,
		m.ID, people, at, now, m.Message, m.Version, m.Purpose, int16(touch.ToGroup)); err != nil {
		return fmt.Errorf("writing the readers of a mailing down: %w", err)
	}
	if _, err := exec(ctx, tx,
		"insert into mailing_left (mailing_id, person_id, reason) select $1, u.person, u.why from "+
			"unnest($2::bigint[], $3::text[]) as u(person, why) on conflict do nothing", m.ID, left, why); err != nil {
		return fmt.Errorf("writing down who is left out: %w", err)
	}
	state := m.State
	if all {
		state = "sending"
	}
	_, err := exec(ctx, tx, "update mailing set filled_to = $2, state = $3 where id = $1", m.ID, last, state)
	return err
}

// MailingFigures is what became of a mailing.
type MailingFigures struct {
	Readers   int64
	Sent      int64
	Delivered int64 // sent, and did not bounce
	Opened    int64 // people
	Machines  int64 // whose opens and clicks are machines' alone
	Clicked   int64
	Answered  int64
	Automatic int64
	Bounced   int64
	OptedOut  int64 `db:"opted_out"`
	Complains int64
	Waiting   int64
	Trouble   int64 // held or stopped
	Withdrawn int64
}

// behind are the people behind a figure, as a condition on touch t and on the
// signals of its email: did says that there is one of a kind, made by a machine or
// not.
func behind(kind string, did func(k signal.Kind, machine bool) string) string {
	human := func(k signal.Kind) string { return did(k, false) }
	return map[string]string{
		"readers": "true", "sent": "t.state = 'sent'", "waiting": "t.state = 'ready'",
		"trouble": "t.state in ('held', 'stopped')", "withdrawn": "t.state = 'withdrawn'",
		"delivered": "t.state = 'sent' and not " + human(signal.Bounce),
		"opened":    human(signal.Open), "clicked": human(signal.Click),
		"answered": human(signal.Reply), "automatic": human(signal.AutomaticReply),
		"bounced": human(signal.Bounce), "opted out": human(signal.OptOut), "complained": human(signal.Complaint),
		"machines": "(" + did(signal.Open, true) + " or " + did(signal.Click, true) + ") and not " +
			human(signal.Open) + " and not " + human(signal.Click),
	}[kind]
}

// wasDone asks of an email what was done with it, as it is kept.
func wasDone(k signal.Kind, machine bool) string {
	if machine {
		return fmt.Sprintf("t.machines & %d <> 0", 1<<k)
	}
	return fmt.Sprintf("t.people & %d <> 0", 1<<k)
}

// MailingFigures reads what became of a mailing, in people: the sum of lines that are kept as it arises.
func (db Queries) MailingFigures(ctx context.Context, id int64) (f MailingFigures, err error) {
	rows, err := db.keptOf(ctx, "mailing", id, "is")
	if err != nil {
		return f, fmt.Errorf("reading the figures of mailing %d: %w", id, err)
	}
	for _, r := range rows {
		var state string
		var people, machines int
		if _, err := fmt.Sscan(r.What, &state, &people, &machines); err != nil {
			return f, fmt.Errorf("reading the figure %q of mailing %d: %w", r.What, id, err)
		}
		f.add(touch.State(state), people, machines, r.N)
	}
	return f, nil
}

// add adds emails in a state with which people and machines did something.
func (f *MailingFigures) add(state touch.State, people, machines int, n int64) {
	human := func(k signal.Kind) bool { return people&(1<<k) != 0 }
	for _, x := range []struct {
		to *int64
		so bool
	}{{&f.Readers, true}, {&f.Sent, state == touch.Sent},
		{&f.Delivered, state == touch.Sent && !human(signal.Bounce)}, {&f.Opened, human(signal.Open)},
		{&f.Machines, machines&(1<<signal.Open|1<<signal.Click) != 0 && !human(signal.Open) && !human(signal.Click)},
		{&f.Clicked, human(signal.Click)}, {&f.Answered, human(signal.Reply)},
		{&f.Automatic, human(signal.AutomaticReply)}, {&f.Bounced, human(signal.Bounce)},
		{&f.OptedOut, human(signal.OptOut)}, {&f.Complains, human(signal.Complaint)},
		{&f.Waiting, state == touch.Ready}, {&f.Trouble, state == touch.Held || state == touch.Stopped},
		{&f.Withdrawn, state == touch.Withdrawn}} {
		if x.so {
			*x.to += n
		}
	}
}

// keptLine is a figure that is kept, without the word of which it is one.
type keptLine struct {
	What string
	N    int64
}

// keptOf sums the lines of figures of a kind of something.
func (db Queries) keptOf(ctx context.Context, of string, id int64, kind string) ([]keptLine, error) {
	return all[keptLine](ctx, db, `
		select substr(what, length($3) + 2) as what, sum(n)::bigint as n
		from kept
		where of = $1 and id = $2 and what like $3 || ' %'
		group by what
		having sum(n) <> 0
		order by 1`, of, id, kind)
}

// readersIn is a query of how many emails of a mailing, n, are in one of some states.
func readersIn(id string, states ...touch.State) string {
	like := make([]string, len(states))
	for i, s := range states {
		like[i] = "k.what like 'is " + string(s) + " %'"
	}
	return `
		select coalesce(sum(k.n), 0)::bigint as n
		from kept k
		where k.of = 'mailing' and k.id = ` + id + ` and (` + strings.Join(like, " or ") + ")"
}

// mailingFigure is the query of the people behind a figure of a mailing, or left
// out for a reason, or who pressed a link; empty where there is none.
func mailingFigure(kind string, link int32) string {
	if why, ok := leftOut(kind); ok {
		// one of Reasons
		return "select x.person_id from mailing_left x where x.mailing_id = $id and x.reason = '" + why + "'"
	}
	where := behind(kind, wasDone)
	if where == "" {
		return ""
	}
	if link > 0 {
		where = `exists (select from signal g where g.touch_id = t.id and g.sequence_id is null
			and g.kind = {click} and g.machine = '' and g.link = $n)`
	}
	return "select t.person_id from touch t where t.mailing_id = $id and " + where
}

func leftOut(kind string) (string, bool) {
	for _, r := range mailing.Reasons() {
		if kind == "left "+string(r) {
			return string(r), true
		}
	}
	return "", false
}

// LeftOut reads how many were left out of a mailing, by reason.
func (db Queries) LeftOut(ctx context.Context, id int64) (map[mailing.Reason]int64, error) {
	rows, err := db.keptOf(ctx, "mailing", id, "left")
	out := map[mailing.Reason]int64{}
	for _, r := range rows {
		out[mailing.Reason(r.What)] = r.N
	}
	return out, err
}

// LinkFigures is how often a link was pressed, and by how many.
type LinkFigures struct {
	Link    int
	People  int64
	Presses int64
}

// keptLinks is of how many links of an email it is kept whether they were pressed.
const keptLinks = 62

// MailingLinks reads how often each link of a mailing was pressed, and of how many emails, machines' left out.
func (db Queries) MailingLinks(ctx context.Context, id int64) ([]LinkFigures, error) {
	people, err := db.byNumber(ctx, id, "presser")
	if err != nil {
		return nil, err
	}
	presses, err := db.byNumber(ctx, id, "pressed")
	if err != nil {
		return nil, err
	}
	var out []LinkFigures
	for link, n := range presses {
		l := LinkFigures{Link: link, People: people[link], Presses: n}
		if link > keptLinks { // so many links are rare, and counted
			l.People, err = one[int64](ctx, db, `
				select count(distinct g.touch_id)
				from touch t
				join signal g on g.touch_id = t.id and g.sequence_id is null and g.kind = {click} and g.machine = ''
				where t.mailing_id = $1 and g.link = $2`, id, link)
			if err != nil {
				return nil, err
			}
		}
		out = append(out, l)
	}
	slices.SortFunc(out, func(a, b LinkFigures) int {
		return cmp.Or(cmp.Compare(b.People, a.People), cmp.Compare(a.Link, b.Link))
	})
	return out, err
}

// byNumber reads figures of a mailing that are kept by a number.
func (db Queries) byNumber(ctx context.Context, id int64, kind string) (map[int]int64, error) {
	rows, err := db.keptOf(ctx, "mailing", id, kind)
	out := make(map[int]int64, len(rows))
	for _, r := range rows {
		n, err := strconv.Atoi(r.What)
		if err != nil {
			return nil, fmt.Errorf("reading the figure %s %q of mailing %d: %w", kind, r.What, id, err)
		}
		out[n] = r.N
	}
	return out, err
}

// MailingHours reads how many people opened and clicked a mailing for the first time by the hour since each email went
// out.
func (db Queries) MailingHours(ctx context.Context, id int64, hours int) (opens, clicks []int64, err error) {
	opens, clicks = make([]int64, hours), make([]int64, hours)
	for kind, to := range map[string][]int64{"opened": opens, "clicked": clicks} {
		by, err := db.byNumber(ctx, id, kind)
		if err != nil {
			return nil, nil, err
		}
		for hour, n := range by {
			if hour < hours {
				to[hour] += n
			}
		}
	}
	return opens, clicks, nil
}

// MailingActs reads what pressing links of a mailing does; of the rest, its
// name and plan alone.
func (db Queries) MailingActs(ctx context.Context, id int64) (Mailing, error) {
	return one[Mailing](ctx, db, "select l.id, l.name, l.plan, l.acts from mailing l where l.id = $1", id)
}
