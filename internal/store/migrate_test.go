package store_test

import (
	"os"
	"testing"

	"github.com/pressly/goose/v3"

	"ombak/internal/core/sequence"
	"ombak/internal/store"
)

// before takes the database back to an earlier version, and answers what brings
// it forward again.
func (k *kept) before(version int64) (forward func()) {
	k.t.Helper()
	p, err := goose.NewProvider(goose.DialectPostgres, k.DB(), os.DirFS("migrations"), goose.WithLogger(goose.NopLogger()))
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
	run := func(q string, args ...any) {
		t.Helper()
		_, err := k.DB().ExecContext(k.ctx, q, args...)
		k.must(err)
	}
	run("insert into sequence (name, state, created_at, updated_at) values ('S', 'running', now(), now())")
	run(`insert into sequence_version (sequence_id, number, plan, messages, entry, launched_at) values (1, 1,
		'{"start": 1, "last_id": 3, "hours": {"days": [null, [{"from": 510, "to": 1020}], null, null, null, null, null]}, "steps": [
			{"kind": "email", "id": 1, "title": "a", "to": {"next": 2}, "message": 1, "wait": {}, "request": true},
			{"kind": "email", "id": 2, "title": "b", "to": {"next": 3}, "message": 1, "wait": {}},
			{"kind": "end", "id": 3, "title": "c"}]}', '{"1": 1}', '{}', now())`)
	run(`insert into enrolment (sequence_id, version_id, person_id, step, entered_at, reached_at) values (1, 1, $1, 2, now(), now())`, ana)
	run(`insert into touch (enrolment_id, sequence_id, version_id, person_id, step, kind, state, made_at, ready_at)
		values (1, 1, 1, $1, 1, 'email', 'sent', now(), now()), (1, 1, 1, $1, 2, 'email', 'ready', now(), now())`, ana)
	run(`insert into touch (person_id, step, kind, state, made_at, ready_at, once) values ($1, 0, 'email', 'sent', now(), now(), 'x')`, ana)
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
	_, err := k.DB().ExecContext(k.ctx, `with met as (insert into company (name, domain, created_at) values ('Søndre Reservoir', 'r.example', now()) returning id)
		insert into person (first_name, last_name, email, company_id, created_at) select 'Åsa', 'Vik', 'asa@r.example', id, now() from met`)
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
