package people

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"ombak/internal/core/person"
	"ombak/internal/core/plainly"
	"ombak/internal/core/rule"
	"ombak/internal/engine/people"
	"ombak/internal/store"
	"ombak/internal/web/shell"
)

// personAddress is where a change of a person's record leads back to.
func personAddress(id int64) string { return fmt.Sprintf("/people/%d", id) }

// setField changes one field, or both names. A value that cannot be taken
// comes back in its place, with the reason.
func (s *Place) setField(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	f := rule.Field(c.FormValue("field"))
	err = s.Engine.ChangePerson(c.Request().Context(), id, person.Values{f: c.FormValue("value")}, shell.UserOf(c).ID)
	if err == nil {
		return s.Done(c, personAddress(id), "Saved.")
	}
	if store.IsNotFound(err) {
		return err
	}
	why := err
	if x, ok := errors.AsType[*people.FieldError](err); ok {
		why = x.Err
	}
	return s.showPerson(c, http.StatusUnprocessableEntity, id,
		&wrongField{f, c.FormValue("value"), shell.Sentence(why)})
}

// setMark puts something on a record or takes it away.
func (s *Place) setMark(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	ctx, user := c.Request().Context(), shell.UserOf(c).ID
	on := c.FormValue("on") != ""
	note := "Saved."
	what := c.FormValue("what")
	switch c.FormValue("mark") {
	case "tag":
		if on {
			err = s.Engine.TagPerson(ctx, id, what, user)
		} else {
			err = s.Engine.Mark(ctx, id, person.Mark(person.TagMark, shell.Number(what)), false, user)
		}
	case "audience":
		var a store.Audience
		if a, err = s.Store.Audience(ctx, shell.Number(what)); err == nil && a.Live {
			err = plainly.New("people join a live audience by its rule")
		}
		if err == nil {
			err = s.Engine.Mark(ctx, id, person.Mark(person.AudienceMark, a.ID), on, user)
		}
	case "contact":
		if on {
			err = s.Engine.AddContact(ctx, id, what, user)
		} else {
			kind := person.AlsoEmail
			if !strings.Contains(what, "@") {
				kind = person.AlsoPhone
			}
			err = s.Engine.Mark(ctx, id, person.Mark(kind, what), false, user)
		}
	case "stop":
		err = s.Engine.Mark(ctx, id, person.DoNotContact, on, user)
		note = shell.Either(on, "Nobody contacts this person from now on.", "This person may be contacted again.")
	case "calls":
		err = s.Engine.MayBeCalled(ctx, id, !on)
		note = shell.Either(on, "Nobody calls this person from now on.", "This person may be called again.")
	case "consent":
		ground := person.Name(c.FormValue("ground"))
		if on && ground == "" {
			err = plainly.New("say on what ground they agreed: where they did so, and when")
		} else {
			err = s.Engine.SetConsent(ctx, id, shell.Number(what), on, "by hand", ground, user)
		}
	default:
		return echo.ErrBadRequest
	}
	if store.IsNotFound(err) {
		return err
	}
	if err != nil {
		return s.NotDone(c, personAddress(id), shell.Sentence(err))
	}
	return s.Done(c, personAddress(id), note)
}

func (s *Place) addNote(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	err = s.Engine.AddNote(c.Request().Context(), id, shell.UserOf(c).ID, c.FormValue("text"))
	if errors.Is(err, people.ErrNote) {
		return s.NotDone(c, personAddress(id), shell.Sentence(err))
	}
	if err != nil {
		return err
	}
	return s.Done(c, personAddress(id), "Noted.")
}

func (s *Place) removeNote(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	note, err := shell.IDOf(c, "note")
	if err != nil {
		return err
	}
	if err := s.Engine.RemoveNote(c.Request().Context(), id, note); err != nil {
		return err
	}
	return s.Done(c, personAddress(id), "The note is gone.")
}

func (s *Place) undoChange(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	change, err := shell.IDOf(c, "change")
	if err != nil {
		return err
	}
	if err := s.Engine.UndoChange(c.Request().Context(), id, change, shell.UserOf(c).ID); store.IsNotFound(err) {
		return err
	} else if err != nil {
		return s.NotDone(c, personAddress(id), shell.Sentence(err))
	}
	return s.Done(c, personAddress(id), "Undone.")
}

// everything answers all that is kept about a person, as JSON.
func (s *Place) everything(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	x, err := s.Engine.Everything(c.Request().Context(), id)
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Content-Type", "application/json")
	h.Set("Content-Disposition", fmt.Sprintf(`attachment; filename="person-%d.json"`, id))
	out := json.NewEncoder(c.Response())
	out.SetIndent("", "  ")
	return out.Encode(x)
}

func (s *Place) erasePerson(c *echo.Context) error {
	id, err := shell.IDOf(c, "id")
	if err != nil {
		return err
	}
	if strings.TrimSpace(c.FormValue("sure")) != "erase" {
		return s.NotDone(c, personAddress(id),
			"Nobody was erased: type the word “erase” to say that you are sure. It cannot be undone.")
	}
	if err := s.Engine.Erase(c.Request().Context(), id); err != nil {
		return err
	}
	return s.Done(c, "/people",
		"Erased. What is left is a hashed address, so that nobody writes there again, and counts without a name.")
}

// addPerson takes in somebody typed by hand.
func (s *Place) addPerson(c *echo.Context) error {
	set := person.Values{}
	for _, f := range []person.Field{person.FirstName, person.LastName, person.EmailField, person.PhoneField,
		person.Company, person.Title, person.Country} {
		set[f] = strings.TrimSpace(c.FormValue(string(f)))
	}
	id, err := s.Engine.AddPerson(c.Request().Context(), set, shell.UserOf(c).ID)
	if err != nil && id != 0 {
		return s.NotDone(c, personAddress(id), "The person is kept, but for one value. "+shell.Sentence(err))
	}
	if err != nil {
		return s.PageCode(c, http.StatusUnprocessableEntity, "newperson.html", "", "People", "New person",
			newPersonData{set, shell.Sentence(err), "people"})
	}
	return s.Done(c, personAddress(id), "Here they are.")
}

type newPersonData struct {
	Set   person.Values
	Wrong string
	Sub   string
}

// Get is a value of the form.
func (d newPersonData) Get(f string) string { return d.Set[person.Field(f)] }

func (s *Place) newPerson(c *echo.Context) error {
	return s.Page(c, "newperson.html", "", "People", "New person", newPersonData{person.Values{}, "", "people"})
}

// Merging

type mergeData struct {
	A, B   store.Person
	Lines  []mergeLine
	Why    string
	CountA mergeCount
	CountB mergeCount
	Sub    string
}

type mergeLine struct {
	Field   person.Field
	Name    string
	A, B    string // as they are kept
	SA, SB  string // as they are shown
	TakeB   bool
	Differs bool
}

// mergeCount is what belongs to a record.
type mergeCount struct {
	Signals, Notes, Tags, Deals int
}

// mergePage shows two records side by side, with a choice for each field.
func (s *Place) mergePage(c *echo.Context) error {
	ctx := c.Request().Context()
	a, b := shell.Number(c.QueryParam("keep")), shell.Number(c.QueryParam("gone"))
	people, err := s.Store.PeopleByID(ctx, []int64{a, b})
	if err != nil {
		return err
	}
	if people[a] == nil || people[b] == nil || a == b {
		return echo.ErrNotFound
	}
	cat, err := s.Store.Catalogue(ctx)
	if err != nil {
		return err
	}
	d := mergeData{A: *people[a], B: *people[b], Sub: "doubles"}
	va, vb := d.A.Values(), d.B.Values()
	for _, def := range cat.Fields() {
		if def.Fixed || def.Company && def.Field != person.Company || va[def.Field] == "" && vb[def.Field] == "" {
			continue
		}
		l := mergeLine{Field: def.Field, Name: def.Name, A: va[def.Field], B: vb[def.Field]}
		l.SA, l.SB = shell.Named(def, person.Shown(l.A)), shell.Named(def, person.Shown(l.B))
		if def.Type == person.PhoneType {
			l.SA, l.SB = person.ShowPhone(l.A), person.ShowPhone(l.B)
		}
		l.Differs = l.A != l.B
		l.TakeB = l.A == ""
		d.Lines = append(d.Lines, l)
	}
	for _, x := range []struct {
		id int64
		n  *mergeCount
	}{{a, &d.CountA}, {b, &d.CountB}} {
		n, err := s.Store.Belongs(ctx, x.id)
		if err != nil {
			return err
		}
		*x.n = mergeCount{n["signal"], n["note"], n["tag"], n["deal"]}
	}
	list, err := s.Engine.DoublesOf(ctx, a)
	if err != nil {
		return err
	}
	for _, x := range list {
		if x.A.ID == b || x.B.ID == b {
			d.Why = x.Why
		}
	}
	return s.Page(c, "merge.html", "", "People", "Merge two records", d)
}

func (s *Place) merge(c *echo.Context) error {
	keep, gone := shell.Number(c.FormValue("keep")), shell.Number(c.FormValue("gone"))
	form, err := c.FormValues()
	if err != nil {
		return err
	}
	people, err := s.Store.PeopleByID(c.Request().Context(), []int64{keep, gone})
	if err != nil {
		return err
	}
	if people[keep] == nil || people[gone] == nil {
		return echo.ErrNotFound
	}
	from := map[string]person.Values{"a": people[keep].Values(), "b": people[gone].Values()}
	set := person.Values{}
	for k := range form {
		if f, ok := strings.CutPrefix(k, "take "); ok && from[form.Get(k)] != nil {
			set[person.Field(f)] = from[form.Get(k)][person.Field(f)]
		}
	}
	batch, err := s.Engine.Merge(c.Request().Context(), keep, gone, set, shell.UserOf(c).ID)
	if err != nil {
		return s.NotDone(c, fmt.Sprintf("/people/merge?keep=%d&gone=%d", keep, gone), shell.Sentence(err))
	}
	return s.Done(c, personAddress(keep),
		fmt.Sprintf("The two are one record now. It can be undone under Work (number %d).", batch))
}

func (s *Place) notDouble(c *echo.Context) error {
	ctx := c.Request().Context()
	a, b := shell.Number(c.FormValue("keep")), shell.Number(c.FormValue("gone"))
	if a == b || a == 0 || b == 0 {
		return echo.ErrBadRequest
	}
	if err := s.Engine.NotDuplicates(ctx, a, b); err != nil {
		return err
	}
	return s.Done(c, "/people/doubles", "They are two people: they are not suggested again.")
}

type doublesData struct {
	List []people.Double
	Sub  string
}

func (s *Place) doubles(c *echo.Context) error {
	list, err := s.Engine.Doubles(c.Request().Context(), doublesShown)
	if err != nil {
		return err
	}
	return s.Page(c, "doubles.html", "", "People", "Likely duplicates", doublesData{list, "doubles"})
}
