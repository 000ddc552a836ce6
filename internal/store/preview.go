package store

import (
	"cmp"
	"context"
	"slices"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/core/score"
)

// Preview is what a draft of a score model would change at an instant.
type Preview struct {
	Draft  int       `json:"draft"` // how often the draft had been changed
	At     time.Time `json:"at"`
	People int64     `json:"people"`
	Other  int64     `json:"other"`          // whose score would be another
	Now    []int64   `json:"now,omitempty"`  // people in each band of the draft, as they are counted now
	Then   []int64   `json:"then,omitempty"` // and as they would be
	Ready  [2]int64  `json:"ready"`          // at the line now, and then
	Up     Counted   `json:"up"`             // would be ready, and are not
	Down   Counted   `json:"down"`           // would not be any more
	Reps   []RepLoad `json:"reps,omitempty"` // to whom those of Up would come
}

// Counted is how many people, and the first of them.
type Counted struct {
	N   int64   `json:"n"`
	IDs []int64 `json:"ids,omitempty"`
}

// MostNamed is how many are named of whom a preview tells.
const MostNamed = 500

func (n *Counted) add(person int64) {
	if n.N++; len(n.IDs) < MostNamed {
		n.IDs = append(n.IDs, person)
	}
}

// Count adds somebody who stands so now, and would stand so then. It answers whether they would become ready.
func (p *Preview) Count(person int64, bands []rule.Band, now, then score.Stand) (up bool) {
	if len(p.Now) == 0 {
		p.Now, p.Then = make([]int64, len(bands)), make([]int64, len(bands))
	}
	p.People++
	if now.Score != then.Score {
		p.Other++
	}
	if i := score.BandOf(bands, now.Score); i >= 0 {
		p.Now[i]++
	}
	if i := score.BandOf(bands, then.Score); i >= 0 {
		p.Then[i]++
	}
	if now.Ready {
		p.Ready[0]++
	}
	if then.Ready {
		p.Ready[1]++
	}
	switch {
	case then.Ready && !now.Ready:
		p.Up.add(person)
	case now.Ready && !then.Ready:
		p.Down.add(person)
	}
	return then.Ready && !now.Ready
}

// AddReps adds to whom some more of those who would become ready would come; they stay in the order of how many.
func (p *Preview) AddReps(more []RepLoad) {
	for _, r := range more {
		i := slices.IndexFunc(p.Reps, func(x RepLoad) bool { return x.Rep == r.Rep })
		if i < 0 {
			p.Reps = append(p.Reps, r)
			continue
		}
		r.N += p.Reps[i].N
		p.Reps[i] = r
	}
	slices.SortStableFunc(p.Reps, func(a, b RepLoad) int {
		if (a.Rep == 0) != (b.Rep == 0) { // whoever is next in turn stands last
			return cmp.Compare(b.Rep, a.Rep)
		}
		return cmp.Compare(b.N, a.N)
	})
}

// RepLoad is how many people would come to somebody's desk.
type RepLoad struct {
	Rep      int64  `json:"rep,omitempty"` // 0: to whoever is next in turn
	Name     string `json:"name,omitempty"`
	N        int64  `json:"n"`
	Open     int64  `json:"open"`               // handoffs that are open there now
	Capacity int    `json:"capacity,omitempty"` // the most that may be; 0: any
}

// RepsOf tells whose some people are, those of nobody last.
func (db Queries) RepsOf(ctx context.Context, people []int64) ([]RepLoad, error) {
	return all[RepLoad](ctx, db, `
		select coalesce(u.id, 0) as rep, coalesce(u.name, '') as name, count(*) as n,
			coalesce(u.capacity, 0) as capacity,
			(select count(*) from handoff h where h.rep_id = u.id and h.state = 'open') as open
		from person p
		left join app_user u on u.id = p.owner_id and u.left_at is null
		where p.id = any ($1)
		group by u.id
		order by u.id is null, n desc, u.id`, people)
}

// Faces reads who some people are, in the order of the list.
func (db Queries) Faces(ctx context.Context, people []int64) ([]Face, error) {
	return all[Face](ctx, db, `
		select p.id, p.first_name as first, p.last_name as last, p.email, coalesce(c.name, '') as company,
			coalesce(u.name, '') as owner
		from unnest($1::bigint[]) with ordinality as x(id, place)
		join person p on p.id = x.id
		left join company c on c.id = p.company_id
		left join app_user u on u.id = p.owner_id
		order by x.place`, people)
}

// Face is who somebody is, in short.
type Face struct {
	ID                                 int64
	First, Last, Email, Company, Owner string
}
