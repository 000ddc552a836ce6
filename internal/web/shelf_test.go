package web

import (
	"bytes"
	"fmt"
	"mime/multipart"
	"net/http"
	"strings"
	"testing"
	"time"

	"ombak/internal/store"
	"ombak/internal/web/formtest"
	"ombak/internal/web/public"
)

// put sends the shelf's form with a file.
func (v *visitor) put(at string, fields map[string]string, name string, data []byte) (*http.Response, string) {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for k, x := range fields {
		w.WriteField(k, x)
	}
	if name != "" {
		f, err := w.CreateFormFile("file", name)
		if err != nil {
			v.t.Fatal(err)
		}
		f.Write(data)
	}
	w.Close()
	req, err := http.NewRequest("POST", v.srv.URL+at, &b)
	if err != nil {
		v.t.Fatal(err)
	}
	req.Header.Set("Content-Type", w.FormDataContentType())
	req.Header.Set("Sec-Fetch-Site", "same-origin")
	res, err := v.c.Do(req)
	if err != nil {
		v.t.Fatal(err)
	}
	defer res.Body.Close()
	var out bytes.Buffer
	if _, err := out.ReadFrom(res.Body); err != nil {
		v.t.Fatal(err)
	}
	return res, out.String()
}

// TestTheShelf puts files and links on it, refuses what lies about itself, and
// notes who took what.
func TestTheShelf(t *testing.T) {
	x := newSite(t)
	x.scored()
	ana := x.meet(store.NewPerson{First: "Ana", Email: "ana@fjord.example"})
	v := x.visitor().signIn("marketer")
	words := map[string]string{"kind": "file", "title": "Oxygen table", "about": "Limits by fish",
		"language": "English", "stage": "first talk", "note": "Leave it on the desk"}
	for name, data := range map[string]string{"table.pdf": "<html><script>x()</script></html>", "table.svg": "<svg/>",
		"": "", "empty.pdf": ""} {
		if res, body := v.put("/content/shelf/new", words, name,
			[]byte(data)); res.StatusCode != http.StatusUnprocessableEntity ||
			!strings.Contains(body, `role="alert"`) || !strings.Contains(body, `value="Oxygen table"`) {
			t.Errorf("%q with %q: %s", name, data, res.Status)
		}
	}
	pdf := []byte("%PDF-1.4 first")
	res, _ := v.put("/content/shelf/new", words, `ta"ble.pdf`, pdf)
	at := res.Header.Get("Location")
	var id int64
	if _, err := fmt.Sscanf(at, "/content/shelf/%d", &id); err != nil {
		t.Fatalf("keeping: %s to %q", res.Status, at)
	}
	link := map[string]string{"kind": "link", "title": "A talk", "url": "javascript:x()"}
	if res, _ := v.put("/content/shelf/new", link, "", nil); res.StatusCode != http.StatusUnprocessableEntity {
		t.Errorf("a script as a link: %s", res.Status)
	}
	link["url"] = "https://karang.example/talk"
	res, _ = v.put("/content/shelf/new", link, "", nil)
	talk := strings.TrimPrefix(res.Header.Get("Location"), "/content/shelf/")
	v.put("/content/shelf/"+talk, link, "", nil)
	if versions, err := x.s.ShelfVersions(t.Context(), id+1); err != nil || len(versions) != 1 {
		t.Errorf("keeping a link as it was made %d versions, %v", len(versions), err)
	}

	rep := x.visitor().signIn("rep")
	for query, want := range map[string]bool{"": true, "desk": true, "oxygen first": true, "OXYGEN": true,
		"oxygen shoes": false, "%25": false} {
		if _, body := rep.do("GET", "/content/shelf?text="+strings.ReplaceAll(query, " ", "+"),
			nil); strings.Contains(body, "Oxygen table") != want {
			t.Errorf("searching for %q", query)
		}
	}

	// Readers: somebody unknown, and Ana.
	pass := func(path string) string { return x.e.WithPass(path, time.Hour) }
	stranger := x.visitor()
	res, body := stranger.do("GET", pass(fmt.Sprintf("/s/%d", id)), nil)
	if res.StatusCode != http.StatusOK || !strings.Contains(body, "Limits by fish") ||
		strings.Contains(body, "Leave it on the desk") {
		t.Errorf("the page for readers: %s", res.Status)
	}
	res, body = stranger.do("GET", pass(fmt.Sprintf("/s/%d/file", id)), nil)
	h := res.Header
	if body != string(pdf) || h.Get("Content-Type") != "application/pdf" ||
		h.Get("X-Content-Type-Options") != "nosniff" ||
		!strings.Contains(h.Get("Content-Security-Policy"), "sandbox") ||
		h.Get("Content-Disposition") != `inline; filename="ta-ble.pdf"` {
		t.Errorf("the file: %v", h)
	}
	known := x.visitor()
	known.c.Jar.SetCookies(mustURL(t, x.srv.URL),
		[]*http.Cookie{{Name: public.ReaderCookie, Value: x.e.ReaderToken(ana)}})
	known.do("GET", pass(fmt.Sprintf("/s/%d/file", id)), nil)
	if res, _ := known.do("GET", pass("/s/"+talk+"/file"), nil); res.StatusCode != http.StatusFound ||
		res.Header.Get("Location") != link["url"] {
		t.Errorf("the link: %s to %q", res.Status, res.Header.Get("Location"))
	}
	takers, err := x.s.ShelfTakers(t.Context(), id, 10)
	if err != nil || len(takers) != 1 || takers[0].Person != ana {
		t.Errorf("taken by %v, %v", takers, err)
	}
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "ta-ble.pdf") ||
		!strings.Contains(body, fmt.Sprintf("/people/%d", ana)) {
		t.Error("the item does not say who took it")
	}

	// A new version, an end, and off the shelf.
	v.put(at, words, "table.pdf", []byte("%PDF-1.4 second"))
	if _, body := stranger.do("GET", pass(fmt.Sprintf("/s/%d/file", id)), nil); body != "%PDF-1.4 second" {
		t.Errorf("the new version: %q", body)
	}
	words["ends"] = "2020-01-01"
	v.put(at, words, "", nil)
	for _, path := range []string{"/s/%d", "/s/%d/file"} {
		if res, _ := stranger.do("GET", pass(fmt.Sprintf(path, id)), nil); res.StatusCode != http.StatusNotFound {
			t.Errorf("%s after its last day: %s", path, res.Status)
		}
	}
	if _, body := v.do("GET", "/content/shelf?over=1", nil); !strings.Contains(body, "Oxygen table") {
		t.Error("what has ended is not listed when asked for")
	}
	v.do("POST", at+"/remove", nil)
	if res, _ := v.do("GET", at, nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("off the shelf: %s", res.Status)
	}

	// In a message.
	w := x.writing("empty")
	w.press(0, 0, "add shelf item 0", "subject", "S")
	if code, _ := w.press(1, 0, "", "shelf", talk); code != http.StatusSeeOther {
		t.Fatalf("an item in a message: %d", code)
	}
	if c := w.draft().Sections[0].For[0]; c.Label != "A talk" || c.Link != "/s/"+talk {
		t.Errorf("the section holds %+v", c)
	}
	if _, body := w.do("GET", w.at+"/proof", nil); strings.Contains(body, "no such page") {
		t.Error("the proof does not know the shelf")
	}
	if code, _ := w.press(1, 0, "", "shelf", "999"); code != http.StatusUnprocessableEntity {
		t.Errorf("an item that is not there: %d", code)
	}
}

// TestPicturesOfOnesOwn sends a picture from the writer to the shelf, attaches a file, and refuses what lies.
func TestPicturesOfOnesOwn(t *testing.T) {
	x := newSite(t)
	x.scored()
	v := x.visitor().signIn("marketer")
	png := []byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x00\x00\x01\x00\x00\x00\x01\x08\x06\x00\x00\x00")
	res, body := v.put("/content/upload?picture=1", nil, "buoy at dawn.png", png)
	if res.StatusCode != http.StatusOK || !strings.Contains(body, `"address":"/s/1/file"`) {
		t.Fatalf("%s %s", res.Status, body)
	}
	for name, data := range map[string][]byte{"page.png": []byte("<html><script>1</script>"),
		"table.pdf": []byte("%PDF-1.4"), "drawing.svg": []byte("<svg/>"), "none.png": nil} {
		if res, body := v.put("/content/upload?picture=1", nil, name,
			data); res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(body, `"wrong"`) {
			t.Errorf("%s: %s %s", name, res.Status, body)
		}
	}
	if res, got := x.visitor().do("GET", x.e.WithPass("/s/1/file", time.Hour), nil); got != string(png) ||
		res.Header.Get("Content-Type") != "image/png" ||
		res.Header.Get("Cross-Origin-Resource-Policy") != "cross-origin" {
		t.Errorf("the picture in a letter: %s %v", res.Status, res.Header)
	}
	res, body = v.put("/content/upload", nil, "table.pdf", []byte("%PDF-1.4"))
	if res.StatusCode != http.StatusOK {
		t.Fatalf("%s %s", res.Status, body)
	}
	w := x.writing("letter")
	press := func(do string) string {
		_, body := w.press(0, 0, do)
		_, after := w.do("GET", w.at, nil)
		return body + after
	}
	if body := press("attach 2"); !strings.Contains(body, "table.pdf") || !strings.Contains(body, "1 kB") {
		t.Errorf("not attached: %.500s", body)
	}
	if body := press("attach 77"); !strings.Contains(body, "no file of the shelf") {
		t.Error("what is not there was attached")
	}
	if body := press("detach 2"); strings.Contains(body, "Take table.pdf off") {
		t.Error("still attached")
	}
}

// TestSendingFromTheShelf has a rep find a reader and write to them.
func TestSendingFromTheShelf(t *testing.T) {
	x := newSite(t)
	ana := x.meet(store.NewPerson{First: "Ana", Last: "<b>Strand", Email: "ana@fjord.example", Company: "Fjord Farms"})
	x.meet(store.NewPerson{First: "Ben", Email: "ben@kelp.example"})
	x.exec("insert into shelf_item (title, kind, version, created_at) values ('Limits & fish', 'link', 1, now())")
	x.exec(`
		insert into shelf_version (item_id, version, url, at) values (1, 1, 'https://karang.example/limits', now())`)
	v := x.visitor().signIn("rep")
	_, body := v.do("GET", "/content/shelf/1/send?text=fjord", nil)
	if !strings.Contains(body, fmt.Sprintf("/people/%d/letter?item=1", ana)) || strings.Contains(body, "Ben") ||
		strings.Contains(body, "<b>Strand") {
		t.Errorf("whom to send it: %s", body)
	}
	if _, body := v.do("GET", "/content/shelf/1/send?text=nobodyatall", nil); !strings.Contains(body,
		"Nobody of that name") {
		t.Error("nobody is found, and it does not say so")
	}
	at := fmt.Sprintf("/people/%d/letter", ana)
	_, body = v.do("GET", at+"?item=1", nil)
	form := formtest.Sent(t, body)
	if form.Get("subject") != "Limits & fish" || !strings.HasPrefix(form.Get("text"), "Dear Ana,") ||
		form.Get("item") != "1" || len(form.Get("once")) < 16 {
		t.Errorf("the form begins with %v", form)
	}
	form.Set("text", "{{ person.shoe_size }}")
	if res, body := v.do("POST", at, form); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "no merge field person.shoe_size") ||
		!strings.Contains(body, "{{ person.shoe_size }}</textarea>") {
		t.Errorf("a field that is not there: %s", res.Status)
	}
	form.Set("text", "Dear Ana, here it is.")
	for range 2 {
		if res, _ := v.do("POST", at, form); res.StatusCode != http.StatusSeeOther {
			t.Errorf("%s", res.Status)
		}
	}
	var n int
	x.must(x.s.DB().QueryRowContext(t.Context(),
		"select count(*) from touch where once is not null and state = 'ready'").Scan(&n))
	if n != 1 {
		t.Errorf("%d emails wait for one form that was pressed twice", n)
	}
	x.exec("update person set opted_out_at = now()")
	if _, body := v.do("GET", at, nil); !strings.Contains(body, "opted out of email") {
		t.Error("somebody who opted out: it does not say so")
	}
	if res, _ := v.do("GET", "/people/99/letter", nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("to nobody: %s", res.Status)
	}
}
