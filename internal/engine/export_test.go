package engine

import (
	"bytes"
	"encoding/json"
	"io"
	"reflect"
	"testing"
	"time"

	"ombak/internal/core/rule"
	"ombak/internal/engine/people"
	"ombak/internal/roster"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store"
)

// exported begins an export of everybody and answers its batch.
func (w *world) exported() int64 {
	w.t.Helper()
	id, err := w.e.BeginExport(w.ctx, store.PeopleQuery{Rule: rule.Rule{}, Now: w.clock.Now()}, "csv", "people",
		int64(w.count("select min(id) from app_user")))
	w.must(err)
	return id
}

// file reads what an export has written; nil where it is not there.
func (w *world) file(id int64) []byte {
	w.t.Helper()
	b, err := w.s.Batch(w.ctx, id)
	w.must(err)
	r, err := w.e.ExportFile(w.ctx, &b)
	w.must(err)
	if r == nil {
		return nil
	}
	data, err := io.ReadAll(r)
	w.must(err)
	if int64(len(data)) != b.Detail.V.Export.Size {
		w.t.Errorf("the file says it has %d bytes and has %d", b.Detail.V.Export.Size, len(data))
	}
	return data
}

// A file that is written as work is the file that is answered at once, to the byte,
// and lies for a day.
func TestAnExportIsWork(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.many(24_000)
	w.clock.set(day0.Add(time.Hour))
	id := w.exported()
	if w.file(id) != nil {
		t.Error("the file is there before anybody has written it")
	}
	w.must(w.e.RunBatch(w.ctx, id))
	b, err := w.s.Batch(w.ctx, id)
	w.must(err)
	var at bytes.Buffer
	_, err = w.e.Export(w.ctx, b.Detail.V.Export.Query, roster.Form("csv"), &at)
	w.must(err)
	if b.State != "done" || b.Undoable() || b.Done != b.Total || b.Detail.V.Export.Pieces < 2 {
		t.Errorf("the batch is %s, %d of %d, %+v", b.State, b.Done, b.Total, b.Detail.V.Export)
	}
	if got := w.file(id); !bytes.Equal(got, at.Bytes()) || bytes.Count(got, []byte("\n")) < 24_000 {
		t.Errorf("the file has %d bytes, %d if written at once", len(got), at.Len())
	}
	w.clock.set(w.clock.Now().Add(people.KeepExports))
	w.must(w.e.Tidy(w.ctx))
	if w.file(id) == nil {
		t.Error("it goes before its day is over")
	}
	w.clock.set(w.clock.Now().Add(time.Second))
	w.must(w.e.Tidy(w.ctx))
	if w.file(id) != nil || w.count("select count(*) from export_piece") != 0 {
		t.Error("it stays after its day")
	}
}

// Whoever is erased is in no file: those that lie there go, one that is being written
// ends without a file, and one that nobody has begun yet does not name them.
func TestErasingTakesExportsAlong(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.many(10)
	w.clock.set(day0.Add(time.Hour))
	one := w.count("select id from person where email = 'p1@many.example'")
	lies := w.exported()
	w.must(w.e.RunBatch(w.ctx, lies))
	written := w.exported()
	_, err := w.s.DB().ExecContext(w.ctx, "update batch set state = 'running' where id = $1", written)
	w.must(err)
	w.must(w.s.AddExported(w.ctx, written, 0, []byte("half a file with p1@many.example")))
	w.must(w.e.Erase(w.ctx, int64(one)))
	if w.file(lies) != nil || w.count("select count(*) from export_piece") != 0 {
		t.Error("a file still names whoever was erased")
	}
	// A worker that did not hear of it yet writes on, and finds out at the end.
	w.must(w.s.AddExported(w.ctx, written, 1, []byte("p1@many.example")))
	w.must(w.e.RunBatch(w.ctx, written))
	if b, err := w.s.Batch(w.ctx, written); err != nil || b.State != "stopped" ||
		w.count("select count(*) from export_piece") != 0 {
		t.Errorf("what was being written is %s with %d pieces, %v", b.State,
			w.count("select count(*) from export_piece"), err)
	}
	after := w.exported()
	w.must(w.e.RunBatch(w.ctx, after))
	if f := w.file(after); f == nil || bytes.Contains(f, []byte("p1@many.example")) {
		t.Errorf("a file written after it: %.200s", f)
	}
}

// A worker that dies leaves half a file; the next one writes it from the beginning.
// What is stopped keeps nothing.
func TestHalfAnExport(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.many(10)
	w.clock.set(day0.Add(time.Hour))
	id := w.exported()
	_, err := w.s.DB().ExecContext(w.ctx, "update batch set state = 'running', done = 5 where id = $1", id)
	w.must(err)
	w.must(w.s.AddExported(w.ctx, id, 0, []byte("half")))
	w.must(w.e.RunBatch(w.ctx, id))
	if f := w.file(id); f == nil || bytes.Contains(f, []byte("half")) || bytes.Count(f, []byte("p1@many.example")) != 1 {
		t.Errorf("the next worker writes %.200s", f)
	}
	stopped := w.exported()
	w.must(w.e.StopBatch(w.ctx, stopped))
	w.must(w.e.RunBatch(w.ctx, stopped))
	if b, err := w.s.Batch(w.ctx, stopped); err != nil || b.State != "stopped" || w.file(stopped) != nil {
		t.Errorf("stopped: %s, %v", b.State, err)
	}
	if _, err := w.e.BeginExport(w.ctx, store.PeopleQuery{}, "exe", "people", 1); err == nil {
		t.Error("a form that there is not")
	}
}

// What an export is about is kept with it: nothing of a list's description is lost on
// the way.
func TestWhatIsExportedIsKept(t *testing.T) {
	q := store.PeopleQuery{Rule: *ruleOf("NO"), Text: "strand", Only: []int64{1, 2}, Batch: 3, Company: 4,
		Behind: store.Behind{Of: "step", ID: 5, N: 6, Which: "here"}, Order: store.ByName, Limit: 6, Now: day0,
		After: store.Key{Part: 1, Sort: "a", Sort2: "b", ID: 7}}
	data, err := json.Marshal(q)
	if err != nil {
		t.Fatal(err)
	}
	var got store.PeopleQuery
	if err := json.Unmarshal(data, &got); err != nil || !reflect.DeepEqual(got, q) {
		t.Errorf("%+v comes back as %+v, %v", q, got, err)
	}
}
