package sales

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"ombak/internal/core/calendar"
	"ombak/internal/core/news"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/plainly"
	"ombak/internal/core/right"
	"ombak/internal/roster"
	"ombak/internal/store"
)

// Bounds of files of deals.
const (
	MaxDealFile     = 10 << 20
	KeepDealImports = 30 * 24 * time.Hour // how long one can be taken back
)

// CheckDeals reads a file of deals and keeps what its rows come to; nothing is taken yet. It answers the id under which
// it is kept. Leads and admins may.
func (e *Sales) CheckDeals(ctx context.Context, name string, file []byte, user int64) (int64, error) {
	if err := e.mayImport(ctx, e.Store.Queries, user); err != nil {
		return 0, err
	}
	i := store.DealImport{By: user, At: e.Now(), File: name}
	cells, err := e.readDeals(ctx, file, &i)
	if err != nil {
		return 0, err
	}
	if err := e.matchDeals(ctx, cells, &i); err != nil {
		return 0, err
	}
	slices.SortStableFunc(i.Problems.V, func(a, b store.DealProblem) int { return a.Line - b.Line })
	i.Counts.V.Wrong = len(i.Problems.V)
	return e.Store.AddDealImport(ctx, i)
}

func (e *Sales) mayImport(ctx context.Context, db store.Queries, user int64) error {
	role, err := db.RoleOf(ctx, user)
	if err == nil && role != right.Lead && role != right.Admin {
		err = plainly.New("deals are imported by leads and admins")
	}
	return err
}

// readDeals reads the rows of a file, and answers the cells of those that can be read, by their line.
func (e *Sales) readDeals(
	ctx context.Context, file []byte, i *store.DealImport,
) (cells map[int][]string, err error) {
	r, err := roster.Open(bytes.NewReader(file), roster.Options{})
	if err != nil {
		return nil, err
	}
	defer r.Close()
	in := pipeline.Setting{Base: e.Workspace().Currency, Today: calendar.DateOf(e.Now(), e.Zone())}
	form, err := roster.Sniff(file[:min(len(file), 64<<10)])
	if err != nil {
		return nil, err
	}
	switch form {
	case roster.VCard:
		return nil, plainly.New("cards name people, not deals: send a CSV file or a sheet")
	case roster.XLSX:
		in.Date = roster.SheetDate
	}
	if in.Stages, err = e.Store.Stages(ctx); err != nil {
		return nil, err
	}
	if in.Pipelines, err = e.Store.Pipelines(ctx); err != nil {
		return nil, err
	}
	entries, err := pipeline.ReadHead(r.Head(), in)
	if err != nil {
		return nil, err
	}
	c, cells := &i.Counts.V, map[int][]string{}
	c.Head, c.Unread, c.Passes = slices.Clone(r.Head()), entries.Unread, entries.Passes
	for {
		row, err := r.Next()
		if err == io.EOF {
			break
		}
		bad, isBad := errors.AsType[*roster.BadRow](err)
		if err != nil && !isBad {
			return nil, err
		}
		if c.Rows++; c.Rows > pipeline.MostEntries {
			return nil, plainly.Errorf("the file has more than %d rows: send it in parts", pipeline.MostEntries)
		}
		if isBad {
			i.Problems.V = append(i.Problems.V, problem(bad.Row.Line, bad.Row.Cells, plainly.New(bad.Reason)))
			continue
		}
		entry, err := entries.Read(row.Line, row.Cells)
		if err != nil {
			i.Problems.V = append(i.Problems.V, problem(row.Line, row.Cells, err))
			continue
		}
		i.Rows.V = append(i.Rows.V, store.DealRow{Entry: entry})
		for k, text := range row.Cells {
			row.Cells[k] = strings.Clone(text)
		}
		cells[row.Line] = slices.Clone(row.Cells)
	}
	if c.Rows == 0 {
		return nil, plainly.New("the file has a head and no rows")
	}
	return cells, nil
}

// problem is a row that cannot be taken, with cells of a bounded size.
func problem(line int, row []string, why error) store.DealProblem {
	cells := make([]string, len(row))
	for i, c := range row {
		cells[i] = strings.ToValidUTF8(strings.ReplaceAll(c, "\x00", ""), "�")
		if len(cells[i]) > 1000 {
			cells[i] = strings.ToValidUTF8(cells[i][:1000], "") + "…"
		}
	}
	return store.DealProblem{Line: line, Cells: cells, Why: why.Error()}
}

// matchDeals holds the rows of a file against who and what is there.
func (e *Sales) matchDeals(ctx context.Context, cells map[int][]string, i *store.DealImport) error {
	var addresses []string
	var changed []int64
	for _, r := range i.Rows.V {
		if r.Deal != 0 {
			changed = append(changed, r.Deal)
		}
		if r.Person != "" {
			addresses = append(addresses, r.Person)
		}
	}
	people, err := e.Store.PeopleAt(ctx, addresses)
	if err != nil {
		return err
	}
	ids := make([]int64, 0, len(people))
	for _, id := range people {
		ids = append(ids, id)
	}
	open, err := e.Store.OpenDealsOf(ctx, ids)
	if err != nil {
		return err
	}
	facts, err := e.Store.DealsAsFacts(ctx, changed)
	if err != nil {
		return err
	}
	users, err := e.Store.Users(ctx)
	if err != nil {
		return err
	}
	stages, err := e.Store.Stages(ctx)
	if err != nil {
		return err
	}
	m := match{base: e.Workspace().Currency, people: people, open: open, facts: map[int64]store.DealFacts{},
		stages: stages, users: users, seen: map[int64]int{}, seenDeal: map[int64]int{}}
	for _, f := range facts {
		m.facts[f.ID] = f
	}
	var kept []store.DealRow
	c := &i.Counts.V
	for _, r := range i.Rows.V {
		same, err := m.row(&r)
		switch {
		case err != nil:
			i.Problems.V = append(i.Problems.V, problem(r.Line, cells[r.Line], err))
		case same:
			c.Same++
		default:
			if kept = append(kept, r); r.Deal != 0 {
				c.Changes++
			} else if c.Opens++; !r.Closed.IsZero() {
				c.Closed++
			}
		}
	}
	i.Rows.V = kept
	return nil
}

// match is what rows of a file are held against.
type match struct {
	base           string
	people         map[string]int64
	open           map[int64]store.Deal
	facts          map[int64]store.DealFacts
	stages         []pipeline.Stage
	users          []store.User
	seen, seenDeal map[int64]int // the line of an earlier row about an open deal of somebody, or a deal
}

// row finds whom and what a row means; same: the deal is so already.
func (m *match) row(r *store.DealRow) (same bool, err error) {
	switch r.Rep {
	case "":
	case pipeline.Nobody:
		r.Owner = store.NobodysDeals
	default:
		at := slices.IndexFunc(m.users, func(u store.User) bool { return strings.EqualFold(u.Email, r.Rep) })
		if at < 0 || m.users[at].Role == right.Marketer {
			return false, plainly.Errorf("rep: nobody who may have deals has the address “%s”", r.Rep)
		}
		r.Owner = m.users[at].ID
	}
	if r.Deal != 0 {
		f, ok := m.facts[r.Deal]
		if !ok {
			return false, plainly.Errorf("deal: there is none with the number %d here; an empty cell opens one",
				r.Deal)
		}
		if line, twice := m.seenDeal[r.Deal]; twice {
			return false, plainly.Errorf("deal: line %d is about the same one", line)
		}
		// The numbers of another workspace mean other deals here: whom it is about tells.
		if r.Person != "" && m.people[r.Person] != f.Person {
			return false, plainly.Errorf("deal: number %d is about somebody else here than “%s”; is the file from "+
				"another workspace? An empty cell opens a deal", r.Deal, r.Person)
		}
		m.seenDeal[r.Deal] = r.Line
		became := become(f, *r)
		if m.reopens(f, became) {
			return false, errReopens
		}
		return became == f, nil
	}
	if r.Who = m.people[r.Person]; r.Who == 0 {
		return false, plainly.Errorf("person: nobody here has the address “%s”: import people first", r.Person)
	}
	if r.Stage == 0 {
		at := slices.IndexFunc(m.stages, func(s pipeline.Stage) bool { return !s.Closed() })
		if at < 0 {
			return false, ErrNoStage
		}
		r.Stage = m.stages[at].ID
	}
	if r.Currency == "" {
		r.Currency = m.base
	}
	if !r.Closed.IsZero() {
		return false, nil
	}
	if d, ok := m.open[r.Who]; ok {
		return false, plainly.Errorf("person: they have an open deal, “%s”; put %d into a column “deal” to change it",
			d.Name, d.ID)
	}
	if line, twice := m.seen[r.Who]; twice {
		return false, plainly.Errorf("person: line %d opens a deal about them, and nobody has two open ones", line)
	}
	m.seen[r.Who] = r.Line
	return false, nil
}

// errReopens is said of a row by which a closed deal would be open again: somebody may have another one by now.
var errReopens = plainly.New("stage: this deal is closed; reopen it on its page")

// reopens reports whether a deal that was closed becomes open.
func (m *match) reopens(was, became store.DealFacts) bool {
	closed := func(id int64) bool {
		return slices.ContainsFunc(m.stages, func(s pipeline.Stage) bool { return s.ID == id && s.Closed() })
	}
	return closed(was.Stage) && !closed(became.Stage)
}

// become is a deal as a row has it: what the row does not say stays.
func become(f store.DealFacts, r store.DealRow) store.DealFacts {
	if r.Stage != 0 {
		f.Stage = r.Stage
	}
	if r.Owner != 0 {
		f.Rep = max(r.Owner, 0)
	}
	if r.Amount != nil {
		f.Amount, f.Currency = *r.Amount, r.Currency
	}
	for _, t := range []struct {
		into *string
		text string
	}{{&f.Name, r.Name}, {&f.Next, r.Next}, {&f.Reason, r.Reason}} {
		if t.text != "" {
			*t.into = t.text
		}
	}
	if !r.Expected.IsZero() {
		f.Expected = r.Expected
	}
	if !r.NextOn.IsZero() {
		f.NextOn = r.NextOn
	}
	return f
}

// ImportDeals takes what a checked file of deals says, all at once. What has changed since it was checked so that it
// cannot be any more stays as it is, and is counted.
func (e *Sales) ImportDeals(ctx context.Context, id, user int64) (c store.DealImportCounts, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayImport(ctx, tx.Queries, user); err != nil {
			return err
		}
		i, err := tx.LockDealImport(ctx, id)
		if err != nil {
			return err
		}
		if i.State != "checked" {
			return plainly.New("this file was imported already")
		}
		now := e.Now()
		var changes []store.DealRow
		var opens []store.DealToOpen
		for _, r := range i.Rows.V {
			if r.Deal != 0 {
				changes = append(changes, r)
			} else {
				opens = append(opens, e.toOpen(r, now))
			}
		}
		if i.Opened.V, err = tx.OpenMany(ctx, opens, user); err != nil {
			return err
		}
		// Whoever lost a deal long ago does not come back to nurture because a file says so: only worth follows.
		if err := tx.RateDeals(ctx, i.Opened.V, e.Workspace().Currency, e.Zone(), now); err != nil {
			return err
		}
		if i.Turns.V, err = e.changeByRows(ctx, tx, changes, user); err != nil {
			return err
		}
		i.State, i.Done, i.Rows.V = "done", &now, nil
		i.Counts.V.Opened, i.Counts.V.Changed = len(i.Opened.V), len(i.Turns.V)
		i.Counts.V.Since = len(opens) + len(changes) - len(i.Opened.V) - len(i.Turns.V)
		c = i.Counts.V
		if err := tx.KeepDealImport(ctx, i); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.AboutSomebody(), news.Pipeline.AboutSomebody())
	})
	return c, err
}

// toOpen puts the days of a row to instants: days that were begin at midnight in the workspace’s zone.
func (e *Sales) toOpen(r store.DealRow, now time.Time) store.DealToOpen {
	at := func(d pipeline.Day) time.Time {
		if d.IsZero() {
			return now
		}
		if t := calendar.At(d.Date, 0, e.Zone()); t.Before(now) {
			return t
		}
		return now
	}
	o := store.DealToOpen{DealRow: r, Opened: at(r.Opened), Moved: now}
	for _, p := range r.Passages(r.Stage) {
		o.Moved = at(p.On)
		o.Came = append(o.Came, store.DealCame{Stage: p.Stage, At: o.Moved})
	}
	if !r.Closed.IsZero() {
		closed := at(r.Closed)
		o.Closed = &closed
	}
	return o
}

// changeByRows changes deals as rows say, and answers how they were and what they became.
func (e *Sales) changeByRows(
	ctx context.Context, tx store.Tx, rows []store.DealRow, user int64,
) ([]store.DealTurn, error) {
	by, ids := map[int64]store.DealRow{}, make([]int64, len(rows))
	for i, r := range rows {
		by[r.Deal], ids[i] = r, r.Deal
	}
	facts, err := tx.LockFacts(ctx, ids)
	if err != nil {
		return nil, err
	}
	stages, err := tx.Stages(ctx)
	if err != nil {
		return nil, err
	}
	m, turns := match{stages: stages}, []store.DealTurn(nil)
	for _, f := range facts {
		b := become(f, by[f.ID])
		if !slices.ContainsFunc(stages, func(s pipeline.Stage) bool { return s.ID == b.Stage }) {
			b.Stage = f.Stage // the stage went since the file was looked at: it stays where it is
		}
		if b != f && !m.reopens(f, b) {
			turns = append(turns, store.DealTurn{Was: f, Became: b})
		}
	}
	return turns, e.turnDeals(ctx, tx, turns, user)
}

// turnDeals has deals become what they should.
func (e *Sales) turnDeals(ctx context.Context, tx store.Tx, turns []store.DealTurn, user int64) error {
	stage, rep := map[int64][]int64{}, map[int64][]int64{}
	ids := make([]int64, len(turns))
	for i, t := range turns {
		ids[i] = t.Became.ID
		if t.Was.Stage != t.Became.Stage {
			stage[t.Became.Stage] = append(stage[t.Became.Stage], t.Became.ID)
		}
		if t.Was.Rep != t.Became.Rep {
			rep[t.Became.Rep] = append(rep[t.Became.Rep], t.Became.ID)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	if err := tx.SetFacts(ctx, turns, user, e.Now()); err != nil {
		return err
	}
	for to, list := range rep {
		if _, err := e.changeMany(ctx, tx, list, "owner", to, user); err != nil {
			return err
		}
	}
	for to, list := range stage {
		if _, err := e.changeMany(ctx, tx, list, "stage", to, user); err != nil {
			return err
		}
	}
	return tx.RateDeals(ctx, ids, e.Workspace().Currency, e.Zone(), e.Now())
}

// UndoDealImport takes a file of deals back: what it opened and nobody has touched since is removed, and what it
// changed and is still so is as before. It answers how many, and how many stay because they have changed since.
func (e *Sales) UndoDealImport(ctx context.Context, id, user int64) (back, since int, err error) {
	err = e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayImport(ctx, tx.Queries, user); err != nil {
			return err
		}
		i, err := tx.LockDealImport(ctx, id)
		if err != nil {
			return err
		}
		switch {
		case i.State == "undone":
			return plainly.New("this was taken back already")
		case i.State != "done" || !i.Kept:
			return plainly.New("this cannot be taken back any more")
		}
		if back, err = tx.RemoveUntouched(ctx, i.Opened.V, *i.Done); err != nil {
			return err
		}
		ids, by := make([]int64, len(i.Turns.V)), map[int64]store.DealTurn{}
		for n, t := range i.Turns.V {
			ids[n], by[t.Became.ID] = t.Became.ID, t
		}
		facts, err := tx.LockFacts(ctx, ids)
		if err != nil {
			return err
		}
		turns, err := e.turnsBack(ctx, tx, facts, by)
		if err != nil {
			return err
		}
		if err := e.turnDeals(ctx, tx, turns, user); err != nil {
			return err
		}
		back += len(turns)
		since = len(i.Opened.V) + len(i.Turns.V) - back
		now := e.Now()
		i.State, i.Undone, i.Opened.V, i.Turns.V = "undone", &now, nil, nil
		i.Counts.V.Back, i.Counts.V.NotTaken = back, since
		if err := tx.KeepDealImport(ctx, i); err != nil {
			return err
		}
		return tx.Notify(ctx, news.Desk.AboutSomebody(), news.Pipeline.AboutSomebody())
	})
	return back, since, err
}

// turnsBack lists what takes deals back that are still as a file made them; but for those that would be open again
// where somebody has another open one by now.
func (e *Sales) turnsBack(
	ctx context.Context, tx store.Tx, facts []store.DealFacts, by map[int64]store.DealTurn,
) (turns []store.DealTurn, err error) {
	stages, err := tx.Stages(ctx)
	if err != nil {
		return nil, err
	}
	var people []int64
	for _, f := range facts {
		people = append(people, f.Person)
	}
	open, err := tx.OpenDealsOf(ctx, people)
	if err != nil {
		return nil, err
	}
	m := match{stages: stages}
	for _, f := range facts {
		t := by[f.ID]
		_, other := open[f.Person]
		if t.Became == f && !(other && m.reopens(f, t.Was)) {
			turns = append(turns, store.DealTurn{Was: f, Became: t.Was})
		}
	}
	return turns, nil
}

// DropDealImport drops a file of deals of which nothing was taken.
func (e *Sales) DropDealImport(ctx context.Context, id, user int64) error {
	return e.Store.InTx(ctx, func(tx store.Tx) error {
		if err := e.mayImport(ctx, tx.Queries, user); err != nil {
			return err
		}
		return tx.RemoveDealImport(ctx, id)
	})
}

// DealsToMend writes the rows of a file that were not taken, each with why, to be mended and sent again.
func (e *Sales) DealsToMend(ctx context.Context, id int64, w io.Writer) error {
	i, err := e.Store.DealImport(ctx, id)
	if err != nil {
		return err
	}
	out := roster.NewCSV(w)
	head := i.Counts.V.Head
	if err := out.Head(append(slices.Clone(head), "why it was not taken")); err != nil {
		return err
	}
	for _, p := range i.Problems.V {
		cells := make([]string, len(head)+1)
		copy(cells[:len(head)], p.Cells)
		cells[len(head)] = fmt.Sprintf("line %d: %s", p.Line, p.Why)
		if err := out.Row(cells); err != nil {
			return err
		}
	}
	return out.Close()
}
