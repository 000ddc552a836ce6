package folder

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

var tree = Tree{{ID: 1, Name: "Spring"}, {ID: 2, Parent: 1, Name: "Clinic"}, {ID: 3, Parent: 2, Name: "Asked twice"},
	{ID: 4, Name: "autumn"}, {ID: 5, Parent: 4, Name: "Clinic"}}

func TestTree(t *testing.T) {
	if got := tree.Path(3); got != "Spring / Clinic / Asked twice" {
		t.Errorf("the path is %q", got)
	}
	if tree.Path(0) != "" || tree.Path(99) != "" {
		t.Error("what is none has a path")
	}
	if got := tree.Within(0); len(got) != 2 || got[0].Name != "autumn" {
		t.Errorf("at the top lie %v", got)
	}
	for _, c := range []struct {
		path string
		id   int64
		left int
	}{{"", 0, 0}, {"spring/ CLINIC ", 2, 0}, {" / Spring // Clinic/", 2, 0}, {"Autumn / Clinic / New", 5, 1},
		{"Winter / Clinic", 0, 2}} {
		names, err := ReadPath(c.path)
		if id, left := tree.At(names); err != nil || id != c.id || len(left) != c.left {
			t.Errorf("%q leads to %d and leaves %v, %v", c.path, id, left, err)
		}
	}
	long := strings.Repeat("ä", 60)
	for path, want := range map[string]error{long: nil, long + "ä": ErrLong, "a/b/c/d/e/f": nil, "a/b/c/d/e/f/g": ErrDeep} {
		if _, err := ReadPath(path); !errors.Is(err, want) {
			t.Errorf("%.20q: %v", path, err)
		}
	}
	for name, want := range map[string]error{" ": ErrName, "a/b": ErrLong, " Spring  fair ": nil} {
		if got, err := Name(name); !errors.Is(err, want) || err == nil && got != "Spring fair" {
			t.Errorf("%q is kept as %q, %v", name, got, err)
		}
	}
}

func TestCheck(t *testing.T) {
	for _, c := range []struct {
		f    Folder
		want error
	}{
		{Folder{Name: "Clinic"}, nil},
		{Folder{Name: " CLINIC", Parent: 1}, ErrTaken},
		{Folder{ID: 2, Name: "clinic", Parent: 1}, nil}, // itself
		{Folder{ID: 2, Name: "Clinic", Parent: 4}, ErrTaken},
		{Folder{ID: 1, Name: "Spring", Parent: 3}, ErrCircle},
		{Folder{ID: 1, Name: "Spring", Parent: 1}, ErrCircle},
		{Folder{ID: 1, Name: "Spring", Parent: 5}, nil},
		{Folder{Name: "x", Parent: 77}, ErrGone},
		{Folder{Name: "x", Note: strings.Repeat("ä", 201)}, ErrNote},
	} {
		if err := tree.Check(c.f); !errors.Is(err, c.want) {
			t.Errorf("%+v: %v, want %v", c.f, err, c.want)
		}
	}
	full := make(Tree, Most)
	for i := range full {
		full[i] = Folder{ID: int64(i + 1), Name: fmt.Sprint(i)}
	}
	if full.Check(Folder{Name: "x"}) != ErrTooMany || full.Check(Folder{ID: 5, Name: "x"}) != nil {
		t.Error("the most is not the most")
	}
}

// Whatever is moved anywhere, as the check lets it: it stays a tree of at most so many levels, and every name leads
// back to its folder.
func TestItStaysATree(t *testing.T) {
	rnd := rand.New(rand.NewPCG(6, 6))
	moved, refused := 0, map[error]int{}
	for range 60 {
		var tr Tree
		for range 120 {
			f := Folder{ID: int64(len(tr) + 1), Name: fmt.Sprint("n", rnd.IntN(9)), Parent: int64(rnd.IntN(len(tr) + 1))}
			fresh := f
			if fresh.ID = 0; rnd.IntN(3) == 0 && len(tr) > 0 {
				f.ID = int64(1 + rnd.IntN(len(tr)))
				fresh = f
			}
			if err := tr.Check(fresh); err != nil {
				refused[err]++
				continue
			}
			if i := slices.IndexFunc(tr, func(x Folder) bool { return x.ID == f.ID }); i >= 0 {
				tr[i] = f
				moved++
			} else {
				tr = append(tr, f)
			}
		}
		for _, f := range tr {
			// Plainly: going up from each comes to the top, in at most six steps.
			steps, at := 0, f
			for at.Parent != 0 && steps < 99 {
				steps++
				at = tr[at.Parent-1]
			}
			if steps >= Deepest {
				t.Fatalf("%+v lies %d deep", f, steps+1)
			}
			names, err := ReadPath(tr.Path(f.ID))
			if id, left := tr.At(names); err != nil || id != f.ID || left != nil {
				t.Fatalf("%q leads to %d, not %d", tr.Path(f.ID), id, f.ID)
			}
		}
	}
	if moved < 100 || refused[ErrCircle] == 0 || refused[ErrDeep] == 0 || refused[ErrTaken] == 0 {
		t.Errorf("%d moved, refused %v", moved, refused)
	}
}
