package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/answer"
	"ombak/internal/core/message"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/core/touch"
)

// Message is a message in its newest version; version 0 was never kept and is
// a draft alone.
type Message struct {
	ID        int64
	Name      string
	Version   int
	Subject   string // everyone else's
	Doc       JSON[message.Document]
	FromOwner bool   `db:"from_owner"`
	SenderID  *int64 `db:"sender_id"`
	Sender    string
	Updated   time.Time `db:"updated_at"`
	Sent      int64
	Open      bool // the draft says something else than the newest version
	Note      string
}

const messageFields = `
	select m.id, m.name, m.note, m.version, v.subject, v.doc, v.from_owner, v.sender_id, coalesce(a.name, '') as sender,
		m.updated_at,
	coalesce((select sum(n) from kept where of = 'message' and id = m.id), 0)::bigint as sent,
	coalesce((select d.doc <> v.doc or d.from_owner <> v.from_owner
		or d.sender_id is distinct from v.sender_id from message_draft d where d.message_id = m.id and d.n = m.draft_n),
		false) as open
	from message m
	join message_version v on v.message_id = m.id and v.version = m.version
	left join app_user a on a.id = v.sender_id `

// Message reads one.
func (db Queries) Message(ctx context.Context, id int64) (Message, error) {
	return one[Message](ctx, db, messageFields+"where m.id = $1 and m.removed_at is null", id)
}

// Messages lists all, the last changed first.
func (db Queries) Messages(ctx context.Context) ([]Message, error) {
	return all[Message](ctx, db,
		messageFields+"where m.removed_at is null order by m.updated_at desc, m.id desc limit 500")
}

// MessageVersions answers the newest version of each of some messages.
func (db Queries) MessageVersions(ctx context.Context, ids []int64) (map[int64]int, error) {
	rows, err := all[struct {
		ID      int64
		Version int
	}](ctx, db, "select id, version from message where id = any ($1)", ids)
	out := map[int64]int{}
	for _, r := range rows {
		out[r.ID] = r.Version
	}
	return out, err
}

// VersionDoc reads what one version of a message says.
func (db Queries) VersionDoc(ctx context.Context, id int64, version int) (message.Document, error) {
	d, err := one[JSON[message.Document]](ctx, db,
		"select doc from message_version where message_id = $1 and version = $2", id, version)
	return d.V, err
}

// SaveMessage keeps a message as a new version of itself, or as a new message
// where its ID is 0. What has been sent, or will be by a running sequence,
// stays as it was. The draft is what was kept.
func (tx Tx) SaveMessage(ctx context.Context, m Message, by int64, at time.Time) (int64, error) {
	var err error
	if m.ID == 0 {
		m.ID, err = one[int64](ctx, tx, `
				insert into message (name, version, updated_at, updated_by)
				values ($1, 1, $2, nullif($3, 0))
				returning id`, m.Name, at, by)
		m.Version = 1
	} else {
		m.Version, err = one[int](ctx, tx,
			"update message set name = $2, version = version + 1, updated_at = $3, updated_by = nullif($4, 0) where "+
				"id = $1 returning version", m.ID, m.Name, at, by)
	}
	if err != nil {
		return 0, fmt.Errorf("keeping the message %q: %w", m.Name, err)
	}
	return m.ID, addVersion(ctx, tx, m, at)
}

func addVersion(ctx context.Context, tx Tx, m Message, at time.Time) error {
	plain := m.Doc.V.Plain()
	_, err := exec(ctx, tx, `
		insert into message_version (message_id, version, subject, doc, from_owner, sender_id, saved_at, plain, lang)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9::regconfig)`,
		m.ID, m.Version, m.Doc.V.Subject.For(message.Else), m.Doc, m.FromOwner, m.SenderID, at, plain,
		answer.Language(plain))
	if err != nil {
		return fmt.Errorf("keeping version %d of a message: %w", m.Version, err)
	}
	return nil
}

// AddMessage begins a message that is a draft and no more.
func (tx Tx) AddMessage(ctx context.Context, m Message, by int64, at time.Time) (int64, error) {
	id, err := one[int64](ctx, tx,
		"insert into message (name, version, updated_at, updated_by) values ($1, 0, $2, nullif($3, 0)) returning id",
		m.Name, at, by)
	if err != nil {
		return 0, fmt.Errorf("beginning the message %q: %w", m.Name, err)
	}
	m.ID, m.Version = id, 0
	return id, addVersion(ctx, tx, m, at)
}

// MessageDraft is a state of a message's draft.
type MessageDraft struct {
	N         int
	Doc       JSON[message.Document]
	FromOwner bool   `db:"from_owner"`
	SenderID  *int64 `db:"sender_id"`
	What      string
	At        time.Time
	CanUndo   bool `db:"can_undo"`
	CanRedo   bool `db:"can_redo"`
}

const draftFields = `
	select d.n, d.doc, d.from_owner, d.sender_id, d.what, d.at, exists (
		select from message_draft o where o.message_id = m.id and o.n = d.n - 1) as can_undo,
	exists (select from message_draft o where o.message_id = m.id and o.n = d.n + 1) as can_redo
	from message m
	join message_draft d on d.message_id = m.id and d.n = m.draft_n
	where m.id = $1 and m.removed_at is null`

// MessageDraft reads the draft of a message as it stands; where none was begun
// it is the newest version.
func (db Queries) MessageDraft(ctx context.Context, id int64) (MessageDraft, error) {
	d, err := one[MessageDraft](ctx, db, draftFields, id)
	if !IsNotFound(err) {
		return d, err
	}
	m, err := db.Message(ctx, id)
	return MessageDraft{Doc: m.Doc, FromOwner: m.FromOwner, SenderID: m.SenderID}, err
}

// together is within how long edits of one thing are one step of undoing.
const together = 20 * time.Second

// EditMessage changes the draft of a message by f, as one step that can be
// undone. Edits of the same thing by one user in a row are one step.
func (tx Tx) EditMessage(
	ctx context.Context, id, user int64, what string, at time.Time, f func(*MessageDraft) error,
) error {
	if _, err := one[int64](ctx, tx, "select id from message where id = $1 and removed_at is null for update",
		id); err != nil {
		return err
	}
	d, err := one[MessageDraft](ctx, tx, draftFields, id)
	if IsNotFound(err) { // the newest version is the first state
		if _, err = exec(ctx, tx, `
			insert into message_draft (message_id, n, doc, from_owner, sender_id, what, at)
			select v.message_id, 0, v.doc, v.from_owner, v.sender_id, '', $2
			from message m
			join message_version v on v.message_id = m.id and v.version = m.version
			where m.id = $1`, id, at); err != nil {
			return err
		}
		d, err = one[MessageDraft](ctx, tx, draftFields, id)
	}
	if err != nil {
		return err
	}
	last, lastAt, n := d.What, d.At, d.N
	if err := f(&d); err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "delete from message_draft where message_id = $1 and n > $2", id, n); err != nil {
		return err
	}
	if n > 0 && last == what && at.Sub(lastAt) < together {
		_, err = exec(ctx, tx,
			"update message_draft set doc = $3, from_owner = $4, sender_id = $5, at = $6 where message_id = $1 and n "+
				"= $2", id, n, d.Doc, d.FromOwner, d.SenderID, at)
	} else {
		_, err = exec(ctx, tx,
			"insert into message_draft (message_id, n, doc, from_owner, sender_id, what, at, user_id) values ($1, "+
				"$2, $3, $4, $5, $6, $7, nullif($8::bigint, 0))", id, n+1, d.Doc, d.FromOwner, d.SenderID, what, at,
			user)
		n++
	}
	if err != nil {
		return fmt.Errorf("keeping a draft: %w", err)
	}
	// The first states of a long draft are let go.
	if _, err := exec(ctx, tx, "delete from message_draft where message_id = $1 and n < $2 - 200", id, n); err != nil {
		return err
	}
	_, err = exec(ctx, tx, "update message set draft_n = $2 where id = $1", id, n)
	return err
}

// MoveMessageDraft goes back or on in the states of a draft, and answers whether there
// was where to go.
func (tx Tx) MoveMessageDraft(ctx context.Context, id int64, by int) (bool, error) {
	n, err := exec(ctx, tx,
		"update message m set draft_n = draft_n + $2 where id = $1 and exists (select from message_draft d where "+
			"d.message_id = m.id and d.n = m.draft_n + $2)", id, by)
	return n == 1, err
}

// RenameMessage gives a message another name.
func (tx Tx) RenameMessage(ctx context.Context, id int64, name string) error {
	n, err := exec(ctx, tx, "update message set name = $2 where id = $1 and removed_at is null", id, name)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// RemoveMessage takes a message off the lists, or puts it back: what was sent
// still tells of it.
func (tx Tx) RemoveMessage(ctx context.Context, id int64, at *time.Time) error {
	n, err := exec(ctx, tx, "update message set removed_at = $2 where id = $1", id, at)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// MessageUse lists what sends a message: sequences, by the version that runs or
// by the draft, one-off emails that have not gone out, and forms of pages.
func (db Queries) MessageUse(ctx context.Context, id int64) ([]Use, error) {
	path := `'$.**.message ? (@ == $id)', jsonb_build_object('id', $1::bigint)`
	return all[Use](ctx, db, `select 'sequence' as kind, s.id, s.name from sequence s where s.removed_at is null and (
			exists (select from sequence_version v where v.id = s.version_id and jsonb_path_exists(v.plan, `+path+`
			))
			or exists (select from sequence_draft d where d.sequence_id = s.id and d.n = s.draft_n
				and jsonb_path_exists(d.plan, `+path+`
		)))
		union all select 'one-off email', l.id, l.name
		from mailing l
		where l.message_id = $1 and l.state in ('draft', 'filling', 'sending', 'held')
			and (l.state = 'draft' or (`+readersIn("l.id", touch.Ready, touch.Held, touch.Stopped)+`) > 0)
		union all select 'page', g.id, g.title
		from page g
		left join page_draft d on d.page_id = g.id and d.n = g.draft_n
			where g.removed_at is null
				and ((g.doc->'form'->>'message')::bigint = $1 or (d.doc->'form'->>'message')::bigint = $1)
		order by 3`, id)
}

// ReaderGroup is a group of readers that messages can have words for.
type ReaderGroup struct {
	ID   int64
	Name string
	Rule JSON[rule.Rule]
	Used int64 // messages with words for it
}

// ReaderGroups lists them in their order.
func (db Queries) ReaderGroups(ctx context.Context) ([]ReaderGroup, error) {
	return all[ReaderGroup](ctx, db, `
		select g.id, g.name, g.rule,
			(select count(*) from message m join message_version v on v.message_id = m.id and v.version = m.version
		where m.removed_at is null
			and v.doc->'groups' @> jsonb_build_array(jsonb_build_object('id',
			g.id))) as used from reader_group g order by g.position, g.id`)
}

// SaveReaderGroup keeps a group, new where its id is 0. Messages keep the rule
// it had when they were written.
func (tx Tx) SaveReaderGroup(ctx context.Context, g ReaderGroup) (int64, error) {
	var err error
	if g.ID == 0 {
		g.ID, err = one[int64](ctx, tx,
			"insert into reader_group (name, rule, position) values ($1, $2, (select coalesce(max(position), 0) + 1 "+
				"from reader_group)) returning id", g.Name, g.Rule)
	} else {
		var n int64
		if n, err = exec(ctx, tx, "update reader_group set name = $2, rule = $3 where id = $1", g.ID, g.Name,
			g.Rule); err == nil && n == 0 {
			err = ErrNotFound
		}
	}
	if taken(err) {
		return 0, plainly.Errorf("%w: a group of readers is called %q", ErrTaken, g.Name)
	}
	return g.ID, err
}

// RemoveReaderGroup removes a group; messages that have words for it keep it.
func (tx Tx) RemoveReaderGroup(ctx context.Context, id int64) error {
	n, err := exec(ctx, tx, "delete from reader_group where id = $1", id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// SetPersonalEdit keeps what is changed in a message for one reader; nil takes
// it back.
func (tx Tx) SetPersonalEdit(ctx context.Context, id, person, user int64, edit *message.Edit, at time.Time) error {
	if edit == nil || edit.Subject == "" && len(edit.Sections) == 0 {
		_, err := exec(ctx, tx, "delete from personal_edit where message_id = $1 and person_id = $2", id, person)
		return err
	}
	_, err := exec(ctx, tx, `
		insert into personal_edit (message_id, person_id, edit, at, user_id)
		values ($1, $2, $3, $4, nullif($5::bigint, 0))
		on conflict (message_id, person_id) do update set edit = excluded.edit, at = excluded.at,
			user_id = excluded.user_id`, id, person, JSON[*message.Edit]{edit}, at, user)
	return err
}

// PersonalEdits reads what is changed for some readers: of each message, by
// person.
func (db Queries) PersonalEdits(ctx context.Context, messages, people []int64) (map[[2]int64]*message.Edit, error) {
	rows, err := all[struct {
		Message int64 `db:"message_id"`
		Person  int64 `db:"person_id"`
		Edit    JSON[message.Edit]
	}](ctx, db, "select message_id, person_id, edit from personal_edit where message_id = any ($1) and person_id = "+
		"any ($2)", messages, people)
	out := make(map[[2]int64]*message.Edit, len(rows))
	for i := range rows {
		out[[2]int64{rows[i].Message, rows[i].Person}] = &rows[i].Edit.V
	}
	return out, err
}

// PersonalEdit reads what is changed in a message for one reader; nil: nothing.
func (db Queries) PersonalEdit(ctx context.Context, id, person int64) (*message.Edit, error) {
	m, err := db.PersonalEdits(ctx, []int64{id}, []int64{person})
	return m[[2]int64{id, person}], err
}

// EditedFor lists for whom something is changed in a message.
func (db Queries) EditedFor(ctx context.Context, id int64) ([]int64, error) {
	return all[int64](ctx, db, "select person_id from personal_edit where message_id = $1 order by at", id)
}

// RemovedMessages lists messages that were taken off the lists of late.
func (db Queries) RemovedMessages(ctx context.Context, since time.Time) ([]Message, error) {
	return all[Message](ctx, db, messageFields+"where m.removed_at >= $1 order by m.removed_at desc limit 20", since)
}

// Worst are readers with whom a message is hardest to get right: the one with
// the longest names, and the one of whom the least is known. 0: there is none.
type Worst struct{ Longest, Barest int64 }

// SampledReaders is among how many of the newest readers the worst are looked for: nobody waits for the rest.
const SampledReaders = 1000

// WorstReaders finds them among the newest SampledReaders for whom a rule holds.
func (db Queries) WorstReaders(ctx context.Context, r rule.Rule, now time.Time) (Worst, error) {
	cat, err := catalogueFor(ctx, db, &r)
	if err != nil {
		return Worst{}, err
	}
	c := compiler{now: now, cat: cat}
	where := c.people(PeopleQuery{Rule: r})
	w, err := one[Worst](ctx, db, `
			with p as materialized (select p.id,
				length(p.first_name || p.last_name || p.title || p.city || coalesce(c.name, '')) as long,
			(p.first_name <> '')::int + (p.last_name <> '')::int + (p.title <> '')::int + (p.country <> '')::int +
				(p.city <> '')::int + (p.phone <> '')::int + (p.language <> '')::int + (c.id is not null)::int +
				(p.owner_id is not null)::int as known`+
		peopleTables+`where `+where+` order by p.id desc limit `+c.arg(SampledReaders)+`
		)
		select coalesce((select id from p order by long desc, id limit 1), 0) as longest,
			coalesce((select id from p order by known, id limit 1), 0) as barest`, planned(c.args)...)
	return w, err
}
