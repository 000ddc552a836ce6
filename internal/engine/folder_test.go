package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"ombak/internal/core/folder"
	"ombak/internal/engine/setup"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// Things lie in one tree of folders, which is made while they are put there; what a removed folder held lies where it
// lay; what is for what is kept beside each.
func TestThingsLieInFolders(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	put := func(kind folder.Kind, id int64, path string) (int64, error) {
		note := "for " + path
		at, _, err := w.e.File(w.ctx, setup.Filing{Kind: kind, ID: id, Path: path, Note: &note})
		return at, err
	}
	tree := func() string {
		t.Helper()
		list, err := w.s.Folders(w.ctx)
		w.must(err)
		var out []string
		for _, f := range list {
			out = append(out, list.Path(f.ID))
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	audience := w.audience("Norway", *ruleOf("NO"))
	clinic, err := put(folder.Message, w.first, "Spring / Clinic")
	w.must(err)
	for _, x := range []struct {
		kind folder.Kind
		id   int64
	}{{folder.Sequence, w.seq}, {folder.Page, w.page.ID}, {folder.Audience, audience}} {
		if at, err := put(x.kind, x.id, "spring/CLINIC"); err != nil || at != clinic {
			t.Errorf("%s lies in %d, not %d: %v", x.kind, at, clinic, err)
		}
	}
	if got := tree(); got != "Spring, Spring / Clinic" {
		t.Errorf("there are %s", got)
	}
	list, err := w.s.InFolder(w.ctx, clinic)
	w.must(err)
	if len(list) != 4 || list[0].Kind != folder.Sequence || list[0].Note != "for spring/CLINIC" {
		t.Errorf("in it lie %+v", list)
	}

	// Nothing is made where it cannot all be made, and of what is not there.
	for path, want := range map[string]error{"A/B/C/D/E/F/G": folder.ErrDeep, strings.Repeat("x", 61): folder.ErrLong} {
		if _, err := put(folder.Message, w.first, path); !errors.Is(err, want) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if _, err := put(folder.Message, 999, "New"); !store.IsNotFound(err) {
		t.Errorf("a message that is not there: %v", err)
	}
	if _, err := put("shoe", 1, "New"); !store.IsNotFound(err) {
		t.Errorf("a kind that there is not: %v", err)
	}
	gone := int64(999)
	if _, _, err := w.e.File(w.ctx, setup.Filing{Kind: folder.Message, ID: w.first, Into: &gone}); !errors.Is(err,
		folder.ErrGone) {
		t.Errorf("a folder that is not there: %v", err)
	}
	if got := tree(); got != "Spring, Spring / Clinic" {
		t.Errorf("there are %s", got)
	}

	// Moved and renamed; a name is free where nobody has it.
	spring := w.count("select id from folder where name = 'Spring'")
	_, err = w.e.KeepFolder(w.ctx, folder.Folder{ID: int64(spring), Parent: clinic, Name: "Spring"})
	if !errors.Is(err, folder.ErrCircle) {
		t.Errorf("within itself: %v", err)
	}
	_, err = w.e.KeepFolder(w.ctx, folder.Folder{ID: int64(spring), Name: " Fairs  of spring", Note: "What we show"})
	w.must(err)
	if got := tree(); got != "Fairs of spring, Fairs of spring / Clinic" {
		t.Errorf("there are %s", got)
	}
	// What lay in one that goes lies where it lay, unless its name is taken there.
	_, err = w.e.KeepFolder(w.ctx, folder.Folder{Name: "Clinic"})
	w.must(err)
	if err := w.e.RemoveFolder(w.ctx, int64(spring)); !errors.Is(err, folder.ErrTaken) {
		t.Errorf("two of a name beside each other: %v", err)
	}
	w.must(w.e.RemoveFolder(w.ctx, clinic))
	if list, err := w.s.InFolder(w.ctx, int64(spring)); err != nil || len(list) != 4 {
		t.Errorf("%d lie where it lay, %v", len(list), err)
	}
	w.must(w.e.RemoveFolder(w.ctx, int64(spring)))
	if n := w.count("select count(*) from filed"); n != 0 || tree() != "Clinic" {
		t.Errorf("%d lie in none, beside %s", n, tree())
	}
	if err := w.e.RemoveFolder(w.ctx, clinic); !errors.Is(err, folder.ErrGone) {
		t.Errorf("removed twice: %v", err)
	}

	// Many at once make each folder once.
	var wg sync.WaitGroup
	for i := range 12 {
		wg.Go(func() {
			if _, err := put(folder.Message, []int64{w.first, w.second}[i%2], fmt.Sprintf("At once / %d", i%3)); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if got := tree(); got != "At once, At once / 0, At once / 1, At once / 2, Clinic" {
		t.Errorf("there are %s", got)
	}
}
