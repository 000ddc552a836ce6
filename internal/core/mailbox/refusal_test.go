package mailbox

import "testing"

func TestFaultOf(t *testing.T) {
	for _, x := range []struct {
		code   int
		status string
		text   string
		want   Fault
	}{
		// RFC 3463, 3.2 to 3.8, and its registry at IANA; from memory.
		{550, "5.1.1", "user unknown", Reader}, {550, "5.1.2", "", Reader}, {553, "5.1.3", "", Reader},
		{551, "5.1.6", "", Reader}, {556, "5.1.10", "", Reader}, {550, "5.1.10", "relay", Reader},
		{553, "5.1.7", "", Ours}, {501, "5.1.8", "", Ours},
		{552, "5.2.2", "mailbox full", Passing}, {550, "5.2.1", "mailbox disabled", Passing},
		{552, "5.2.3", "", Passing},
		{552, "5.3.4", "", Passing}, {550, "5.4.1", "", Passing}, {550, "5.4.4", "", Passing},
		{503, "5.5.1", "", Ours}, {550, "5.6.0", "", Ours}, {550, "5.7.1", "user unknown", Ours},
		{550, "5.7.26", "", Ours},
		// Common practice, no source: what servers say that give no such code.
		{550, "", "relaying denied", Ours}, {554, "", "Relay access denied", Ours},
		{550, "", "Blocked by a list", Ours},
		{550, "5.0.0", "Sender address rejected: not owned", Ours},
		{550, "", "No such user here", Reader}, {550, "", "Requested action not taken: mailbox unavailable", Reader},
		{550, "5.1.0", "Address unknown", Reader},
		{550, "", "<a@b.example>: Recipient address rejected: User unknown", Reader},
		{552, "", "Mailbox full", Passing}, {550, "", "over quota", Passing},
		{551, "", "", Reader}, {556, "", "", Reader}, {552, "", "", Passing}, {554, "", "", Ours},
		{550, "", "", Unclear},
		{550, "5.0.0", "no", Unclear}, {0, "", "", Unclear}, {550, "nonsense", "", Unclear},
	} {
		if got := FaultOf(x.code, x.status, x.text); got != x.want {
			t.Errorf("%d %s %s: %v, want %v", x.code, x.status, x.text, got, x.want)
		}
	}
}

func TestRefusalsStopAnAccount(t *testing.T) {
	// Three in a row that are not the readers' fault.
	r, stop := Record{}.Refuses("d", Ours)
	r, stop2 := r.Refuses("d", Unclear)
	_, stop3 := r.Refuses("d", Ours)
	if stop || stop2 || !stop3 {
		t.Errorf("in a row: %v, %v, %v", stop, stop2, stop3)
	}
	// A letter that is taken between them begins anew; readers who are not there do not count.
	if _, stop := r.Took("d").Refuses("d", Ours); stop {
		t.Error("stopped by the first after one was taken")
	}
	if n, stop := r.Refuses("d", Reader); stop || n.Row != 2 {
		t.Errorf("%v, %v", n, stop)
	}
	// By a share of the day, against the plain way to count it.
	for taken := range 80 {
		r := Record{}
		for range taken {
			r = r.Took("d")
		}
		for n := 1; n <= 40; n++ {
			var stop bool
			r, stop = r.Refuses("d", Reader)
			if want := n >= 10 && float64(n)/float64(n+taken) >= 0.2; stop != want {
				t.Fatalf("%d of %d: %v", n, n+taken, stop)
			}
		}
		if r, stop := r.Refuses("e", Reader); stop || r.Refused != 1 || r.Taken != 0 {
			t.Fatalf("the next day: %v, %v", r, stop)
		}
	}
}
