package store

import (
	"context"
	"time"

	"ombak/internal/core/answer"
)

// Hit is a letter that is found by its words.
type Hit struct {
	In      bool // it came
	Outside bool // a user wrote it outside, and sent a copy
	ID      int64
	Person  int64
	First   string
	Last    string
	Email   string
	At      time.Time
	Subject string
	Found   string // what stands around the words, these between U+E000 and U+E001
	By      string // who wrote it, of ours
}

// shown is how what is found is cut out of a text.
const shownHit = `'StartSel=, StopSel=, MaxWords=30, MinWords=12, MaxFragments=2, FragmentDelimiter=" … "'`

// inLang is what is asked for, by the words of the language a row is in.
const inLang = `websearch_to_tsquery(x.lang, $1)`

// inItsLang is the same as a condition beside that on anyLang. The planner would count both as if they had nothing to
// do with each other, and take few rows for what are many; of a case it knows nothing.
const inItsLang = `case when x.words @@ ` + inLang + ` then true else false end`

// anyLang is what is asked for, in some language: what an index is asked first.
var anyLang = func() string {
	s := "websearch_to_tsquery('" + answer.Unknown + "', $1)"
	for _, name := range answer.Languages() {
		s += " || websearch_to_tsquery('" + name + "', $1)"
	}
	return "(" + s + ")"
}()

// SearchWritten finds the last n letters before an instant, to and from people, by their words: as
// one asks a search on the web, "these words", "or", "-without"; each letter by those of its language.
func (db Queries) SearchWritten(ctx context.Context, text string, before time.Time, n int) ([]Hit, error) {
	return all[Hit](ctx, db, `
		with came as (
			select true as "in", false as outside, x.id, x.person_id, x.at, x.subject, x.said as body, x.lang,
				'' as by
			from incoming x
			where x.words @@ `+anyLang+` and `+inItsLang+` and x.at < $2 and x.person_id is not null
			order by x.at desc, x.id desc
			limit $3),
		copied as (
			select false, true, x.id, x.person_id, x.at, x.subject, x.said, x.lang, u.name
			from outside_letter x
			join app_user u on u.id = x.user_id
			where x.words @@ `+anyLang+` and `+inItsLang+` and x.at < $2
			order by x.at desc, x.id desc
			limit $3),
		said as (
			select x.message_id, x.version, x.subject, x.plain, x.lang
			from message_version x
			where x.words @@ `+anyLang+` and `+inItsLang+` and x.version > 0),
		sent as (
			select false, false, t.id, t.person_id, t.done_at, coalesce(nullif(l.subject, ''), s.subject), s.plain,
				s.lang, coalesce(u.name, '')
			from said s
			cross join lateral (
				select id, person_id, done_at
				from touch
				where message_id = s.message_id and message_version = s.version and state = 'sent' and done_at < $2
				order by id desc
				limit $3) t
			left join letter l on l.touch_id = t.id
			left join app_user u on u.id = l.sender_id
			order by t.done_at desc, t.id desc
			limit $3),
		found as (
			select * from came
			union all select * from copied
			union all select * from sent
			order by at desc, id desc, "in" desc
			limit $3)
		select f."in", f.outside, f.id, f.person_id as person, p.first_name as first, p.last_name as last, p.email,
			f.at, f.subject, f.by, ts_headline(f.lang, f.body, websearch_to_tsquery(f.lang, $1), `+shownHit+`) as found
		from found f
		join person p on p.id = f.person_id and p.erased_at is null
		order by f.at desc, f.id desc, f."in" desc`, planned([]any{text, before, n})...)
}

// Side is of which side people are that a search of letters finds.
type Side string

// The sides: who wrote it, who got it, or either.
const (
	WroteIt Side = "wrote it"
	GotIt   Side = "got it"
	Either  Side = "wrote or got it"
)

// Sides lists them.
func Sides() []Side { return []Side{WroteIt, GotIt, Either} }

// AddWritten puts everybody into a picked audience who wrote or got what a search finds, and answers
// how many joined.
func (tx Tx) AddWritten(ctx context.Context, audience int64, text string, side Side, at time.Time) (int64, error) {
	n, err := one[int64](ctx, tx, `
		with who as (
			select x.person_id
			from incoming x
			where $3 <> 'got it' and x.words @@ `+anyLang+` and `+inItsLang+` and x.person_id is not null
			union
			select x.person_id
			from outside_letter x
			where $3 <> 'wrote it' and x.words @@ `+anyLang+` and `+inItsLang+`
			union
			select t.person_id
			from message_version x
			join touch t on t.message_id = x.message_id and t.message_version = x.version and t.state = 'sent'
			where $3 <> 'wrote it' and x.words @@ `+anyLang+` and `+inItsLang+` and x.version > 0),
		joined as (
			insert into audience_member (audience_id, person_id, joined_at)
			select $2, p.id, $4
			from who
			join person p on p.id = who.person_id and p.erased_at is null
			where exists (select from audience where id = $2 and not live)
			on conflict do nothing
			returning person_id),
		noted as (
			insert into audience_move (audience_id, person_id, at, joined)
			select $2, person_id, $4, true
			from joined),
		counted as (
			update audience set members = members + (select count(*) from joined) where id = $2)
		select count(*) from joined`, text, audience, string(side), at)
	if err != nil {
		return 0, err
	}
	return n, wakeExcluded(ctx, tx, audience)
}

// OutsideLetter is a letter that a user wrote outside, kept by its copy.
type OutsideLetter struct {
	MailID  string
	User    int64
	Person  int64
	At      time.Time
	Subject string
	Said    string
}

// UserByCopyKey finds whose copies come to a secret address, locked against another copy of theirs.
func (tx Tx) UserByCopyKey(ctx context.Context, key string) (User, error) {
	return one[User](ctx, tx, userFields+"where copy_key = $1 and copy_key <> '' and left_at is null for update", key)
}

// KeepOutside keeps a letter with somebody, once.
func (tx Tx) KeepOutside(ctx context.Context, l OutsideLetter) (bool, error) {
	n, err := exec(ctx, tx, `
		insert into outside_letter (mail_id, user_id, person_id, at, subject, said, lang)
		select $1, $2, $3, $4, $5, $6, $7::regconfig
		where not exists (select from outside_letter where mail_id = $1 and person_id = $3)`, l.MailID, l.User,
		l.Person, l.At, l.Subject, l.Said, answer.Language(l.Said))
	return n == 1, err
}

// CopyKey is the secret of a user's address for copies; empty: they have none.
func (db Queries) CopyKey(ctx context.Context, user int64) (string, error) {
	return one[string](ctx, db, "select copy_key from app_user where id = $1", user)
}

// SetCopyKey gives a user another; empty: none.
func (tx Tx) SetCopyKey(ctx context.Context, user int64, key string) error {
	_, err := exec(ctx, tx, "update app_user set copy_key = $2 where id = $1", user, key)
	return err
}

// WroteOutsideTo reports whether one of some Message-IDs is that of a letter that a user wrote outside
// to somebody.
func (db Queries) WroteOutsideTo(ctx context.Context, person int64, ids []string) (bool, error) {
	return one[bool](ctx, db,
		"select exists (select from outside_letter where mail_id = any ($2) and person_id = $1)", person, ids)
}

// PersonOutside lists what users wrote to somebody outside, the newest first.
func (db Queries) PersonOutside(ctx context.Context, person int64) ([]Hit, error) {
	return all[Hit](ctx, db, `
		select false as "in", true as outside, x.id, x.person_id as person, '' as first, '' as last, '' as email, x.at,
			x.subject, x.said as found, u.name as by
		from outside_letter x
		join app_user u on u.id = x.user_id
		where x.person_id = $1
		order by x.at desc, x.id desc
		limit 200`, person)
}
