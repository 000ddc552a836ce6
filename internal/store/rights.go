package store

import (
	"context"
	"time"

	"ombak/internal/core/message"
)

// PersonWords is what a message says to one reader alone.
type PersonWords struct {
	Message string             `json:"message"`
	Edit    JSON[message.Edit] `json:"words"`
	At      time.Time          `json:"at"`
}

// PersonWords lists what messages say to one reader alone.
func (db Queries) PersonWords(ctx context.Context, person int64) ([]PersonWords, error) {
	return all[PersonWords](ctx, db,
		"select m.name as message, x.edit, x.at from personal_edit x join message m on m.id = x.message_id where "+
			"x.person_id = $1 order by x.at", person)
}

// PersonTaken is a file or link of the shelf that somebody took.
type PersonTaken struct {
	Item string    `json:"item"`
	At   time.Time `json:"at"`
}

// PersonTaken lists what somebody took from the shelf.
func (db Queries) PersonTaken(ctx context.Context, person int64) ([]PersonTaken, error) {
	return all[PersonTaken](ctx, db,
		"select i.title as item, x.at from shelf_taken x join shelf_item i on i.id = x.item_id where x.person_id = "+
			"$1 order by x.at", person)
}

// PersonBrowser is a browser that is known to be somebody's.
type PersonBrowser struct {
	ID    string    `json:"id"`
	First time.Time `db:"first_at" json:"first"`
	Seen  time.Time `db:"seen_at" json:"last"`
}

// PersonBrowsers lists the browsers that are known to be somebody's.
func (db Queries) PersonBrowsers(ctx context.Context, person int64) ([]PersonBrowser, error) {
	return all[PersonBrowser](ctx, db,
		"select id, first_at, seen_at from visitor where person_id = $1 order by first_at", person)
}

// PersonViews lists the addresses of pages that somebody viewed, by signal.
func (db Queries) PersonViews(ctx context.Context, person int64) (map[int64]string, error) {
	rows, err := all[struct {
		ID     int64
		Detail string
	}](ctx, db, "select id, detail from signal where person_id = $1 and detail <> ''", person)
	out := make(map[int64]string, len(rows))
	for _, r := range rows {
		out[r.ID] = r.Detail
	}
	return out, err
}

// PersonForm is a form that somebody filled in.
type PersonForm struct {
	Page   string                  `json:"page"`
	At     time.Time               `json:"at"`
	Said   JSON[map[string]string] `json:"answers"`
	Came   JSON[map[string]string] `json:"came_with"`
	Agreed JSON[[]map[string]any]  `json:"agreed_to"`
	Proved *time.Time              `db:"proved_at" json:"address_proved,omitempty"`
}

// PersonForms lists the forms somebody filled in.
func (db Queries) PersonForms(ctx context.Context, person int64) ([]PersonForm, error) {
	return all[PersonForm](ctx, db,
		"select g.title as page, a.at, a.answers as said, a.hidden as came, a.consents as agreed, a.proved_at from "+
			"page_answer a join page g on g.id = a.page_id where a.person_id = $1 order by a.at", person)
}

// PersonLetter is an email that somebody wrote to a person by hand.
type PersonLetter struct {
	At      time.Time              `json:"at"`
	From    string                 `json:"from"`
	Subject string                 `json:"subject"`
	Words   JSON[message.Document] `json:"words"`
}

// PersonLetters lists the emails that were written to a person by hand.
func (db Queries) PersonLetters(ctx context.Context, person int64) ([]PersonLetter, error) {
	return all[PersonLetter](ctx, db, `
		select t.made_at as at, coalesce(u.name, '') as "from", v.subject, v.doc as words from touch t
		join letter l on l.touch_id = t.id
		join message_version v on v.message_id = t.message_id and v.version = t.message_version
		left join app_user u on u.id = l.sender_id where t.person_id = $1 and t.once is not null order by t.id`, person)
}
