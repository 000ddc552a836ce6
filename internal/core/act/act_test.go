package act

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ombak/internal/core/touch"
)

type numbers struct{}

func (numbers) Audience(id int64) string { return fmt.Sprint("audience ", id) }
func (numbers) Sequence(id int64) string { return fmt.Sprint("sequence ", id) }
func (numbers) User(id int64) string     { return fmt.Sprint("user ", id) }
func (numbers) Stage(id int64) string    { return fmt.Sprint("stage ", id) }
func (numbers) Team(id int64) string     { return fmt.Sprint("team ", id) }
func (numbers) Purpose(id int64) string  { return fmt.Sprint("purpose ", id) }
func (numbers) Message(id int64) string  { return fmt.Sprint("message ", id) }
func (numbers) Field(name string) string { return "the " + name }

func TestWhatCanBeDone(t *testing.T) {
	long := strings.Repeat("ä", 200)
	for _, x := range []struct {
		a     Act
		link  bool // a link can do it
		form  bool
		step  bool // a change of a record
		words string
		kept  string // as it was kept before acts were types of their own, too
	}{
		{Tag{"oxygen"}, true, true, true, "tag “oxygen”", `{"do":"tag","what":"oxygen"}`},
		{Tag{"  "}, false, false, false, "tag “  ”", `{"do":"tag","what":"  "}`},
		{Tag{long}, true, true, true, "tag “" + long + "”", `{"do":"tag","what":"` + long + `"}`},
		{Tag{long + "ä"}, false, false, false, "tag “" + long + "ä”", `{"do":"tag","what":"` + long + `ä"}`},
		{Task{Words: "call"}, true, true, false, "a task for the owner: call", `{"do":"task","what":"call"}`},
		{Task{Words: "call", To: 3}, true, true, false, "a task for user 3: call", `{"do":"task","what":"call","to":3}`},
		{Task{}, false, false, false, "a task for the owner: ", `{"do":"task","what":""}`},
		{Task{Words: "call", Team: 3}, true, true, false, "a task for the team team 3: call",
			`{"do":"task","what":"call","team":3}`},
		{Alert{Words: "asks", Team: 4}, true, true, false, "tell everybody of the team team 4: asks",
			`{"do":"alert","what":"asks","team":4}`},
		{Task{Words: "call", To: -3}, false, false, false, "a task for user -3: call", `{"do":"task","what":"call","to":-3}`},
		{Alert{Words: "asks"}, true, true, false, "tell the owner: asks", `{"do":"alert","what":"asks"}`},
		{Alert{Words: "asks", To: -1}, false, false, false, "tell user -1: asks", `{"do":"alert","what":"asks","to":-1}`},
		{Include{7}, true, true, true, "add to “audience 7”", `{"do":"audience","what":"7"}`},
		{Include{0}, false, false, false, "add to “audience 0”", `{"do":"audience","what":"0"}`},
		{Enrol{4}, false, true, false, "enter “sequence 4”", `{"do":"enrol","what":"4"}`},
		{Enrol{-4}, false, false, false, "enter “sequence -4”", `{"do":"enrol","what":"-4"}`},
		{Assign{}, false, true, true, "whoever has no owner gets the rep whose turn it is", `{"do":"assign"}`},
		{Assign{2}, false, true, true, "whoever has no owner gets user 2", `{"do":"assign","to":2}`},
		{Assign{-2}, false, false, false, "whoever has no owner gets user -2", `{"do":"assign","to":-2}`},
		{Set{"city", "Bergen"}, false, false, true, "set the city to “Bergen”", `{"do":"set","field":"city","what":"Bergen"}`},
		{Set{"city", ""}, false, false, true, "empty the city", `{"do":"set","field":"city","what":""}`},
		{Set{"", "x"}, false, false, false, "set the  to “x”", `{"do":"set","field":"","what":"x"}`},
		{Set{"city", long + long + "x"}, false, false, false, "set the city to “" + long + long + "x”",
			`{"do":"set","field":"city","what":"` + long + long + `x"}`},
		{Untag{"oxygen"}, false, false, true, "take the tag “oxygen” off", `{"do":"untag","what":"oxygen"}`},
		{Untag{}, false, false, false, "take the tag “” off", `{"do":"untag","what":""}`},
		{Exclude{7}, false, false, true, "take out of “audience 7”", `{"do":"exclude","what":"7"}`},
		{Exclude{}, false, false, false, "take out of “audience 0”", `{"do":"exclude","what":"0"}`},
		{Give{}, false, false, true, "take their owner away", `{"do":"give"}`},
		{Give{2}, false, false, true, "give to user 2", `{"do":"give","to":2}`},
		{Give{-2}, false, false, false, "give to user -2", `{"do":"give","to":-2}`},
		{MoveDeal{3}, false, false, true, "move their open deal to “stage 3”", `{"do":"move deal","what":"3"}`},
		{MoveDeal{}, false, false, false, "move their open deal to “stage 0”", `{"do":"move deal","what":"0"}`},
		{OpenDeal{3}, false, false, true, "open a deal in “stage 3”", `{"do":"open deal","what":"3"}`},
		{OpenDeal{}, false, false, false, "open a deal in “stage 0”", `{"do":"open deal","what":"0"}`},
		{Revoke{3}, false, false, true, "take back the consent to “purpose 3”", `{"do":"revoke","what":"3"}`},
		{Revoke{}, false, false, false, "take back the consent to “purpose 0”", `{"do":"revoke","what":"0"}`},
		{Note{"met at the fair"}, false, false, true, "note: met at the fair", `{"do":"note","what":"met at the fair"}`},
		{Points{5}, false, false, true, "give 5 points", `{"do":"points","what":"5"}`},
		{Points{1}, false, false, true, "give 1 point", `{"do":"points","what":"1"}`},
		{Points{-1000}, false, false, true, "give −1000 points", `{"do":"points","what":"-1000"}`},
		{Points{1001}, false, false, false, "give 1001 points", `{"do":"points","what":"1001"}`},
		{Points{}, false, false, false, "give 0 points", `{"do":"points","what":"0"}`},
		{Find{ValidOnly}, false, false, true, "find their email address: valid", `{"do":"find","what":"valid"}`},
		{Find{"good"}, false, false, false, "find their email address: good", `{"do":"find","what":"good"}`},
		{Note{}, false, false, false, "note: ", `{"do":"note","what":""}`},
		{Write{4, 2}, false, false, false, "write “message 4” to whoever agreed to “purpose 2”",
			`{"do":"write","what":"4","purpose":"2"}`},
		{GoOn{4}, false, false, false, "go on to “sequence 4”", `{"do":"go on","what":"4"}`},
		{GoOn{}, false, false, false, "go on to “sequence 0”", `{"do":"go on","what":"0"}`},
		{Work{Of: touch.Task, For: 3}, false, false, false, "put a task on the desk", `{"do":"work","of":"task","for":3}`},
		{HandOver{}, false, false, false, "hand over", `{"do":"hand over"}`},
		{Send{3}, false, false, false, "send a message", `{"do":"send","message":3}`},
		{Work{Of: touch.Call}, false, false, false, "put a call on the desk", `{"do":"work","of":"call"}`},
		{Withdraw{}, false, false, false, "take off the desk", `{"do":"withdraw"}`},
	} {
		if err := Check(x.a, OfLink()); (err == nil) != x.link {
			t.Errorf("%+v of a link: %v", x.a, err)
		}
		if err := Check(x.a, OfForm()); (err == nil) != x.form {
			t.Errorf("%+v of a form: %v", x.a, err)
		}
		if err := Check(x.a, OfRecord()); (err == nil) != x.step {
			t.Errorf("%+v of a record: %v", x.a, err)
		}
		if got := x.a.Says(numbers{}); got != x.words {
			t.Errorf("%+v reads %q, want %q", x.a, got, x.words)
		}
		body, err := json.Marshal(Kept{x.a})
		if err != nil || string(body) != x.kept {
			t.Errorf("%+v is kept as %s (%v), want %s", x.a, body, err, x.kept)
		}
		var back Kept
		if err := json.Unmarshal(body, &back); err != nil || back.Act != x.a {
			t.Errorf("%s comes back as %+v (%v)", body, back, err)
		}
		if k := x.a.Kind(); k.Make(k.Given(x.a)) != x.a {
			t.Errorf("%+v given by a form is %+v", x.a, k.Make(k.Given(x.a)))
		}
	}
	for _, wrong := range []string{`{"do":"launch"}`, `{}`, `[]`, `{"do":"audience","what":"seven"}`,
		`{"do":"task","to":"x"}`} {
		var k Kept
		if err := json.Unmarshal([]byte(wrong), &k); err == nil {
			t.Errorf("%s is read as %+v", wrong, k)
		}
	}
	if Check(nil, OfForm()) == nil || (Work{Of: touch.Email}).Check() == nil || (Work{Of: touch.Call}).Check() != nil ||
		(Send{}).Check() == nil || (Send{1}).Check() != nil || (HandOver{}).Check() != nil ||
		(Withdraw{}).Check() != nil || (Write{4, 2}).Check() != nil || (Write{4, 0}).Check() == nil ||
		(Write{0, 2}).Check() == nil {
		t.Error("what nobody chooses is checked wrongly")
	}
}

// Each kind has what it needs to be offered, kept and given by a form.
func TestKindsAreWhole(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range Kinds() {
		if k.Word == "" || seen[k.Word] || k.Make == nil || k.Given == nil || k.read == nil || Named(k.Word) != k {
			t.Errorf("the kind %q is not whole", k.Word)
		}
		seen[k.Word] = true
		if offered := slices.Contains(slices.Concat(OfLink(), OfForm(), OfRecord(), OfCrossing()), k); offered != (k.Menu != "") {
			t.Errorf("the kind %q is offered: %v, as %q", k.Word, offered, k.Menu)
		}
		if k.Make(Given{}).Kind() != k {
			t.Errorf("the kind %q makes another", k.Word)
		}
	}
}
