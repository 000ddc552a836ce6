package sequence

import (
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"ombak/internal/core/calendar"
	"ombak/internal/core/signal"
)

// drawn is a plan as titles and where each exit leads, for comparing by eye.
func drawn(p *Plan) map[string][]string {
	out := map[string][]string{}
	for _, s := range p.Steps {
		var to []string
		for _, e := range s.Exits() {
			to = append(to, string(e)+" → "+p.Step(s.About().To[e]).About().Title)
		}
		out[s.About().Title] = to
	}
	return out
}

// A step, or a branch, is copied, cut, moved and put in; references go along; the stream
// it is put on goes on behind it.
func TestBranches(t *testing.T) {
	p := newPlan()
	put := func(s Step, title string, from StepID, e Exit) StepID {
		t.Helper()
		s.About().Title = title
		id, err := p.Insert(s, from, e)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	week := calendar.Span{N: 7, Unit: calendar.Days}
	one := put(&Email{Message: 1}, "one", 0, "")
	watch := put(&Watch{Signal: signal.Click, Of: one, For: week}, "watch", one, Next)
	two := put(&Email{Message: 2, Thread: one}, "two", watch, Happened)
	hand := put(&Handover{}, "hand", two, Next)
	pause := put(&Pause{For: week}, "pause", watch, NotInTime)

	whole, err := p.Copy(watch, true)
	if err != nil || whole.Title() != "watch" || whole.Size() != 4 {
		t.Fatalf("copied: %v, %d steps, %v", whole.Title(), whole.Size(), err)
	}
	kept, err := whole.Keep()
	if err != nil {
		t.Fatal(err)
	}
	if whole, err = ReadBranch(kept); err != nil {
		t.Fatal(err)
	}
	// Behind the pause, in the same plan: a second watch of the first email; what it leads to ends in a handing over,
	// so the end behind the pause goes.
	q := p.Clone()
	_, id, err := PutBranch{Branch: whole, From: pause, Exits: []Exit{Next}, Same: true}.Apply(q)
	if err != nil || id <= p.LastID || q.Step(id).(*Watch).Of != one || len(q.Check()) > 0 {
		t.Errorf("put in: step %d, %v, %v", id, err, q.Check())
	}
	// Into another plan: what it watched is not there, and the checks of it find nothing missing but that.
	other := newPlan()
	_, id, err = PutBranch{Branch: whole, From: 0}.Apply(other)
	if err != nil || other.Start != id || other.Step(id).(*Watch).Of != 0 {
		t.Errorf("elsewhere: %v, %+v", err, other.Step(id))
	}
	// One step alone is put on a stream, which goes on behind it.
	alone, err := p.Copy(pause, false)
	if err != nil || alone.Size() != 1 {
		t.Fatal(err)
	}
	q = p.Clone()
	_, id, err = PutBranch{Branch: alone, From: one, Exits: []Exit{Next}, Same: true}.Apply(q)
	if err != nil || q.Step(one).About().To[Next] != id || q.Step(id).About().To[Next] != watch {
		t.Errorf("alone: %v, %v", err, drawn(q))
	}
	// Moved, it keeps its id, so that whoever is on it stays there.
	q = p.Clone()
	what, id, err := MoveBranch{ID: pause, From: one, Exits: []Exit{Next}}.Apply(q)
	if err != nil || id != pause || what != "move “pause”" || q.Step(pause).About().To[Next] != watch {
		t.Errorf("moved: %d, %v, %v", id, err, drawn(q))
	}
	q = p.Clone()
	if _, id, err = (MoveBranch{ID: two, Whole: true, From: pause, Exits: []Exit{Next}}).Apply(q); err != nil || id != two ||
		q.Step(pause).About().To[Next] != two || q.Step(two).About().To[Next] != hand ||
		q.Step(q.Step(watch).About().To[Happened]).Kind() != kindEnd {
		t.Errorf("moved with what it leads to: %v, %v", err, drawn(q))
	}
	// Cut whole, an end stands in its place.
	q = p.Clone()
	if _, _, err = (CutBranch{ID: watch, Whole: true}).Apply(q); err != nil || len(q.Steps) != 2 {
		t.Errorf("cut: %v, %v", err, drawn(q))
	}
	// Streams are joined, and parted again; what nothing leads to any more goes.
	q = p.Clone()
	if _, _, err = (JoinStream{From: watch, Exits: []Exit{NotInTime}, To: two}).Apply(q); err != nil ||
		q.Step(watch).About().To[NotInTime] != two || q.Step(pause) != nil {
		t.Errorf("joined: %v, %v", err, drawn(q))
	}
	if _, id, err = (JoinStream{From: watch, Exits: []Exit{NotInTime}}).Apply(q); err != nil ||
		q.Step(id).Kind() != kindEnd || q.Step(watch).About().To[Happened] != two {
		t.Errorf("parted: %v, %v", err, drawn(q))
	}
	for name, c := range map[string]struct {
		e    Edit
		want error
	}{
		"back":               {JoinStream{From: two, Exits: []Exit{Next}, To: one}, ErrCircle},
		"to itself":          {JoinStream{From: two, Exits: []Exit{Next}, To: two}, ErrCircle},
		"to nowhere":         {JoinStream{From: two, Exits: []Exit{Next}, To: 99}, ErrNoStep},
		"from nowhere":       {JoinStream{From: 99, Exits: []Exit{Next}, To: two}, ErrNoStep},
		"by no exit":         {JoinStream{From: two, To: hand}, ErrNoExit},
		"into itself":        {MoveBranch{ID: watch, Whole: true, From: two, Exits: []Exit{Next}}, ErrOwnBranch},
		"behind itself":      {MoveBranch{ID: pause, From: pause, Exits: []Exit{Next}}, ErrOwnBranch},
		"nothing":            {PutBranch{From: two, Exits: []Exit{Next}}, ErrNoBranch},
		"what is not there":  {CutBranch{ID: 99}, ErrNoStep},
		"an end by itself":   {CutBranch{ID: p.Step(pause).About().To[Next], Whole: true}, ErrOnlyEnd},
		"a move of nothing":  {MoveBranch{ID: 99}, ErrNoStep},
		"an exit that isn't": {PutBranch{Branch: alone, From: two, Exits: []Exit{"x"}}, ErrNoExit},
	} {
		if _, _, err := c.e.Apply(p.Clone()); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
}

// Whatever is copied, cut, moved and joined in whatever order, a plan stays one: every exit
// leads somewhere, nothing leads back, nothing stands apart, and no id is there twice.
func TestPlansStayWhole(t *testing.T) {
	done, refused := 0, 0
	for seed := range 300 {
		r := rand.New(rand.NewPCG(uint64(seed), 4))
		p := somePlan(t, r)
		var kept *Branch
		for range 30 {
			ids, _ := p.order()
			any := func() StepID { return ids[r.IntN(len(ids))] }
			from := any()
			exits := p.Step(from).Exits()
			if len(exits) > 0 {
				exits = exits[:1+r.IntN(len(exits))]
			} else {
				from = 0
			}
			var e Edit
			switch r.IntN(6) {
			case 0:
				e = CutBranch{any(), r.IntN(2) == 0}
			case 1:
				e = MoveBranch{any(), r.IntN(2) == 0, from, exits}
			case 2:
				e = JoinStream{from, exits, any()}
			case 3:
				e = RemoveStep{any()}
			case 4:
				b, err := p.Copy(any(), r.IntN(2) == 0)
				if err != nil {
					t.Fatal(err)
				}
				kept = b
				continue
			default:
				e = PutBranch{kept, from, exits, r.IntN(2) == 0}
			}
			q := p.Clone()
			what, step, err := e.Apply(q)
			if err != nil {
				refused++
				continue
			}
			done++
			n := len(q.Steps)
			if err := q.whole(); err != nil || len(q.Steps) != n || what == "" {
				t.Fatalf("seed %d, %T: %q, %v, %d steps of %d are left\nof %s\nto %s", seed, e, what, err, len(q.Steps), n, mustJSON(p),
					mustJSON(q))
			}
			if step != 0 && q.Step(step) == nil || !slices.IsSorted([]StepID{0, q.LastID}) {
				t.Fatalf("seed %d, %T: the step %d to look at is not there", seed, e, step)
			}
			p = q
		}
	}
	if done < 3000 || refused < 100 {
		t.Errorf("%d edits done, %d refused", done, refused)
	}
}
