package store

import (
	"context"
	"fmt"
	"time"

	"ombak/internal/core/act"
	"ombak/internal/core/page"
	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/touch"
)

// Page is a page as visitors see it, with how far they came.
type Page struct {
	ID        int64
	Slug      string
	Title     string
	Doc       JSON[page.Document]
	Offer     string // what the file is called to readers
	FileName  string `db:"file_name"`
	FileType  string `db:"file_type"`
	FileSize  int64  `db:"file_size"`
	Published bool
	Updated   time.Time `db:"updated_at"`
	Open      bool      // the draft says something else
	Note      string    // what it is for
	Visits    int64
	Started   int64
	Finished  int64
}

const plainPage = `
	g.id, g.slug, g.title, g.note, g.doc, g.offer, g.file_name, g.file_type, coalesce(length(g.file), 0) as file_size,
		g.published, g.updated_at`

const pageFields = `select ` + plainPage +
	`
	, coalesce((select d.doc <> g.doc from page_draft d where d.page_id = g.id and d.n = g.draft_n), false) as open,
		coalesce(v.visits, 0) as visits, coalesce(v.started, 0) as started, coalesce(v.finished, 0) as finished
	from page g
	left join lateral (
		select sum(n) filter (where what = 'seen')::bigint as visits,
			sum(n) filter (where what = 'begun')::bigint as started,
			sum(n) filter (where what = 'finished')::bigint as finished
		from kept
		where of = 'page' and id = g.id) v on true
	where g.removed_at is null `

// Page reads one.
func (db Queries) Page(ctx context.Context, id int64) (Page, error) {
	return one[Page](ctx, db, pageFields+"and g.id = $1", id)
}

// PageBySlug reads the page at an address, without its figures.
func (db Queries) PageBySlug(ctx context.Context, slug string) (Page, error) {
	return one[Page](ctx, db, "select "+plainPage+" from page g where g.slug = $1 and g.removed_at is null", slug)
}

// Pages lists all.
func (db Queries) Pages(ctx context.Context) ([]Page, error) {
	return all[Page](ctx, db, pageFields+"order by g.updated_at desc, g.id desc limit 500")
}

// PageFile reads the file that a page offers.
func (db Queries) PageFile(ctx context.Context, id int64) ([]byte, error) {
	return one[[]byte](ctx, db, "select file from page where id = $1 and file is not null", id)
}

// ErrTaken is answered where an address or a name is taken already.
var ErrTaken = plainly.New("it is taken already")

// SavePage keeps where a page is and what it offers, new where its id is 0;
// file nil leaves the one there is. What it says changes by EditPage alone.
func (tx Tx) SavePage(ctx context.Context, p Page, file []byte, at time.Time) (int64, error) {
	var err error
	if p.ID == 0 {
		p.ID, err = one[int64](ctx, tx,
			`insert into page (slug, title, doc, offer, file_name, file_type, file, published, updated_at)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9) returning id`,
			p.Slug, p.Doc.V.Title, p.Doc, p.Offer, p.FileName, p.FileType, file, p.Published, at)
	} else {
		p.ID, err = one[int64](ctx, tx, `
			update page
			set slug = $2, offer = $3, file_name = case when $6::bytea is null then file_name else $4 end,
				file_type = case when $6::bytea is null then file_type else $5 end,
			file = coalesce($6, file), published = $7, updated_at = $8
		where id = $1 and removed_at is null
		returning id`,
			p.ID, p.Slug, p.Offer, p.FileName, p.FileType, file, p.Published, at)
	}
	if taken(err) {
		return 0, ErrTaken
	}
	return p.ID, err
}

// PageDraft is a state of a page's draft.
type PageDraft struct {
	N       int
	Doc     JSON[page.Document]
	What    string
	At      time.Time
	CanUndo bool `db:"can_undo"`
	CanRedo bool `db:"can_redo"`
}

const pageDraftFields = `
	select d.n, d.doc, d.what, d.at, exists (
		select from page_draft o where o.page_id = g.id and o.n = d.n - 1) as can_undo,
	exists (select from page_draft o where o.page_id = g.id and o.n = d.n + 1) as can_redo
	from page g
	join page_draft d on d.page_id = g.id and d.n = g.draft_n
	where g.id = $1 and g.removed_at is null`

// PageDraft reads the draft of a page as it stands; where none was begun it is
// what visitors see.
func (db Queries) PageDraft(ctx context.Context, id int64) (PageDraft, error) {
	d, err := one[PageDraft](ctx, db, pageDraftFields, id)
	if !IsNotFound(err) {
		return d, err
	}
	p, err := db.Page(ctx, id)
	return PageDraft{Doc: p.Doc}, err
}

// EditPage changes the draft of a page by f, as one step that can be undone.
// Edits of the same thing by one user in a row are one step.
func (tx Tx) EditPage(
	ctx context.Context, id, user int64, what string, at time.Time, f func(*page.Document) error,
) error {
	p, err := one[Page](ctx, tx, "select "+plainPage+" from page g where g.id = $1 and g.removed_at is null for update",
		id)
	if err != nil {
		return err
	}
	d, err := one[PageDraft](ctx, tx, pageDraftFields, id)
	if IsNotFound(err) { // what visitors see is the first state
		_, err = exec(ctx, tx, "insert into page_draft (page_id, n, doc, what, at) values ($1, 0, $2, '', $3)", id,
			p.Doc, at)
		d = PageDraft{Doc: p.Doc}
	}
	if err != nil {
		return err
	}
	if err := f(&d.Doc.V); err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "delete from page_draft where page_id = $1 and (n > $2 or n < $2 - 200)", id,
		d.N); err != nil {
		return err
	}
	if d.N == 0 || d.What != what || at.Sub(d.At) >= together {
		d.N++
	}
	if _, err := exec(ctx, tx,
		`insert into page_draft (page_id, n, doc, what, at, user_id) values ($1, $2, $3, $4, $5, nullif($6::bigint, 0))
		on conflict (page_id, n) do update set doc = excluded.doc, at = excluded.at`, id, d.N, d.Doc, what, at,
		user); err != nil {
		return fmt.Errorf("keeping a draft: %w", err)
	}
	_, err = exec(ctx, tx, "update page set draft_n = $2 where id = $1", id, d.N)
	return err
}

// MovePageDraft goes back or on in the states of a draft, and answers whether
// there was where to go.
func (tx Tx) MovePageDraft(ctx context.Context, id int64, by int) (bool, error) {
	n, err := exec(ctx, tx,
		"update page g set draft_n = draft_n + $2 where id = $1 and exists (select from page_draft d where d.page_id "+
			"= g.id and d.n = g.draft_n + $2)", id, by)
	return n == 1, err
}

// PublishPage shows visitors a document from now on.
func (tx Tx) PublishPage(ctx context.Context, id int64, d page.Document, at time.Time) error {
	n, err := exec(ctx, tx,
		"update page set doc = $2, title = $3, published = true, updated_at = $4 where id = $1 and removed_at is null",
		id, JSON[page.Document]{d}, d.Title, at)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// RemovePage takes a page off the lists and away from visitors, or puts it
// back. Its address stays its own.
func (tx Tx) RemovePage(ctx context.Context, id int64, at *time.Time) error {
	n, err := exec(ctx, tx, "update page set removed_at = $2 where id = $1", id, at)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// RemovedPages lists what was taken off the lists since an instant.
func (db Queries) RemovedPages(ctx context.Context, since time.Time) ([]Page, error) {
	return all[Page](ctx, db,
		"select "+plainPage+" from page g where g.removed_at >= $1 order by g.removed_at desc limit 20", since)
}

// PageUse lists the running sequences that a page's form leads into.
func (db Queries) PageUse(ctx context.Context, id int64) ([]Use, error) {
	return all[Use](ctx, db,
		"select 'sequence' as kind, q.id, q.name from sequence q join sequence_version v on v.id = q.version_id "+
			"where q.state = 'running' and (v.entry->>'page')::bigint = $1 order by q.id", id)
}

// PageVisit keeps that a page was shown, and answers its number.
func (db Queries) PageVisit(ctx context.Context, id int64, source, site string, at time.Time) (int64, error) {
	return one[int64](ctx, db,
		"insert into page_visit (page_id, at, source, site) values ($1, $2, $3, $4) returning id", id, at, source, site)
}

// StartForm keeps that somebody began to fill the form in.
func (s *Store) StartForm(ctx context.Context, visit int64, at time.Time) error {
	return s.InTx(ctx, func(tx Tx) error {
		_, err := exec(ctx, tx, "update page_visit set started_at = $2 where id = $1 and started_at is null", visit, at)
		return err
	})
}

// FinishVisit keeps that the form was filled in, and answers when the page was
// shown; ErrNotFound where it was filled in before from the same view.
func (tx Tx) FinishVisit(ctx context.Context, pageID, visit int64, at time.Time) (time.Time, error) {
	return one[time.Time](ctx, tx,
		"update page_visit set finished_at = $3, started_at = coalesce(started_at, $3) where id = $2 and page_id = "+
			"$1 and finished_at is null returning at", pageID, visit, at)
}

// PageSource is how far those came whom a source brought.
type PageSource struct {
	Source                    string
	Site                      string
	Visits, Started, Finished int64
}

// BusiestPages are the pages that were seen most often.
func (db Queries) BusiestPages(ctx context.Context, n int) ([]int64, error) {
	return all[int64](ctx, db, `
		select id
		from kept
		where of = 'page' and what = 'seen'
		group by id
		order by sum(n) desc, id
		limit $1`, n)
}

// PageSources lists them, the largest first.
func (db Queries) PageSources(ctx context.Context, id int64, n int) ([]PageSource, error) {
	return all[PageSource](ctx, db,
		`select source, site, sum(visits)::bigint as visits, sum(started)::bigint as started,
			sum(finished)::bigint as finished
		from (
			select source, site, count(*) as visits, count(started_at) as started, count(finished_at) as finished
			from page_visit
			where page_id = $1
			group by 1, 2
			union all
			select source, site, seen, begun, finished
			from page_past
			where page_id = $1) x
		group by 1, 2
		order by 3 desc, 1, 2
		limit $2`, id, n)
}

// PageDay is how far those came who saw a page on a day.
type PageDay struct {
	Day                       time.Time
	Visits, Started, Finished int64
}

// PageDays counts by day of a zone.
func (db Queries) PageDays(ctx context.Context, id int64, since time.Time, zone string) ([]PageDay, error) {
	return all[PageDay](ctx, db, `
		select (at at time zone $3)::date as day, count(*) as visits, count(started_at) as started,
			count(finished_at) as finished
		from page_visit where page_id = $1 and at >= $2 group by 1 order by 1`, id, since, zone)
}

// Answer is a form that was filled in.
type Answer struct {
	ID       int64
	Page     int64 `db:"page_id"`
	Person   int64 `db:"person_id"`
	Visit    *int64
	At       time.Time
	Answers  JSON[person.Values]
	Hidden   JSON[person.Values]
	Consents JSON[[]page.Given]
	Acts     JSON[[]act.Kept]
	Site     string
	Chain    int64      // the first answer from the same browser; 0: this one
	Visitor  string     // the browser, where it came from a site of our own
	Proved   *time.Time `db:"proved_at"`
	Title    string     // of the page

	First, Last, Email string // of the person
}

const answerFields = `
	select a.id, a.page_id, a.person_id, a.visit_id as visit, a.at, a.answers, a.hidden, a.consents, a.acts, a.site,
		a.proved_at, g.title, p.first_name as first, p.last_name as last, p.email
	from page_answer a join page g on g.id = a.page_id join person p on p.id = a.person_id `

// AddAnswer keeps a form that was filled in.
func (tx Tx) AddAnswer(ctx context.Context, a Answer) (int64, error) {
	id, err := one[int64](ctx, tx,
		"insert into page_answer (page_id, person_id, visit_id, at, answers, hidden, consents, acts, site, chain, "+
			"visitor, proved_at) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, nullif($10::bigint, 0), $11, $12) "+
			"returning id",
		a.Page, a.Person, a.Visit, a.At, a.Answers, a.Hidden, a.Consents, a.Acts, a.Site, a.Chain, a.Visitor, a.Proved)
	if err != nil {
		return 0, fmt.Errorf("keeping a filled form: %w", err)
	}
	return id, nil
}

// ProveAnswers keeps that the address of whoever filled a form in has proved
// itself, for all that they answered on the same page and that waits for it:
// asked twice in a day, a form sends one email. It answers these, the first
// first; none where nothing waits.
func (tx Tx) ProveAnswers(ctx context.Context, id int64, at time.Time) ([]Answer, error) {
	ids, err := all[int64](ctx, tx, `
			update page_answer a
			set proved_at = $2
			from page_answer x
			where x.id = $1 and a.page_id = x.page_id and a.person_id = x.person_id and a.proved_at is null
			returning a.id`, id, at)
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	return all[Answer](ctx, tx, answerFields+"where a.id = any ($1) order by a.id", ids)
}

// PersonAnswers lists the forms somebody filled in, the newest first.
func (db Queries) PersonAnswers(ctx context.Context, who int64) ([]Answer, error) {
	return all[Answer](ctx, db, answerFields+"where a.person_id = $1 order by a.id desc limit 200", who)
}

// PageAnswers lists who filled a page's form in, the newest first.
func (db Queries) PageAnswers(ctx context.Context, id int64, n int) ([]Answer, error) {
	return all[Answer](ctx, db, answerFields+"where a.page_id = $1 order by a.id desc limit $2", id, n)
}

// AnswerPerson is who gave an answer.
func (db Queries) AnswerPerson(ctx context.Context, id int64) (int64, error) {
	return one[int64](ctx, db, "select person_id from page_answer where id = $1", id)
}

// BrowserAnswers lists what one browser answered, for one person, the newest
// last: by the chain of its answers, or by its name on a site of our own.
func (db Queries) BrowserAnswers(ctx context.Context, chain int64, visitor string) ([]Answer, error) {
	return all[Answer](ctx, db,
		answerFields+
			`
				where a.id = nullif($1::bigint, 0) or a.chain = nullif($1::bigint, 0) or a.visitor = nullif($2, '')
				order by a.id desc
				limit 100`, chain, visitor)
}

// MailAnswer has a worker send the email that brings what a form asked for, in
// the message's newest version. Whoever got it for this page within the time
// is not sent it again; then it answers false.
func (tx Tx) MailAnswer(
	ctx context.Context, answer, who, pageID, message int64, within time.Duration, at time.Time,
) (bool, error) {
	n, err := exec(ctx, tx, `
		with made as (
			insert into touch (answer_id, person_id, step, kind, state, made_at, message_id, message_version, request)
			select $1, $2, 0, 'email', 'ready', $5, m.id, m.version, true
			from message m
			where m.id = $4 and m.version > 0
				and not exists (select from touch t join page_answer a on a.id = t.answer_id
					where a.person_id = $2 and a.page_id = $3 and t.message_id = $4 and t.made_at > $6)
			returning id)
		insert into letter (touch_id, lane, ready_at) select id, $7, $5 from made`,
		answer, who, pageID, message, at, at.Add(-within), int16(touch.Single))
	return n == 1, err
}
