package store_test

import (
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"testing"
	"time"

	"github.com/pressly/goose/v3"

	"ombak/internal/core/person"
	"ombak/internal/core/rule"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/core/touch"
	"ombak/internal/store"
	"ombak/internal/store/storetest"
)

// before takes the database back to an earlier version, and answers what brings
// it forward again.
func (k *kept) before(version int64) (forward func()) {
	k.t.Helper()
	p, err := goose.NewProvider(goose.DialectPostgres, k.DB(), os.DirFS("migrations"),
		goose.WithLogger(goose.NopLogger()))
	k.must(err)
	_, err = p.DownTo(k.ctx, version-1)
	k.must(err)
	return func() {
		k.t.Helper()
		_, err := p.Up(k.ctx)
		k.must(err)
	}
}

// Sequences that ran before they had to say on what ground go on, and say so;
// each touch says on what ground it was made.
func TestSequencesOfBeforeHaveAGround(t *testing.T) {
	k := open(t)
	forward := k.before(21)
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	run := k.run
	run("insert into sequence (name, state, created_at, updated_at) values ('S', 'running', now(), now())")
	run(`
		insert into sequence_version (sequence_id, number, plan, messages, entry, launched_at) values (1, 1,
		'{"start": 1, "last_id": 3, "hours": {"days": [null, [{"from": 510, "to": 1020}], null, null, null, null,
			null]}, "steps": [
			{"kind": "email", "id": 1, "title": "a", "to": {"next": 2}, "message": 1, "wait": {}, "request": true},
			{"kind": "email", "id": 2, "title": "b", "to": {"next": 3}, "message": 1, "wait": {}},
			{"kind": "end", "id": 3, "title": "c"}]}', '{"1": 1}', '{}', now())`)
	run(`
		insert into enrolment (sequence_id, version_id, person_id, step, entered_at, reached_at)
		values (1, 1, $1, 2, now(), now())`, ana)
	run(`insert into touch (enrolment_id, sequence_id, version_id, person_id, step, kind, state, made_at, ready_at)
		values (1, 1, 1, $1, 1, 'email', 'sent', now(), now()), (1, 1, 1, $1, 2, 'email', 'ready', now(), now())`, ana)
	run(`
		insert into touch (person_id, step, kind, state, made_at, ready_at, once)
		values ($1, 0, 'email', 'sent', now(), now(), 'x')`, ana)
	forward()
	v, err := k.Version(k.ctx, 1)
	k.must(err)
	if !v.Plan.V.Ground.Named() {
		t.Errorf("the ground is %+v", v.Plan.V.Ground)
	}
	if problems := v.Plan.V.Check(); len(problems) > 0 {
		t.Errorf("it cannot run on: %v", problems)
	}
	var says string
	k.must(k.DB().QueryRow("select string_agg(request || ': ' || ground, '; ' order by id) from touch").Scan(&says))
	if want := "true: ; false: " + v.Plan.V.Ground.Other + "; false: " + store.ByHandGround; says != want {
		t.Errorf("touches were made on %q, want %q", says, want)
	}
	if ways := v.Plan.V.Ways(); len(ways) != 2 || v.Plan.V.GroundOf(sequence.StepID(1)).Request != true {
		t.Errorf("it reaches people by %+v", ways)
	}
}

// People of before are found as those who come after.
func TestPeopleOfBeforeAreFound(t *testing.T) {
	k := open(t)
	forward := k.before(25)
	_, err := k.DB().ExecContext(k.ctx, `
		with met as (
			insert into company (name, domain, created_at) values ('Søndre Reservoir', 'r.example', now()) returning id)
		insert into person (first_name, last_name, email, company_id, created_at)
		select 'Åsa', 'Vik', 'asa@r.example', id, now()
		from met`)
	k.must(err)
	forward()
	k.meet(store.NewPerson{First: "Asa", Last: "Berg", Email: "berg@r.example"})
	for text, want := range map[string]int64{"asa": 2, "reservoir asa": 1, "sond": 1, "berg": 1} {
		n, err := k.CountPeople(k.ctx, store.PeopleQuery{Text: text, Now: at})
		if k.must(err); n != want {
			t.Errorf("%q counts %d, want %d", text, n, want)
		}
	}
}

// What was sent, waits, is on its way or stands on a desk is so afterwards, in a
// demo of before letters had a table of their own; and back.
func TestLettersOfBefore(t *testing.T) {
	k := open(t)
	old, err := store.Open(k.ctx, k.restore("demo-29.sql.gz"), 4)
	k.must(err)
	defer old.Close()
	run := func(q string) {
		t.Helper()
		_, err := old.DB().ExecContext(k.ctx, q)
		k.must(err)
	}
	read := func(q string) (out []string) {
		t.Helper()
		var text []byte
		k.must(old.DB().QueryRowContext(k.ctx,
			"select coalesce(json_agg(to_json(x)::text), '[]') from ("+q+") x").Scan(&text))
		k.must(json.Unmarshal(text, &out))
		return out
	}
	// What a quiet demo has none of: on its way, perhaps sent, not to be sent as it is.
	for i, state := range []string{"claimed", "sending", "held", "stopped", "passed"} {
		run(fmt.Sprintf(`update touch set state = '%s', worker = 77, trouble = 'why' where id = (select id from touch
			where state = 'sent' and enrolment_id is not null order by id offset %d limit 1)`, state, i*3))
	}
	const before = `
		select t.id, t.state, t.ready_at, t.tries, t.mail_id, t.address, t.subject, t.trouble, t.outcome, t.notes,
			t.rep_id,
			t.sender_id, t.done_at, t.kind
		from touch t order by t.id`
	const after = `
		select t.id, case when l.open and l.phase <> 'waiting' then l.phase else t.state end as state,
			coalesce(l.ready_at, w.ready_at) as ready_at, coalesce(l.tries, 0) as tries, l.mail_id,
			coalesce(l.address, '') as address, coalesce(l.subject, '') as subject,
			coalesce(nullif(t.trouble, ''), l.trouble, '') as trouble, coalesce(w.outcome, '') as outcome,
			coalesce(w.notes, '') as notes, w.rep_id, l.sender_id, t.done_at, t.kind
		from touch t left join letter l on l.touch_id = t.id left join work w on w.touch_id = t.id order by t.id`
	was := read(before)
	k.must(old.Migrate(k.ctx))
	if is := read(after); len(was) < 200 || !slices.Equal(was, is) {
		t.Errorf("of %d touches these differ: %v", len(was), firstUnlike(was, is))
	}
	bad := read(`
		select t.id, t.state, l.phase
		from touch t left join letter l on l.touch_id = t.id left join work w on w.touch_id = t.id
		where t.kind = 'email' and (l.touch_id is null or l.open <> (t.state = 'ready')
				or (l.phase = 'aside') <> (t.state in ('held', 'stopped')))
			or t.kind <> 'email' and (w.touch_id is null or w.open <> (t.state = 'desk'))`)
	if len(bad) > 0 {
		t.Errorf("letters and work that do not fit their touches: %v", bad)
	}
	// What was on its way when the version before ended is looked after.
	run("insert into worker (id, started_at) overriding system value values (77, now())")
	held, err := old.HoldOrphans(k.ctx, "perhaps sent")
	if k.must(err); held != 1 {
		t.Errorf("%d letters were being sent, want 1", held)
	}
	// Back, and forward again.
	now := read(after)
	p, err := goose.NewProvider(goose.DialectPostgres, old.DB(), os.DirFS("migrations"),
		goose.WithLogger(goose.NopLogger()))
	k.must(err)
	_, err = p.DownTo(k.ctx, 30)
	k.must(err)
	if is := read(before); !slices.Equal(now, is) {
		t.Errorf("back, these differ: %v", firstUnlike(now, is))
	}
	k.must(old.Migrate(k.ctx))
	if is := read(after); !slices.Equal(now, is) {
		t.Errorf("forward again, these differ: %v", firstUnlike(now, is))
	}
}

func firstUnlike(a, b []string) []string {
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			return []string{a[i], b[i]}
		}
	}
	return []string{fmt.Sprint(len(a)), fmt.Sprint(len(b))}
}

// The database knows the states that the core knows, and no others.
func TestStatesOfTouches(t *testing.T) {
	k := open(t)
	for _, c := range []struct {
		table, column string
		want          []string
	}{
		{"touch", "state", texts(touch.States())}, {"letter", "phase", texts(touch.Phases())},
	} {
		var check string
		k.must(k.DB().QueryRow(`select pg_get_constraintdef(oid) from pg_constraint
			where conrelid = $1::regclass and contype = 'c' and conname = $2`, c.table,
			c.table+"_"+c.column+"_check").Scan(&check))
		var got []string
		for _, m := range regexp.MustCompile(`'(\w+)'::text`).FindAllStringSubmatch(check, -1) {
			got = append(got, m[1])
		}
		slices.Sort(got)
		if !slices.Equal(got, c.want) {
			t.Errorf("%s.%s is one of %v in the database, of %v in the core", c.table, c.column, got, c.want)
		}
	}
}

func texts[T ~string](list []T) (out []string) {
	for _, x := range list {
		out = append(out, string(x))
	}
	slices.Sort(out)
	return out
}

// restore makes a database from a dump in testdata, and answers its address.
func (k kept) restore(name string) string {
	k.t.Helper()
	f, err := os.Open(filepath.Join("testdata", name))
	k.must(err)
	defer f.Close()
	dump, err := gzip.NewReader(f)
	k.must(err)
	url := storetest.Empty(k.t)
	cmd := exec.CommandContext(k.ctx, postgres(k.t, "psql"), "-q", "-v", "ON_ERROR_STOP=1", url)
	cmd.Stdin = dump
	if out, err := cmd.CombinedOutput(); err != nil {
		k.t.Fatalf("restoring %s: %v\n%s", name, err, out)
	}
	return url
}

// Letters that came before answers lay on desks lie on none, and keep what was said of them.
func TestAnswersOfBefore(t *testing.T) {
	k := open(t)
	forward := k.before(50)
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	_, err := k.DB().ExecContext(k.ctx, `
		insert into incoming (mail_id, person_id, at, kind, sender, subject, body, unsure, sorted)
		values ('a', $1, now(), 6, 'ana@fjord.example', 'Hello', 'Yes', false, ''),
			('b', $1, now(), 6, 'ana@fjord.example', 'Hello', 'No', true, 'not theirs')`, ana)
	k.must(err)
	forward()
	var says string
	k.must(k.DB().QueryRow("select string_agg(answer, '; ' order by id) from incoming").Scan(&says))
	if want := "earlier; not theirs"; says != want {
		t.Errorf("they are %q, want %q", says, want)
	}
	rows, err := k.DeskRows(k.ctx, store.DeskQuery{Now: time.Now(), N: 10})
	if k.must(err); len(rows) != 0 {
		t.Errorf("on the desk is %+v", rows)
	}
}

// Work that was on desks before it said itself what it is and when it is due says both.
func TestWorkOfBefore(t *testing.T) {
	k := open(t)
	forward := k.before(55)
	ana, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	run := k.run
	run("insert into sequence (name, state, created_at, updated_at) values ('S', 'running', now(), now())")
	run(`insert into sequence_version (sequence_id, number, plan, messages, entry, launched_at)
		values (1, 1, '{}', '{}', '{}', now())`)
	run(`insert into enrolment (sequence_id, version_id, person_id, step, visit, phase, entered_at, reached_at, due)
		values (1, 1, $1, 2, 1, 2, now(), now(), '2026-04-20 09:00Z')`, ana)
	run(`insert into touch (enrolment_id, sequence_id, version_id, person_id, step, visit, kind, state, made_at)
		values (1, 1, 1, $1, 2, 1, 'call', 'desk', now()), (1, 1, 1, $1, 1, 1, 'social', 'desk', now())`, ana)
	run("insert into work (touch_id, ready_at) select id, '2026-04-14 09:00Z' from touch")
	forward()
	var says string
	k.must(k.DB().QueryRow(`select string_agg(kind || ' ' || to_char(due_at at time zone 'UTC', 'DD HH24'), '; '
		order by touch_id) from work`).Scan(&says))
	if want := "call 20 09; social 21 09"; says != want {
		t.Errorf("it is %q, want %q", says, want)
	}
}

// A model that was kept with a table of rules has them itself, and counts as its first version; the way back puts them
// there again.
func TestModelsOfBefore(t *testing.T) {
	k := open(t)
	forward := k.before(56)
	k.run(`insert into score_model (name, line, margin, bands, fit) values ('Engagement', 15, 2,
		'[{"name": "low", "from": 0, "to": 10}]', '[{"if": {"if": {"field": "country", "op": "is", "value": "NO"}},
		"points": 3}]')`)
	k.run(`insert into score_rule (model_id, position, kind, points, often, n, window_days, lasts, half, wipe, condition)
		values (1, 2, 4, 1, 'per day', 2, 0, 30, 0, false, '{}'),
			(1, 1, 5, 3, 'while', 3, 180, 0, 0, true, '{"if": {"field": "country", "op": "is", "value": "NO"}}')`)
	forward()
	m, err := k.Model(k.ctx)
	k.must(err)
	want := []score.Rule{{ID: 2, On: signal.Pattern{Kind: signal.Click}, Points: 3, Often: score.While, N: 3,
		Window: 180,
		Wipe:   true, If: rule.FieldIs(person.Country, "NO")},
		{ID: 1, On: signal.Pattern{Kind: signal.Open}, Points: 1, Often: score.PerDay, N: 2, Lasts: 30}}
	if !reflect.DeepEqual(m.Rules, want) || m.LastID != 2 || m.Version != 1 || m.Line != 15 || len(m.Fit) != 1 {
		t.Errorf("the model is %+v", m)
	}
	v, err := k.ModelVersion(k.ctx, m.ID, 1)
	k.must(err)
	if !reflect.DeepEqual(v.Model.V.Rules, want) || v.Model.V.Margin != 2 || len(v.Model.V.Bands) != 1 {
		t.Errorf("its first version is %+v", v.Model.V)
	}
	forward = k.before(56)
	var says string
	k.must(k.DB().QueryRow(`select string_agg(concat_ws(' ', kind, points, often, n, window_days, lasts, wipe,
		condition #>> '{if,value}'), '; ' order by position) from score_rule`).Scan(&says))
	if want := "5 3 while 3 180 0 t NO; 4 1 per day 2 0 30 f"; says != want {
		t.Errorf("back again the rules are %q, want %q", says, want)
	}
	forward()
}

// The response clock of handoffs that were there before runs from when they were made, of those that are open.
func TestDealsOfBefore(t *testing.T) {
	k := open(t)
	forward := k.before(60)
	q := 0
	k.must(k.DB().QueryRow(`insert into sequence (name, created_at, updated_at) values ('Spring', now(), now()) returning id`).Scan(&q))
	k.run("insert into setting (name, value) values ('workspace', '{\"currency\": \"NOK\"}')")
	k.run("insert into stage (name, position, share) values ('Talking', 1, 20)")
	p, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	k.run("update person set campaign = 'oxygen spring' where id = $1", p)
	k.run("insert into handoff (person_id, state, made_by, how, brief, made_at, clock_from, sequence_id) values ($1, "+
		"'accepted', 'step', 'in turn', '{}', now(), now(), $2)", p, q)
	k.run("insert into deal (person_id, stage_id, handoff_id, name, amount, opened_at, moved_at) values ($1, 1, 1, "+
		"'Pens', 1250050, now(), now())", p)
	k.run("insert into deal_change (deal_id, at, what, was, became) values (1, now(), 'amount', '0', '1250050')")
	forward()
	stages, err := k.Stages(k.ctx)
	k.must(err)
	pipes, err := k.Pipelines(k.ctx)
	k.must(err)
	d, err := k.Deal(k.ctx, 1)
	k.must(err)
	if len(stages) != 1 || len(pipes) != 1 || stages[0].Pipeline != pipes[0].ID || pipes[0].Name != "Sales" {
		t.Errorf("the stages are %+v of %+v", stages, pipes)
	}
	if d.Currency != "NOK" || d.Worth != 1250050 || !d.Rated || d.Sequence != int64(q) ||
		d.Campaign != "oxygen spring" {
		t.Errorf("the deal is %+v", d)
	}
	if c, err := k.DealChanges(k.ctx, 1); err != nil || len(c) != 1 || c[0].Became != "1250050" {
		t.Errorf("its history: %+v, %v", c, err)
	}
}

func TestHandoffsOfBefore(t *testing.T) {
	k := open(t)
	forward := k.before(57)
	for i, state := range []string{"open", "accepted", "open"} {
		p, _ := k.meet(store.NewPerson{First: "Ana", Email: fmt.Sprintf("ana%d@fjord.example", i)})
		k.run("insert into handoff (person_id, state, made_by, how, brief, made_at) values ($1, $2, 'hand', 'in turn', "+
			"'{}', '2026-04-14 09:00Z')", p, state)
	}
	forward()
	var clocks, wound int
	k.must(k.DB().QueryRow(`select count(*) filter (where clock_from = made_at), count(clock_due) from handoff
		where cool_until is null and why = '{}'`).Scan(&clocks, &wound))
	if clocks != 3 || wound != 2 {
		t.Errorf("%d clocks run from the beginning, %d are looked at", clocks, wound)
	}
}

// A model of before stays the first, what was kept of scores is counted once more, and deals are found by what brought
// them.
func TestTheModelOfBefore(t *testing.T) {
	k := open(t)
	forward := k.before(64)
	p, _ := k.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	k.run("insert into score_model (name, line, version, rules) values ('Engagement', 15, 3, '[]')")
	k.run("insert into standing (model_id, person_id, score, counted_at) values (1, $1, 12, now())", p)
	k.run("insert into handoff (person_id, state, made_by, how, brief, made_at, clock_from) values ($1, 'accepted', "+
		"'crossing', 'in turn', '{}', now(), now())", p)
	k.run("insert into stage (name, position, pipeline_id) values ('Talking', 1, 1)")
	k.run("insert into deal (person_id, stage_id, name, currency, opened_at, moved_at, campaign) values ($1, 1, 'd', "+
		"'EUR', now(), now(), 'spring')", p)
	forward()
	models, err := k.Models(k.ctx)
	k.must(err)
	if len(models) != 1 || models[0].Name != "Engagement" || models[0].Version != 3 {
		t.Errorf("the models are %+v", models)
	}
	s, err := k.Standings(k.ctx, 1, []int64{p})
	k.must(err)
	if len(s) != 1 || s[0].Score != 12 || s[0].Due.IsZero() || len(s[0].Parts) != 0 {
		t.Errorf("they stand at %+v", s)
	}
	if h, err := k.Handoff(k.ctx, 1); err != nil || h.Model != 0 {
		t.Errorf("the handoff is %+v, %v", h, err)
	}
	records, err := k.Records(k.ctx, []int64{p})
	k.must(err)
	if d := records[p].Deals; len(d) != 1 || d[0].Campaign != "spring" || d[0].Sequence != 0 {
		t.Errorf("the deals are %+v", d)
	}
}
