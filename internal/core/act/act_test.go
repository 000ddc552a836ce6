package act

import (
	"fmt"
	"strings"
	"testing"
)

func TestWhatCanBeDone(t *testing.T) {
	name := func(of Kind, id int64) string { return fmt.Sprintf("%s %d", of, id) }
	for _, x := range []struct {
		a     Act
		link  bool // a link can do it
		form  bool
		words string
	}{
		{Act{Do: Tag, What: "oxygen"}, true, true, "tag “oxygen”"},
		{Act{Do: Tag, What: "  "}, false, false, "tag “  ”"},
		{Act{Do: Tag, What: strings.Repeat("ä", 200)}, true, true, "tag “" + strings.Repeat("ä", 200) + "”"},
		{Act{Do: Tag, What: strings.Repeat("ä", 201)}, false, false, "tag “" + strings.Repeat("ä", 201) + "”"},
		{Act{Do: Task, What: "call"}, true, true, "a task for the owner: call"},
		{Act{Do: Task, What: "call", To: 3}, true, true, "a task for assign 3: call"},
		{Act{Do: Task}, false, false, "a task for the owner: "},
		{Act{Do: Alert, What: "asks for a price"}, true, true, "tell the owner: asks for a price"},
		{Act{Do: Audience, What: "7"}, true, true, "add to “audience 7”"},
		{Act{Do: Audience, What: "seven"}, false, false, "add to “audience 0”"},
		{Act{Do: Enrol, What: "4"}, false, true, "enter “enrol 4”"},
		{Act{Do: Enrol, What: "-4"}, false, false, "enter “enrol 0”"},
		{Act{Do: Assign}, false, true, "whoever has no owner gets the rep whose turn it is"},
		{Act{Do: Assign, To: 2}, false, true, "whoever has no owner gets assign 2"},
		{Act{Do: Assign, To: -2}, false, false, "whoever has no owner gets assign -2"},
		{Act{Do: "launch"}, false, false, "whoever has no owner gets the rep whose turn it is"},
	} {
		if err := x.a.Check(OfLink()); (err == nil) != x.link {
			t.Errorf("%+v of a link: %v", x.a, err)
		}
		if err := x.a.Check(OfForm()); (err == nil) != x.form {
			t.Errorf("%+v of a form: %v", x.a, err)
		}
		if got := x.a.Words(name); got != x.words {
			t.Errorf("%+v reads %q, want %q", x.a, got, x.words)
		}
	}
}
