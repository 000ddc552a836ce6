package store

import (
	"context"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/plainly"
)

// SettingChange is a change of the settings: of which kind and thing, how it was and what it
// became, as documents of that kind.
type SettingChange struct {
	ID     int64
	Kind   string
	Key    string
	Was    []byte
	Became []byte
	Words  string
	At     time.Time
	User   string
	Undone bool
}

const settingChangeFields = `
	select c.id, c.kind, c.key, c.was, c.became, c.words, c.at, coalesce(u.name, '') as "user", c.undone
	from setting_change c
	left join app_user u on u.id = c.user_id `

// SettingChanges lists the last of them, the newest first.
func (db Queries) SettingChanges(ctx context.Context, n int) ([]SettingChange, error) {
	return all[SettingChange](ctx, db, settingChangeFields+"order by c.id desc limit $1", n)
}

// SettingChange reads one, locked.
func (tx Tx) SettingChange(ctx context.Context, id int64) (SettingChange, error) {
	return one[SettingChange](ctx, tx, settingChangeFields+"where c.id = $1 for update of c", id)
}

// ChangedSince reports whether the same thing was changed after a change.
func (tx Tx) ChangedSince(ctx context.Context, c *SettingChange) (bool, error) {
	return one[bool](ctx, tx, "select exists (select from setting_change where kind = $1 and key = $2 and id > $3 "+
		"and not undone)", c.Kind, c.Key, c.ID)
}

// AddSettingChange keeps a change and answers its id.
func (tx Tx) AddSettingChange(ctx context.Context, c *SettingChange, user int64) (int64, error) {
	return one[int64](ctx, tx, `insert into setting_change (kind, key, was, became, words, at, user_id)
		values ($1, $2, $3::jsonb, $4::jsonb, $5, $6, nullif($7::bigint, 0)) returning id`, c.Kind, c.Key,
		string(c.Was), string(c.Became), c.Words, c.At, user)
}

// SettingUndone marks a change as taken back.
func (tx Tx) SettingUndone(ctx context.Context, id int64) error {
	_, err := exec(ctx, tx, "update setting_change set undone = true where id = $1", id)
	return err
}

// HolidaysOf lists the holidays of a country in their order.
func (db Queries) HolidaysOf(ctx context.Context, country string) ([]calendar.Holiday, error) {
	all, err := all[struct {
		Day  time.Time
		Name string
	}](ctx, db, "select day, name from holiday where country = $1 order by day", country)
	var out []calendar.Holiday
	for _, h := range all {
		out = append(out, calendar.Holiday{Date: calendar.DateOf(h.Day, time.UTC), Name: h.Name})
	}
	return out, err
}

// Holidays are those of every country, by its code.
func (db Queries) Holidays(ctx context.Context) (map[string]calendar.Holidays, error) {
	all, err := all[struct {
		Country string
		Day     time.Time
	}](ctx, db, "select country, day from holiday")
	out := map[string]calendar.Holidays{}
	for _, h := range all {
		if out[h.Country] == nil {
			out[h.Country] = calendar.Holidays{}
		}
		out[h.Country][calendar.DateOf(h.Day, time.UTC)] = true
	}
	return out, err
}

// CountryHolidays is how many holidays a country has, and until when they reach.
type CountryHolidays struct {
	Country string
	N       int
	Last    time.Time
}

// HolidayCountries lists the countries of which any holidays are known.
func (db Queries) HolidayCountries(ctx context.Context) ([]CountryHolidays, error) {
	return all[CountryHolidays](ctx, db,
		"select country, count(*) as n, max(day)::timestamptz as last from holiday group by 1 order by 1")
}

// SetHolidays puts these holidays in the place of those that a country had.
func (tx Tx) SetHolidays(ctx context.Context, country string, list []calendar.Holiday) error {
	days, names := make([]string, len(list)), make([]string, len(list))
	for i, h := range list {
		days[i], names[i] = h.Date.String(), h.Name
	}
	if _, err := exec(ctx, tx, "select pg_advisory_xact_lock(hashtext('holidays ' || $1))", country); err != nil {
		return err
	}
	if _, err := exec(ctx, tx, "delete from holiday where country = $1", country); err != nil {
		return err
	}
	_, err := exec(ctx, tx, `insert into holiday (country, day, name)
		select $1, u.day, u.name from unnest($2::text[]::date[], $3::text[]) as u(day, name)`, country, days, names)
	return err
}

// Team is users who work together.
type Team struct {
	ID      int64 `json:"id"`
	Name    string
	Members []int64
}

type teamRow struct {
	ID      int64
	Name    string
	Members JSON[[]int64]
}

// Teams lists the teams with those who work in them.
func (db Queries) Teams(ctx context.Context) ([]Team, error) {
	rows, err := all[teamRow](ctx, db, `
		select t.id, t.name, (
			select coalesce(json_agg(u.id order by u.name, u.id), '[]') from app_user u
			where u.team_id = t.id and u.left_at is null) as members
		from team t
		where t.removed_at is null
		order by lower(t.name), t.id`)
	var out []Team
	for _, r := range rows {
		out = append(out, Team{r.ID, r.Name, r.Members.V})
	}
	return out, err
}

// KeepTeam keeps a team (ID 0: a new one) with whom it has, and brings back one that was
// removed. Who is in another team comes over.
func (tx Tx) KeepTeam(ctx context.Context, t Team, at time.Time) (int64, error) {
	var err error
	if t.ID == 0 {
		t.ID, err = one[int64](ctx, tx, "insert into team (name, created_at) values ($1, $2) returning id", t.Name, at)
	} else {
		var n int64
		n, err = exec(ctx, tx, "update team set name = $2, removed_at = null where id = $1", t.ID, t.Name)
		if err == nil && n == 0 {
			err = ErrNotFound
		}
	}
	if taken(err) {
		return 0, plainly.Errorf("%w: a team is called %q", ErrTaken, t.Name)
	}
	if err != nil {
		return 0, err
	}
	if _, err := exec(ctx, tx, "update app_user set team_id = null where team_id = $1 and id <> all ($2)", t.ID,
		append([]int64{}, t.Members...)); err != nil {
		return 0, err
	}
	_, err = exec(ctx, tx, "update app_user set team_id = $1 where id = any ($2) and left_at is null", t.ID, t.Members)
	return t.ID, err
}

// TeamForChange reads a team, locked; also one that was removed.
func (tx Tx) TeamForChange(ctx context.Context, id int64) (Team, error) {
	r, err := one[teamRow](ctx, tx, `
		select t.id, t.name, (
			select coalesce(json_agg(u.id order by u.id), '[]') from app_user u
			where u.team_id = t.id and u.left_at is null) as members
		from team t
		where t.id = $1
		for update`, id)
	return Team{r.ID, r.Name, r.Members.V}, err
}

// RemoveTeam has nobody be in a team any more. What waits for it is for anybody to take.
func (tx Tx) RemoveTeam(ctx context.Context, id int64, at time.Time) error {
	for _, q := range []string{
		"update app_user set team_id = null where team_id = $1",
		"update work set team_id = null where team_id = $1 and open",
		"update task set team_id = null where team_id = $1 and done_at is null",
	} {
		if _, err := exec(ctx, tx, q, id); err != nil {
			return err
		}
	}
	_, err := exec(ctx, tx, "update team set removed_at = $2 where id = $1", id, at)
	return err
}

// LockSetting has whoever changes a setting do so one after the other.
func (tx Tx) LockSetting(ctx context.Context, name string) error {
	_, err := exec(ctx, tx, "select pg_advisory_xact_lock(hashtext('setting ' || $1))", name)
	return err
}
