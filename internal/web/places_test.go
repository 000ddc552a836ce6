package web

import (
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ombak/internal/core/calendar"
	"ombak/internal/core/message"
	"ombak/internal/core/page"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/score"
	"ombak/internal/core/sequence"
	"ombak/internal/core/signal"
	"ombak/internal/store"
	"ombak/internal/web/content"
	"ombak/internal/web/formtest"
	"ombak/internal/web/shell"
)

func (x *site) must(err error) {
	x.t.Helper()
	if err != nil {
		x.t.Fatal(err)
	}
}

// scored gives the site a score model.
func (x *site) scored() {
	x.t.Helper()
	x.must(x.e.SaveModel(x.t.Context(),
		store.Model{Model: score.Model{Name: "Engagement", Line: 15,
			Rules: []score.Rule{{On: signal.Pattern{Kind: signal.PageView}, Points: 10, Lasts: 30}}}}))
}

func (x *site) meet(p store.NewPerson) (id int64) {
	x.t.Helper()
	x.must(x.s.InTx(x.t.Context(), func(tx store.Tx) error {
		var err error
		id, _, err = tx.MeetPerson(x.t.Context(), p, now)
		return err
	}))
	return id
}

// settle lets audiences become current, as a worker does.
func (x *site) settle() {
	x.t.Helper()
	for {
		n, err := x.e.FollowAudiences(x.t.Context())
		x.must(err)
		if n == 0 {
			return
		}
	}
}

// drafting is a marketer at the map of a new sequence.
type drafting struct {
	*visitor
	id int64
}

func (x *site) drafting() drafting {
	x.t.Helper()
	v := x.visitor().signIn("marketer")
	res, _ := v.do("POST", "/sequences", url.Values{"name": {"Guide"}})
	d := drafting{visitor: v}
	if _, err := fmt.Sscanf(res.Header.Get("Location"), "/sequences/%d", &d.id); err != nil {
		x.t.Fatalf("a new sequence leads to %q", res.Header.Get("Location"))
	}
	return d
}

func (d drafting) draft() store.Draft {
	d.t.Helper()
	x, err := d.s.Draft(d.t.Context(), d.id)
	d.must(err)
	return x
}

// post changes the draft as it stands and answers the page that follows.
func (d drafting) post(path string, form url.Values) (int, string) {
	d.t.Helper()
	if form.Get("n") == "" {
		form.Set("n", fmt.Sprint(d.draft().N))
	}
	res, body := d.do("POST", fmt.Sprintf("/sequences/%d%s", d.id, path), form)
	if to := res.Header.Get("Location"); res.StatusCode == http.StatusSeeOther {
		_, body = d.do("GET", to, nil)
	}
	return res.StatusCode, body
}

func TestEveryKindOfStepHasItsForm(t *testing.T) {
	d := newSite(t).drafting()
	for _, k := range sequence.Kinds() {
		if k.Word == "end" {
			continue
		}
		code, body := d.post("/insert", url.Values{"from": {"0"}, "kind": {k.Word}})
		if code != http.StatusSeeOther || !strings.Contains(body, `name="title"`) {
			t.Fatalf("inserting %s: %d", k.Word, code)
		}
		p := d.draft().Plan.V
		st := p.Step(p.Start)
		// What a form shows, kept as it is, must change nothing but the title.
		before := asKept(st)
		form := fields(body)
		form.Set("title", "Changed "+k.Word)
		if code, body := d.post(fmt.Sprintf("/steps/%d", st.About().ID), form); code != http.StatusSeeOther {
			t.Fatalf("keeping %s: %d %.300s", k.Word, code, body)
		}
		p = d.draft().Plan.V
		if st = p.Step(p.Start); st.About().Title != "Changed "+k.Word || asKept(st) != before {
			t.Errorf("%s kept as it was is %q, %s; was %s", k.Word, st.About().Title, asKept(st), before)
		}
	}
}

// asKept is a step as it is kept, without its title and where it leads.
func asKept(s sequence.Step) string {
	s = sequence.CloneStep(s)
	s.About().Title, s.About().To = "", nil
	body, err := json.Marshal(s)
	if err != nil {
		panic(err)
	}
	return string(body)
}

var (
	inputs   = regexp.MustCompile(`<input [^>]*name="([^"]+)"[^>]*?(?: value="([^"]*)")?[^>]*>`)
	selects  = regexp.MustCompile(`(?s)<select[^>]*name="([^"]+)".*?</select>`)
	selected = regexp.MustCompile(`<option(?: value="([^"]*)")? selected>([^<]*)`)
	first    = regexp.MustCompile(`<option(?: value="([^"]*)")?>([^<]*)`)
)

// fields reads the step's form off a page, as a browser would send it back.
func fields(page string) url.Values {
	page = page[strings.Index(page, "<aside"):]
	v := url.Values{}
	for _, m := range inputs.FindAllStringSubmatch(page, -1) {
		if strings.Contains(m[0], `type="checkbox"`) {
			if strings.Contains(m[0], " checked") {
				v.Set(m[1], "on")
			}
			continue
		}
		value := regexp.MustCompile(` value="([^"]*)"`).FindStringSubmatch(m[0])
		if repeats := m[1] == "way" || strings.HasPrefix(m[1], "act_"); value != nil && (repeats || v.Get(m[1]) == "") {
			v.Add(m[1], html.UnescapeString(value[1]))
		}
	}
	for _, m := range selects.FindAllStringSubmatch(page, -1) {
		o := selected.FindStringSubmatch(m[0])
		if o == nil {
			o = first.FindStringSubmatch(m[0])
		}
		if o != nil {
			value := o[1]
			if !strings.Contains(o[0], "value=") {
				value = o[2]
			}
			v.Add(m[1], html.UnescapeString(value))
		}
	}
	v.Del("n")
	return v
}

func TestBadFormsChangeNothing(t *testing.T) {
	d := newSite(t).drafting()
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"watch"}})
	p := d.draft().Plan.V
	id, n := p.Start, d.draft().N
	step := fmt.Sprintf("/steps/%d", id)
	good := url.Values{"title": {"Watch"}, "signal": {"5"}, "times": {"1"}, "for": {"5"}, "for-unit": {"days"}}
	with := func(k, v string) url.Values {
		f := url.Values{}
		for a, b := range good {
			f[a] = b
		}
		f.Set(k, v)
		return f
	}
	for _, c := range []struct {
		name, path string
		form       url.Values
		want       string
	}{
		{"no title", step, with("title", " "), "Give the step a title"},
		{"no number", step, with("times", "often"), "How often is a whole number"},
		{"too long", step, with("for", "99999"), "at most 731 days"},
		{"no unit", step, with("for-unit", "fortnights"), "Unknown unit"},
		{"negative", step, with("for", "-3"), "cannot be negative"},
		{"a step that is gone", "/steps/99", good, "no such step"},
		{"an unknown kind", "/insert", url.Values{"kind": {"teleport"}}, "no such kind"},
		{"an exit that is not there", "/insert",
			url.Values{"kind": {"pause"}, "from": {fmt.Sprint(id)}, "exit": {"sideways"}}, "no such exit"},
		{"removing an end", "/steps/1/remove", url.Values{}, "can only go with the branch"},
		{"no hours", "/settings", setting("Guide", "page", "hours.1", "17:00–08:00"), "is no stretch of hours"},
		{"no time of day", "/settings", setting("Guide", "page", "hours.1", "early"), "is no stretch of hours"},
		{"never open", "/settings", setting("Guide", "page", "hours.1", "closed"), "have no interval"},
		{"too often", "/settings", setting("Guide", "hand", "again", "some", "times", "1"), "whole number from 2 on"},
		{"again and again", "/settings", setting("Guide", "rule", "v.r.0", "NO", "again", "always"), "needs a gap"},
		{"a wave of none", "/settings", setting("Guide", "rule", "v.r.0", "NO", "wave", "-1"), "A wave is of at most"},
		{"a long rest", "/settings", setting("Guide", "page", "rest", "91"), "at most 90 days"},
		{"an own leave rule without a value", "/settings", setting("Guide", "page", "j.leave", "all", "s.leave.0",
			"field country", "k.leave.0", "field country", "o.leave.0", "is", "v.leave.0", ""), "needs a value"},
		{"no name", "/settings", url.Values{"entry": {"page"}}, "Give the sequence a name"},
		{"a rule without a value", "/settings", setting("Guide", "rule", "v.r.0", ""), "needs a value"},
		{"nobody chosen", "/settings", url.Values{"name": {"Guide"}}, "Choose who enters"},
	} {
		code, body := d.post(c.path, c.form)
		if code != http.StatusUnprocessableEntity || !strings.Contains(html.UnescapeString(body), c.want) {
			t.Errorf("%s: %d, without %q", c.name, code, c.want)
		}
		if d.draft().N != n {
			t.Fatalf("%s changed the draft", c.name)
		}
	}
	if code, _ := d.post(step, with("title", "Fine")); code != http.StatusSeeOther {
		t.Errorf("a good form: %d", code)
	}
}

// setting is what the form of a sequence's settings sends, with fields of it as pairs.
func setting(name, how string, kv ...string) url.Values {
	v := url.Values{"name": {name}, "entry": {how}, "leave.answered": {"on"}, "leave.booked a meeting": {"on"},
		"leave.deal opened": {"on"}, "leave.joined an exclusion": {"on"}}
	for _, r := range sequence.MayStay() {
		v.Set("leave."+string(r), "on")
	}
	for i := range 7 {
		v.Set(fmt.Sprintf("hours.%d", i), "")
	}
	v.Set("hours.1", "8:30–17")
	if how == "rule" {
		for k, x := range map[string]string{"j.r": "all", "s.r.0": "field country", "k.r.0": "field country",
			"o.r.0": "is"} {
			v.Set(k, x)
		}
	}
	for i := 0; i < len(kv); i += 2 {
		v.Set(kv[i], kv[i+1])
	}
	return v
}

func TestSettingsAndLaunchByForm(t *testing.T) {
	d := newSite(t).drafting()
	d.meet(store.NewPerson{Email: "a@x.example", Country: "NO"})
	code, body := d.post("/settings", setting("Norway", "rule", "v.r.0", "NO", "hours.0", "9–12:30", "hours.1",
		"9-12:30",
		"note", "More loans", "rest", "3", "rest-of", "touch", "stay", "3", "stay-unit", "days", "again", "some",
		"times", "3", "gap", "90", "wave", "50", "wave-per", "day"))
	p := d.draft().Plan.V
	if code != http.StatusSeeOther || !strings.Contains(body, "everybody whose country is Norway") || p.LaunchHold {
		t.Errorf("%d, hold %v", code, p.LaunchHold)
	}
	if p.Rest != (sequence.Rest{Days: 3, Any: true}) || p.LongestStay != (calendar.Span{N: 3, Unit: calendar.Days}) ||
		len(p.Stay) != 0 || !strings.Contains(html.UnescapeString(body),
		"up to 3 times, 90 days apart; at most 50 a day") ||
		!strings.Contains(body, "More loans") {
		t.Errorf("rest %+v, stay %v, stays for %v", p.Rest, p.LongestStay, p.Stay)
	}
	if got := p.Hours.Days[0]; len(got) != 1 || got[0] != (calendar.Interval{From: 540, To: 750}) {
		t.Errorf("Sunday %v", got)
	}
	if _, body = d.post("/launch", url.Values{}); !strings.Contains(body, "It cannot be launched yet") {
		t.Error("a plan without a touch was launched")
	}
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"call"}})
	if _, body = d.post("/launch", url.Values{}); !strings.Contains(body, "say on what ground") {
		t.Error("launched without a ground")
	}
	with := setting("Norway", "rule", "v.r.0", "NO", "hours.1", "9-12:30", "ground", "other existing customers")
	if d.post("/settings", with); d.draft().Plan.V.Ground.Other != "existing customers" {
		t.Fatalf("the ground is %+v", d.draft().Plan.V.Ground)
	}
	// The launch says who enters, and who not and why, before anybody does.
	_, body = d.do("GET", fmt.Sprintf("/sequences/%d/launch", d.id), nil)
	body = html.UnescapeString(body)
	for _, want := range []string{"Launch version 1?", "<b>0</b> people enter now", "Nobody enters now", "no number",
		"no launch hold"} {
		if !strings.Contains(body, want) {
			t.Errorf("the question does not say %q", want)
		}
	}
	d.must(d.s.InTx(t.Context(), func(tx store.Tx) error {
		_, err := tx.ExecContext(t.Context(), "update person set phone = '+4755500100'")
		return err
	}))
	_, body = d.do("GET", fmt.Sprintf("/sequences/%d/launch", d.id), nil)
	if body = html.UnescapeString(body); !strings.Contains(body, "<b>1</b> person enters now") ||
		!strings.Contains(body, "1 of them agreed to nothing: only “existing customers” lets that one in") {
		t.Error("who enters on another ground than consent is not said")
	}
	if _, body = d.post("/launch", url.Values{}); !strings.Contains(body, "Launched.") ||
		!strings.Contains(body, "Running · version 1") {
		t.Error("not launched")
	}
	if _, body = d.post("/hold", url.Values{}); !strings.Contains(body, "Held · version 1") {
		t.Error("not held")
	}
	if _, body = d.post("/hold", url.Values{}); !strings.Contains(body, "not in that state any more") {
		t.Error("held twice")
	}
	if _, body = d.post("/resume", url.Values{}); !strings.Contains(body, "Running · version 1") {
		t.Error("does not run on")
	}
}

func TestUndoByForm(t *testing.T) {
	d := newSite(t).drafting()
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"call"}})
	steps := func() int { return len(d.draft().Plan.V.Steps) }
	with := steps()
	d.post("/undo", url.Values{})
	if steps() != 1 {
		t.Errorf("undone: %d steps", steps())
	}
	d.post("/undo", url.Values{}) // nothing left to undo
	d.post("/redo", url.Values{})
	if steps() != with {
		t.Errorf("redone: %d steps, want %d", steps(), with)
	}
}

// ruleFields are the fields of one rule in the form of the points; each "letter=value".
func ruleFields(f url.Values, n int, fields ...string) {
	usual := []string{"p=10", "s=1", "o=", "h=days", "d=30", "g=0", "q=", fmt.Sprintf("j.c%d=all", n)}
	for _, x := range append(usual, fields...) {
		k, v, _ := strings.Cut(x, "=")
		if !strings.Contains(k, ".") {
			k = fmt.Sprintf("%s.%d", k, n)
		}
		f.Set(k, v)
	}
}

func TestScoringByForm(t *testing.T) {
	x := newSite(t)
	x.scored()
	v := x.visitor().signIn("lead")
	fields := func(line string) url.Values {
		m, err := x.s.Model(t.Context())
		x.must(err)
		return url.Values{"line": {line}, "gn.0": {"On pages"}, "since": {fmt.Sprint(m.DraftChanges)}}
	}
	for _, c := range []struct {
		line string
		rule []string
		want string
	}{
		{"fifteen", nil, "The ready line: “fifteen” is no whole number"}, {"15", []string{"p=ten"}, "Points: “ten”"},
		{"15", []string{"p=9999"}, "from −1000 to 1000"}, {"15", []string{"o=per day", "n=x"}, "How many times: “x”"},
		{"15", []string{"d=never"}, "How many days points last: “never”"}, {"15", []string{"s=99"}, "needs a kind"},
		{"15", []string{"o=weekly"}, "Unknown frequency"}, {"15", []string{"s=0"}, "or a condition on the record"},
		{"15", []string{"o=while", "n=2", "w=9999"}, "from 0 to 3660"}, {"-3", nil, "most 100,000"},
		{"15", []string{"p=0"}, "gives no points"}, {"15", []string{"g=7"}, "without rules gives nobody"},
	} {
		f := fields(c.line)
		ruleFields(f, 0, c.rule...)
		res, body := v.do("POST", "/scoring", f)
		body = html.UnescapeString(body)
		if res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(body, c.want) ||
			!strings.Contains(body, `value="`+c.line+`"`) {
			t.Errorf("line %s, rule %s: %d, without %q, or what was typed is gone", c.line, c.rule, res.StatusCode,
				c.want)
		}
	}
	f := fields("20")
	f.Set("gn.1", "Said")
	ruleFields(f, 0, "o=per day", "n=2", "id=1")
	ruleFields(f, 1, "p=−1", "s=4", "h=ever", "g=1")
	ruleFields(f, 2, "s=5", "o=while", "n=3", "w=180", "g=1", "q=sequence 4", "k.c2.0=field country",
		"s.c2.0=field country",
		"o.c2.0=is", "v.c2.0=Norway")
	ruleFields(f, 3, "p=2", "s=6", "h=half", "d=10", "x=1")
	f.Set("do", "drop 3")
	if res, body := v.do("POST", "/scoring", f); res.StatusCode != http.StatusOK || strings.Contains(body, `name="p.3"`) ||
		!strings.Contains(body, `name="p.2"`) {
		t.Errorf("a rule that is removed: %s", res.Status)
	}
	f.Set("do", "rule 1")
	if _, body := v.do("POST", "/scoring/edit", f); !strings.Contains(body, `name="p.4"`) {
		t.Error("a rule that is added is not there")
	}
	// What follows from a level stands with it, whatever else the form has.
	f.Set("do", "follow")
	if _, body := v.do("POST", "/scoring/edit", f); !strings.Contains(body, `name="fl.0"`) {
		t.Error("nothing more can follow")
	}
	f["fl.0"], f["fl.1"], f["fa.1"] = []string{"line"}, []string{"at"}, []string{"12"}
	f["act_of"], f["act_do"] = []string{"0", "1", "1", "9"}, []string{"tag", "", "alert", "tag"}
	f["act_what"], f["act_field"], f["act_to"] = []string{"ready", "", "look", "x"}, []string{"", "", "", ""},
		[]string{"0", "0", "0", "0"}
	f.Set("do", "save")
	f.Set("fa.1", "many")
	if res, body := v.do("POST", "/scoring", f); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "The level: “many”") {
		t.Errorf("a level of many: %s", res.Status)
	}
	f.Set("fa.1", "12")
	if res, _ := v.do("POST", "/scoring", f); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("a good model: %s", res.Status)
	}
	m, err := x.s.Model(t.Context())
	x.must(err)
	if m.Line == 20 || m.Draft == nil || m.Draft.Line != 20 || len(m.Draft.Rules) != 4 {
		t.Fatalf("it is no draft: %+v", m)
	}
	if x := m.Draft.Follows; len(x) != 2 || !x[0].OfLine() || x[1].At != 12 || len(x[0].Acts) != 1 ||
		len(x[1].Acts) != 1 {
		t.Errorf("what follows: %+v", x)
	}
	// Rules of one group stand together.
	said, half, seq := m.Draft.Rules[2], m.Draft.Rules[1], m.Draft.Rules[3]
	if m.Draft.Rules[0].N != 2 || m.Draft.Rules[0].ID != 1 || said.Points != -1 || said.Lasts != 0 ||
		said.Group != "Said" ||
		seq.Often != score.While || seq.N != 3 || seq.Window != 180 || seq.On.Sequence != 4 ||
		seq.If.All[0].If.Value != "NO" || half.Half != 10 || !half.Wipe || half.Lasts != 0 {
		t.Errorf("%+v", m.Draft.Rules)
	}
	// The same form again says that somebody was there before; it takes over once somebody lets it.
	if res, body := v.do("POST", "/scoring", f); res.StatusCode != http.StatusUnprocessableEntity ||
		!strings.Contains(body, "Somebody else has changed the draft meanwhile") ||
		!strings.Contains(body, fmt.Sprintf(`name="since" value="%d"`, m.DraftChanges)) {
		t.Errorf("an old form: %s", res.Status)
	}
	if _, body := v.do("GET", "/scoring/draft", nil); !strings.Contains(html.UnescapeString(body),
		"10 points while they clicked a link from sequence 4 at least 3 times within 180 days, only while country is Norway") {
		t.Error("what the draft changes is not said")
	}
	since := url.Values{"since": {fmt.Sprint(m.DraftChanges)}, "note": {"agreed"}}
	v.do("POST", "/scoring/draft/over", since)
	if m, err = x.s.Model(t.Context()); err != nil || m.Line != 20 || m.Draft != nil || m.Version != 2 {
		t.Errorf("it did not take over: %+v, %v", m, err)
	}
	if _, body := v.do("GET", "/scoring/versions", nil); !strings.Contains(body, "agreed") ||
		!strings.Contains(body, "Version 1") {
		t.Error("the versions are not told")
	}
	v.do("POST", "/scoring/versions/1", url.Values{"since": {fmt.Sprint(m.DraftChanges)}})
	if m, err = x.s.Model(t.Context()); err != nil || m.Draft == nil || len(m.Draft.Rules) != 1 {
		t.Errorf("version 1 is no draft: %+v, %v", m, err)
	}
	since.Set("since", fmt.Sprint(m.DraftChanges))
	v.do("POST", "/scoring/draft/drop", since) // nobody said that it may go
	if m, err = x.s.Model(t.Context()); err != nil || m.Draft == nil {
		t.Error("a draft goes without being asked")
	}
	since.Set("sure", "1")
	v.do("POST", "/scoring/draft/drop", since)
	if m, err = x.s.Model(t.Context()); err != nil || m.Draft != nil {
		t.Error("the draft is still there")
	}
}

// TestUploads sends files to where a page is: they are bounded, told by what is in them, and have a name that harms
// nobody.
func TestUploads(t *testing.T) {
	x := newSite(t)
	v := x.visitor().signIn("marketer")
	at := fmt.Sprintf("/content/pages/%d/place", x.newPage("guide", true, page.New("Guide", "<p>Read.</p>", "Send")))
	x.newPage("other", true, page.New("Other", "<p>Read.</p>", "Send"))
	form := map[string]string{"slug": "guide", "published": "1", "offer": "Field guide"}
	for name, c := range map[string]struct {
		data []byte
		code int
		says string
	}{
		"big.pdf": {append([]byte("%PDF-1.4 "), make([]byte, content.MaxFile)...), http.StatusUnprocessableEntity,
			"larger than 10 MB"},
		"huge.pdf": {make([]byte, shell.MaxBody+1), http.StatusRequestEntityTooLarge, "too large"},
		"guide.pdf": {[]byte("<html><script>alert(1)</script>"), http.StatusUnprocessableEntity,
			"in it is something else"},
		"guide.exe": {[]byte("MZ"), http.StatusUnprocessableEntity, "not taken"},
		"empty.pdf": {nil, http.StatusUnprocessableEntity, "empty"},
	} {
		if res, body := v.put(at, form, name, c.data); res.StatusCode != c.code || !strings.Contains(body, c.says) {
			t.Errorf("%s: %s, %q is not in it", name, res.Status, c.says)
		}
	}
	if res, body := v.put(at, form, "../../gui\"de.pdf", []byte("%PDF-1.4 x")); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("%s %.300s", res.Status, body)
	}
	p, err := x.s.PageBySlug(t.Context(), "guide")
	x.must(err)
	if strings.ContainsAny(p.FileName, "/\"") || p.FileType != "application/pdf" || p.Offer != "Field guide" {
		t.Errorf("kept as %q of type %q", p.FileName, p.FileType)
	}
	for slug, says := range map[string]string{"other": "Another page has this address",
		"Not an address": "small letters", "": "small letters"} {
		form["slug"], form["offer"] = slug, "Kept on the page"
		if res, body := v.put(at, form, "", nil); res.StatusCode != http.StatusUnprocessableEntity ||
			!strings.Contains(body, says) || !strings.Contains(body, "Kept on the page") {
			t.Errorf("the address %q: %s", slug, res.Status)
		}
	}
}

func TestPipelineByForm(t *testing.T) {
	x := newSite(t)
	var stages []int64
	for _, s := range []pipeline.Stage{{Name: "Accepted", Share: 10}, {Name: "Won", Won: true}} {
		id, err := x.s.AddStage(t.Context(), s)
		x.must(err)
		stages = append(stages, id)
	}
	p := x.meet(store.NewPerson{First: "Ana", Last: "Strand", Email: "ana@fjord.example", Company: "Fjord Farms",
		Domain: "fjord.example"})
	x.must(x.e.HandOver(t.Context(), p))
	v := x.visitor().signIn("rep")
	if res, _ := v.do("POST", "/desk/handoffs/1/accept", url.Values{}); res.StatusCode != http.StatusSeeOther {
		t.Fatalf("accepting: %s", res.Status)
	}
	for amount, want := range map[string]string{"12,500": "12,500", "9999.50": "9,999.50"} {
		v.do("POST", "/pipeline/1/amount", url.Values{"amount": {amount}})
		if _, body := v.do("GET", "/pipeline", nil); !strings.Contains(body, `value="`+want+`"`) {
			t.Errorf("an amount of %s is not shown as %s", amount, want)
		}
	}
	for _, bad := range []string{"much", "-1", "1e99"} {
		v.do("POST", "/pipeline/1/amount", url.Values{"amount": {bad}})
		if _, body := v.do("GET", "/pipeline", nil); !strings.Contains(body, "It stays as it was") {
			t.Errorf("an amount of %q was taken", bad)
		}
	}
	if res, _ := v.do("POST", "/pipeline/1/move",
		url.Values{"stage": {fmt.Sprint(stages[1])}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("moving: %s", res.Status)
	}
	for _, c := range []struct {
		path string
		form url.Values
	}{{"/pipeline/9/move", url.Values{"stage": {"1"}}}, {"/pipeline/1/move", url.Values{"stage": {"99"}}}} {
		if res, _ := v.do("POST", c.path, c.form); res.StatusCode != http.StatusNotFound {
			t.Errorf("%s to %v: %s", c.path, c.form, res.Status)
		}
	}
	if res, _ := v.do("POST", "/pipeline/1/move", url.Values{"stage": {"x"}}); res.StatusCode != http.StatusBadRequest {
		t.Errorf("to no stage: %s", res.Status)
	}
}

// TestHasteDoesNotCount fetches one email's picture again and again from one place: at some point it is no person any
// more.
func TestHasteDoesNotCount(t *testing.T) {
	x := newSite(t)
	x.scored()
	p := x.meet(store.NewPerson{Email: "ana@fjord.example"})
	var touch int64
	x.must(x.s.InTx(t.Context(), func(tx store.Tx) error {
		id, err := tx.SaveMessage(t.Context(),
			store.Message{Name: "M", Doc: store.JSON[message.Document]{V: message.Simple("S", `<a href="/p/x">x</a>`)}},
			0, now)
		if err != nil {
			return err
		}
		plan := sequence.NewPlan()
		plan.Ground.Other = "existing customers"
		if _, err := plan.Insert(&sequence.Email{Message: id}, 0, ""); err != nil {
			return err
		}
		seq, err := tx.AddSequence(t.Context(), "S", plan, now)
		if err != nil {
			return err
		}
		v, err := tx.AddVersion(t.Context(),
			store.Version{Sequence: seq, Plan: store.JSON[*sequence.Plan]{V: plan},
				Messages: store.JSON[map[int64]int]{V: map[int64]int{id: 1}}, Launched: now}, 0)
		if err != nil {
			return err
		}
		if _, err := tx.Enrol(t.Context(),
			&store.RunningEntry{Sequence: seq, Version: v, Plan: store.JSON[*sequence.Plan]{V: plan}}, []int64{p},
			now); err != nil {
			return err
		}
		return tx.MakeTouches(t.Context(),
			[]store.NewTouch{{Enrolment: 1, Sequence: seq, Version: v, Person: p, Step: plan.Start, Kind: "email",
				At: now, Message: id, MessageVersion: 1}})
	}))
	_, err := x.s.DB().Exec(`
		with l as (update letter set phase = 'over') update touch set state = 'sent', done_at = $1`, now)
	x.must(err)
	touch = 1
	v := x.visitor()
	pixel, link := strings.TrimPrefix(x.e.PixelURL(touch), x.e.URL), strings.TrimPrefix(x.e.LinkURL(touch, 1), x.e.URL)
	if res, _ := v.do("GET", link, nil); res.StatusCode != http.StatusFound ||
		res.Header.Get("Location") != x.e.URL+"/p/x" {
		t.Errorf("the link: %s to %q", res.Status, res.Header.Get("Location"))
	}
	for range 40 {
		if res, _ := v.do("GET", pixel, nil); res.StatusCode != http.StatusOK ||
			res.Header.Get("Content-Type") != "image/gif" {
			t.Fatalf("the picture: %s", res.Status)
		}
	}
	list, err := x.s.PersonSignals(t.Context(), p)
	x.must(err)
	people := 0
	for _, s := range list {
		if !s.Machine {
			people++
		}
	}
	if len(list) != 41 || people > 25 || people < 10 {
		t.Errorf("of %d fetches %d count", len(list), people)
	}
	// What is kept of a machine's says why.
	timeline, err := x.s.Timeline(t.Context(), store.Of(p))
	x.must(err)
	if timeline[0].Machine != "fetched more often than a person does" {
		t.Errorf("%+v", timeline[0])
	}
	if res, body := v.do("POST", strings.TrimPrefix(x.e.OptOutURL(touch), x.e.URL),
		url.Values{"List-Unsubscribe": {"One-Click"}}); res.StatusCode != http.StatusOK ||
		!strings.Contains(body, "You get no more mail from us") {
		t.Errorf("one click: %s", res.Status)
	}
	if q, err := x.s.Person(t.Context(), p); err != nil || q.OptedOut == nil {
		t.Errorf("not opted out: %v", err)
	}
}

// Hold all names what stops before it does, and the next page takes it back.
func TestHoldAllAsksAndIsTakenBack(t *testing.T) {
	d := newSite(t).drafting()
	_, body := d.do("GET", "/sequences/hold-all", nil)
	if !strings.Contains(body, "Nothing is running") || strings.Contains(body, "<button class=\"btn warn\"") {
		t.Error("nothing runs, and it asks whether to hold it")
	}
	_, err := d.s.DB().Exec("update sequence set state = 'running' where id = $1", d.id)
	d.must(err)
	if _, body = d.do("GET", "/sequences/hold-all", nil); !strings.Contains(body, "Guide") ||
		!strings.Contains(body, "Hold 1") {
		t.Error("what would stop is not named")
	}
	d.do("POST", "/sequences/hold-all", url.Values{})
	_, body = d.do("GET", "/sequences", nil)
	undo := regexp.MustCompile(`action="(/sequences/hold-all/\d+/undo)"`).FindStringSubmatch(body)
	if !strings.Contains(body, "1 held") || undo == nil {
		t.Fatalf("after holding there is no way back: %.600s", body)
	}
	d.do("POST", undo[1], url.Values{})
	if q, err := d.s.Sequence(t.Context(), d.id); err != nil || q.State != "running" {
		t.Errorf("taken back, it is %s, %v", q.State, err)
	}
	d.do("POST", undo[1], url.Values{})
	if _, body = d.do("GET", "/sequences", nil); !strings.Contains(body, "taken back already") {
		t.Error("taken back twice")
	}
}

// Wrong sending hours cost nothing else that was typed.
func TestWrongHoursKeepWhatWasTyped(t *testing.T) {
	d := newSite(t).drafting()
	form := setting("Norwegian ports", "rule", "v.r.0", "NO", "hours.1", "17:00–08:00", "ground",
		"other existing customers", "hold", "on", "note", "Loans", "gap", "9", "again", "always", "rest", "4")
	form.Del("leave.answered")
	code, body := d.post("/settings", form)
	again := formtest.Sent(t, body)
	if !again.Has("hold") || again.Has("leave.answered") {
		t.Error("a box is not ticked as it was")
	}
	for _, k := range []string{"name", "note", "entry", "s.r.0", "ground", "gap", "again", "rest"} {
		if code != http.StatusUnprocessableEntity || !slices.Contains(again[k], form.Get(k)) {
			t.Errorf("%s: %d, %q is shown for %q", k, code, again[k], form.Get(k))
		}
	}
	if q, err := d.s.Sequence(t.Context(), d.id); err != nil || q.Name != "Guide" || q.Entry.V.Rule != nil {
		t.Errorf("something was kept: %+v, %v", q, err)
	}
}

// A column of the board shows its first deals and the sum of all; the rest on asking.
func TestABoardOfManyDeals(t *testing.T) {
	x := newSite(t)
	x.must(x.e.UsualStages(t.Context()))
	x.exec(`insert into person (first_name, email, created_at)
		select 'P' || i, 'p' || i || '@n.example', '2026-04-01' from generate_series(1, 3000) i`)
	x.exec(`insert into deal (person_id, stage_id, name, amount, worth, currency, position, opened_at, moved_at)
		select id, case when id % 100 = 0 then 2 else 1 end, 'Deal ' || id, 100, 100, 'EUR', id, '2026-04-01',
			'2026-04-01'
		from person where email like 'p%@n.example'`)
	v := x.visitor().signIn("lead")
	_, body := v.do("GET", "/pipeline", nil)
	for _, want := range []string{"<b>3,000</b> open deals", "2,950 more in First talk", "10 more in Need is clear"} {
		if !strings.Contains(body, want) {
			t.Errorf("the board does not say %q", want)
		}
	}
	// Weighted: 2,970 deals of 1.00 at 10 % and 30 at 25 %, in whole units.
	if !strings.Contains(body, "EUR\u00a0305<") {
		t.Error("what is promised is not of all deals")
	}
	if n := strings.Count(body, "data-deal="); n != 40 {
		t.Errorf("%d deals are shown, want 20 of each of two stages", n)
	}
	_, body = v.do("GET", "/pipeline?stage=1", nil)
	if n := strings.Count(body, "data-deal="); n != store.MostDeals+20 || !strings.Contains(body, "2,470 more") {
		t.Errorf("%d deals are shown of a stage that was asked for", n)
	}
}

// Steps are copied, cut, put in, moved and joined, also from one sequence to another; what
// was typed into a step's form and not saved is written again.
func TestStepsAreCopiedAndMoved(t *testing.T) {
	d := newSite(t).drafting()
	d.post("/insert", url.Values{"from": {"0"}, "kind": {"email"}})
	email := d.draft().Plan.V.Start
	d.post("/insert", url.Values{"from": {fmt.Sprint(email)}, "exit": {"next"}, "kind": {"watch"}})
	watch := d.draft().Plan.V.Step(email).About().To[sequence.Next]
	d.post("/insert", url.Values{"from": {fmt.Sprint(watch)}, "exit": {"happened"}, "kind": {"sort"}})
	sort := d.draft().Plan.V.Step(watch).About().To[sequence.Happened]
	at := fmt.Sprintf("/steps/%d", sort)

	// A rule more, typed and not kept; then kept, with its name.
	form := url.Values{"title": {"How keen?"}, "do": {"way"}, "way": {"1"}, "way-name.1": {"Hot"}, "j.w1": {"all"},
		"s.w1.0": {"score"}, "k.w1.0": {"score"}, "o.w1.0": {"at least"}, "n.w1.0": {"40"}}
	n := d.draft().N
	code, body := d.post(at, form)
	if code != http.StatusOK || !strings.Contains(body, `value="How keen?"`) || strings.Count(body, `name="way"`) != 2 ||
		d.draft().N != n {
		t.Errorf("a rule more: %d, state %d of %d", code, d.draft().N, n)
	}
	form.Del("do")
	form["way"] = []string{"1", "2"}
	for k, v := range map[string]string{"j.w2": "all", "s.w2.0": "score", "k.w2.0": "score", "o.w2.0": "at least",
		"n.w2.0": "20"} {
		form.Set(k, v)
	}
	if code, _ = d.post(at, form); code != http.StatusSeeOther {
		t.Fatalf("kept: %d", code)
	}
	s := d.draft().Plan.V.Step(sort).(*sequence.Sort)
	if len(s.Ways) != 2 || s.Ways[0].Name != "Hot" || s.Ways[0].Rule.If.N != 40 || len(s.To) != 3 {
		t.Errorf("the sort is %+v", s)
	}
	// Giving up a rule takes what only it leads to along.
	d.post("/insert", url.Values{"from": {fmt.Sprint(sort)}, "exit": {"way 1"}, "kind": {"pause"}})
	d.post(at, url.Values{"title": {"How keen?"}, "way": {"2"}, "j.w2": {"all"}, "s.w2.0": {"score"},
		"k.w2.0": {"score"},
		"o.w2.0": {"at least"}, "n.w2.0": {"20"}})
	p := d.draft().Plan.V
	if s = p.Step(sort).(*sequence.Sort); len(s.To) != 2 || s.Ways[0].Key != 2 ||
		slices.ContainsFunc(p.Steps, func(s sequence.Step) bool { return s.Kind().Word == "pause" }) {
		t.Errorf("with a rule less: %+v", s)
	}
	d.post("/undo", url.Values{})
	d.post("/undo", url.Values{})

	if code, body = d.post(fmt.Sprintf("/steps/%d/copy", watch), url.Values{"whole": {"on"}}); code != http.StatusOK ||
		!strings.Contains(html.UnescapeString(body), "Copied: “Watch” and 1 more") {
		t.Errorf("copied: %d", code)
	}
	other, err := d.e.AddSequence(t.Context(), "Other")
	d.must(err)
	elsewhere := drafting{visitor: d.visitor, id: other}
	if _, body = elsewhere.do("GET", fmt.Sprintf("/sequences/%d?plus=0.", other), nil); !strings.Contains(
		html.UnescapeString(body), "Put in “Watch” and 1 more") {
		t.Error("it cannot be put in elsewhere")
	}
	if code, _ = elsewhere.post("/put", url.Values{"from": {"0"}, "exit": {""}}); code != http.StatusSeeOther ||
		len(elsewhere.draft().Plan.V.Steps) < 4 {
		t.Errorf("put in elsewhere: %d, %d steps", code, len(elsewhere.draft().Plan.V.Steps))
	}
	if code, _ = d.post("/move", url.Values{"step": {fmt.Sprint(sort)}, "from": {fmt.Sprint(email)},
		"exit": {"next"}}); code != http.StatusSeeOther ||
		d.draft().Plan.V.Step(email).About().To[sequence.Next] != sort {
		t.Errorf("moved: %d", code)
	}
	if code, _ = d.post(fmt.Sprintf("/steps/%d/cut", watch),
		url.Values{"whole": {"on"}}); code != http.StatusSeeOther ||
		d.draft().Plan.V.Step(watch) != nil {
		t.Errorf("cut: %d", code)
	}
	if code, _ = d.post("/put", url.Values{"from": {fmt.Sprint(sort)},
		"exit": {"otherwise"}}); code != http.StatusSeeOther ||
		d.draft().Plan.V.Step(sort).About().To[sequence.Otherwise] != watch {
		t.Errorf("put in again: %d; whoever was on it is not any more", code)
	}
	_, body = d.do("GET", fmt.Sprintf("/sequences/%d?plus=%d.%s", d.id, watch, "not+in+time"), nil)
	if strings.Contains(body, fmt.Sprintf(`<option value="%d">`, sort)) {
		t.Error("a stream is offered to lead back")
	}
	if code, body = d.post("/join", url.Values{"from": {fmt.Sprint(watch)}, "exit": {"happened"},
		"to": {fmt.Sprint(email)}}); code != http.StatusUnprocessableEntity || !strings.Contains(body, "lead back") {
		t.Errorf("led back: %d", code)
	}
	to := d.draft().Plan.V.Step(watch).About().To[sequence.NotInTime]
	if code, _ = d.post("/join", url.Values{"from": {fmt.Sprint(watch)}, "exit": {"happened"},
		"to": {fmt.Sprint(to)}}); code !=
		http.StatusSeeOther || d.draft().Plan.V.Step(watch).About().To[sequence.Happened] != to {
		t.Errorf("joined: %d", code)
	}
}

// What is no date among the days off is said, and stays beside the hours as they were typed.
func TestDaysOffAreTyped(t *testing.T) {
	d := newSite(t).drafting()
	form := setting("Ports", "hand", "ground", "other existing customers", "hours.1", "10:00–11:00", "hours-off",
		"25 Dec 2026, Christmas")
	code, body := d.post("/settings", form)
	again := formtest.Sent(t, body)
	if code != http.StatusUnprocessableEntity || again.Get("hours-off") != form.Get("hours-off") ||
		again.Get("hours.1") != "10:00–11:00" || !strings.Contains(body, "Christmas”: this is no date") {
		t.Errorf("%d: %q, %q", code, again.Get("hours-off"), again.Get("hours.1"))
	}
	form.Set("hours-off", "2026-12-25, 26 Dec 2026")
	if code, body = d.post("/settings", form); code != http.StatusSeeOther {
		t.Fatalf("%d", code)
	}
	if got := formtest.Sent(t, body).Get("hours-off"); got != "25 Dec 2026 – 26 Dec 2026" {
		t.Errorf("they are shown as %q", got)
	}
}

// What happens to a record for somebody to enter is a sentence as well: it comes back as it was typed, in words, and
// what cannot be is said.
func TestEntryByWhatHappensToARecord(t *testing.T) {
	d := newSite(t).drafting()
	kept := func() *sequence.Recorded {
		t.Helper()
		q, err := d.s.Sequence(t.Context(), d.id)
		d.must(err)
		return q.Entry.V.Record
	}
	common := []string{"ground", "other existing customers"}
	code, body := d.post("/settings", setting("Welcome", "record", append(common, "record", "made", "source",
		"Fair")...))
	if r := kept(); code != http.StatusSeeOther || r == nil || *r != (sequence.Recorded{Source: "Fair"}) {
		t.Fatalf("%d: %+v", code, r)
	}
	if !strings.Contains(asRead(body), "those whose record is made, from “Fair”") {
		t.Error("the settings do not say who enters")
	}
	form := setting("Welcome", "record", append(common, "record", "changed", "do", "again")...)
	_, body = d.post("/settings", form)
	if again := formtest.Sent(t, body); again.Get("field") != "country" || !again.Has("was") || again.Has("source") {
		t.Errorf("a change asks for %v", again)
	}
	form = setting("Welcome", "record", append(common, "record", "changed", "field", "country", "was", "Norway", "is",
		"canada")...)
	code, body = d.post("/settings", form)
	if r := kept(); code != http.StatusSeeOther || *r != (sequence.Recorded{Field: "country", From: "NO", To: "CA"}) {
		t.Fatalf("%d: %+v", code, r)
	}
	if s := formtest.Sent(t, body); s.Get("was") != "Norway" || s.Get("is") != "Canada" ||
		!strings.Contains(asRead(body), "those whose country changes from “Norway” to “Canada”") {
		t.Errorf("it is shown as %v", s)
	}
	for _, wrong := range [][]string{{"field", "country", "was", "Nowhere"}, {"field", "shoe size"},
		{"field", "country", "was", "Norway", "is", "NO"}} {
		code, _ := d.post("/settings", setting("Welcome", "record", append(append(common, "record", "changed"),
			wrong...)...))
		if code != http.StatusUnprocessableEntity {
			t.Errorf("%v: %d", wrong, code)
		}
	}
}
