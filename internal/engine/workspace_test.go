package engine

import (
	"errors"
	"strings"
	"testing"

	"ombak/internal/core/pipeline"
	"ombak/internal/engine/base"
	"ombak/internal/engine/sales"
	"ombak/internal/engine/setup"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// bare is an engine on an empty database: no users, no stages, no model.
func bare(t *testing.T) *world {
	w := newWorld(t, mailserver.Options{})
	for _, q := range []string{"truncate app_user, stage, score_model cascade"} {
		_, err := w.s.DB().Exec(q)
		w.must(err)
	}
	return w
}

func (w *world) read(l *mailserver.Letter) mailserver.Parts {
	w.t.Helper()
	p, err := w.mail.Read(l)
	w.must(err)
	return p
}

func tokenOf(address string) string { return address[strings.LastIndexByte(address, '/')+1:] }

// The first start's address lets one person in, once, and nobody else ever.
func TestTheFirstAddress(t *testing.T) {
	w := bare(t)
	old, err := w.e.FirstAddress(w.ctx)
	w.must(err)
	address, err := w.e.FirstAddress(w.ctx) // a later start makes another
	w.must(err)
	good := setup.Joining{Name: "Ines", Email: "ines@karang.example", Password: "correct horse"}
	for name, c := range map[string]struct {
		token string
		j     setup.Joining
	}{"another token": {"x", good}, "the earlier one": {tokenOf(old), good}, "none": {"", good},
		"a short password": {tokenOf(address), setup.Joining{Name: "I", Email: "i@karang.example", Password: "short"}},
		"no name": {tokenOf(address),
			setup.Joining{Name: "", Email: "i@karang.example", Password: "correct horse"}}} {
		if _, err := w.e.BeginAs(w.ctx, c.token, c.j); err == nil {
			t.Errorf("%s let somebody in", name)
		}
	}
	id, err := w.e.BeginAs(w.ctx, tokenOf(address), good)
	w.must(err)
	if u, err := w.s.User(w.ctx, id); err != nil || u.Role != "admin" || u.Name != "Ines" {
		t.Errorf("%+v, %v", u, err)
	}
	if _, err := w.e.BeginAs(w.ctx, tokenOf(address),
		setup.Joining{Name: "Eve", Email: "eve@x.example", Password: "correct horse"}); !errors.Is(err,
		setup.ErrBadKey) {
		t.Errorf("a second time: %v", err)
	}
	if again, err := w.e.FirstAddress(w.ctx); err != nil || again != "" {
		t.Errorf("somebody works here, and there is %q, %v", again, err)
	}
}

// An invitation goes by letter, lets in once and for a week, and only as what
// it says.
func TestInvitations(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	ines, err := w.s.User(w.ctx, w.marketer)
	w.must(err)
	address, letter,
		err := w.e.Invite(w.ctx, store.Invitation{Name: "Rui", Email: "Rui@Karang.example", Role: "rep"}, ines)
	if w.must(err); letter != nil {
		t.Fatal(letter)
	}
	got := w.letters("rui@karang.example")
	if len(got) != 1 || !strings.Contains(w.read(got[0]).Text, address) {
		t.Fatalf("%d letters", len(got))
	}
	if _, err := w.e.Join(w.ctx, tokenOf(address), setup.Joining{Password: "short"}); !errors.Is(err,
		setup.ErrPassword) {
		t.Errorf("a short password: %v", err)
	}
	id, err := w.e.Join(w.ctx, tokenOf(address), setup.Joining{Email: "other@x.example", Password: "correct horse"})
	w.must(err)
	if u, err := w.s.User(w.ctx, id); err != nil || u.Role != "rep" || u.Email != "rui@karang.example" ||
		u.Capacity == 0 {
		t.Errorf("%+v, %v", u, err)
	}
	if _, err := w.e.Join(w.ctx, tokenOf(address), setup.Joining{Password: "correct horse"}); !errors.Is(err,
		setup.ErrBadKey) {
		t.Errorf("twice: %v", err)
	}
	if _, _, err := w.e.Invite(w.ctx, store.Invitation{Name: "Rui", Email: "rui@karang.example", Role: "admin"},
		ines); !errors.Is(err, store.ErrTaken) {
		t.Errorf("somebody who is here: %v", err)
	}
	late, _, err := w.e.Invite(w.ctx, store.Invitation{Name: "Late", Email: "late@karang.example", Role: "rep"}, ines)
	w.must(err)
	w.clock.set(day0.Add(8 * dayLong))
	if _, err := w.e.Join(w.ctx, tokenOf(late), setup.Joining{Password: "correct horse"}); !errors.Is(err,
		setup.ErrBadKey) {
		t.Errorf("after a week: %v", err)
	}
}

// Somebody leaves: their work and their people go on, and they write to nobody
// any more. The last admin stays.
func TestAColleagueLeaves(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.launch()
	ana := w.fill("Ana", "ana@fjord.example")
	_, err := w.s.DB().Exec("update person set phone = '+4755500100', owner_id = $2 where id = $1", ana, w.rep1)
	w.must(err)
	w.press("ana@", 1) // a call for rep1
	w.must(w.e.HandOver(w.ctx, ana))
	w.must(w.e.UserLeaves(w.ctx, w.rep1, w.rep2))
	calls, err := w.s.DeskWork(w.ctx, w.rep2)
	w.must(err)
	handoffs, err := w.s.OpenHandoffs(w.ctx, w.rep2, store.MostHandoffs)
	w.must(err)
	if len(calls) != 1 || len(handoffs) != 1 ||
		w.count("select count(*) from person where owner_id = $1", w.rep2) != 1 {
		t.Errorf("%d calls, %d handoffs", len(calls), len(handoffs))
	}
	if reps := w.count("select count(*) from app_user where role = 'rep' and left_at is null"); reps != 1 {
		t.Errorf("%d reps are left", reps)
	}
	admin, err := w.e.AddUser(w.ctx,
		store.User{Name: "Ada", Email: "ada@karang.example", Role: "admin", PasswordHash: "x"})
	w.must(err)
	if err := w.e.UserLeaves(w.ctx, admin, 0); !errors.Is(err, setup.ErrLast) {
		t.Errorf("the last admin leaves: %v", err)
	}
	if _, err := w.e.SetUser(w.ctx, store.User{ID: admin, Name: "Ada", Role: "lead"}, admin); !errors.Is(err, setup.ErrLast) {
		t.Errorf("the last admin becomes a lead: %v", err)
	}
}

// Stages are named, ordered and removed; one in which deals have been stays.
func TestStages(t *testing.T) {
	w := bare(t)
	w.must(w.e.UsualStages(w.ctx))
	w.must(w.e.UsualStages(w.ctx)) // once
	list, err := w.s.Stages(w.ctx)
	w.must(err)
	if len(list) != 6 || !list[4].Won || !list[5].Lost {
		t.Fatalf("%+v", list)
	}
	_, err = w.e.MoveStage(w.ctx, list[1].ID, -1, 0)
	w.must(err)
	_, err = w.e.MoveStage(w.ctx, list[1].ID, -1, 0)
	w.must(err) // it is the first already
	after, err := w.s.Stages(w.ctx)
	w.must(err)
	if after[0].ID != list[1].ID || after[1].ID != list[0].ID {
		t.Errorf("%+v", after)
	}
	for _, bad := range []pipeline.Stage{{}, {Name: "x", Share: 101}, {Name: "x", Share: -1},
		{Name: "x", Won: true, Lost: true}, {Name: strings.Repeat("x", 81)}} {
		if _, err := w.e.KeepStage(w.ctx, bad); err == nil {
			t.Errorf("%+v was kept", bad)
		}
	}
	_, err = w.e.RemoveStage(w.ctx, list[2].ID, 0)
	w.must(err)
	rep, err := w.e.AddUser(w.ctx,
		store.User{Name: "Rui", Email: "rui@karang.example", Role: "rep", PasswordHash: "x", Capacity: 5})
	w.must(err)
	id := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example"})
	w.must(w.e.UsualModel(w.ctx))
	w.must(w.e.HandOver(w.ctx, id))
	open, err := w.s.OpenHandoffs(w.ctx, rep, store.MostHandoffs)
	w.must(err)
	_, err = w.e.Accept(w.ctx, open[0].ID, rep)
	w.must(err)
	if _, err := w.e.RemoveStage(w.ctx, after[0].ID, 0); err == nil {
		t.Error("a stage with a deal in it was removed")
	}
}

// Without a stage nobody can be accepted, and the reason says where to go.
func TestAcceptingWithoutStages(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	_, err := w.s.DB().Exec("truncate stage cascade")
	w.must(err)
	id := w.meet(store.NewPerson{First: "Ana", Email: "ana@n.example"})
	w.must(w.e.HandOver(w.ctx, id))
	open, err := w.s.OpenHandoffs(w.ctx, 0, store.MostHandoffs)
	w.must(err)
	if _, err := w.e.Accept(w.ctx, open[0].ID, *open[0].Rep); !errors.Is(err, sales.ErrNoStage) {
		t.Errorf("accepted into no stage: %v", err)
	}
}

// What holds here is known to every process, and stands under each email.
func TestTheWorkspace(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	other, err := New(w.ctx, w.e.Config)
	w.must(err)
	x := w.e.Workspace()
	x.Name, x.Zone, x.Address = "Karang Instruments", "Asia/Jakarta", "14 Mole Road\nPort Karang"
	w.must(w.e.SetWorkspace(w.ctx, x))
	if w.e.Zone().String() != "Asia/Jakarta" {
		t.Errorf("the zone is %v", w.e.Zone())
	}
	if _, err := other.Decide(w.ctx); err != nil || other.Zone().String() != "Asia/Jakarta" {
		t.Errorf("another process has %v, %v", other.Zone(), err)
	}
	w.launch()
	w.fill("Ana", "ana@fjord.example")
	l := w.read(w.letters("ana@")[0])
	if want := "Karang Instruments, 14 Mole Road, Port Karang"; !strings.Contains(l.Text, want) ||
		!strings.Contains(l.HTML, want) {
		t.Errorf("the letter does not say who writes: %s", l.Text)
	}
	for _, bad := range []base.Workspace{{Zone: "Mars/Olympus", From: 1, To: 2, Currency: "EUR"},
		{From: 600, To: 600, Currency: "EUR"}, {From: 1, To: 2, Currency: "euro"},
		{From: 1, To: 2, Currency: "EUR", Address: strings.Repeat("x\n", 8)}} {
		if err := w.e.SetWorkspace(w.ctx, bad); err == nil {
			t.Errorf("%+v was kept", bad)
		}
	}
	me, err := w.s.User(w.ctx, w.marketer)
	w.must(err)
	w.must(w.e.TestLetter(w.ctx, me))
	if len(w.letters(me.Email)) != 1 || w.e.Workspace().Tried.IsZero() {
		t.Error("the test letter")
	}
}
