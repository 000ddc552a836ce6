package browser_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"ombak/internal/browser"
	"ombak/internal/standin/mailserver"
	"ombak/internal/store/storetest"
)

// started is `ombak serve` and `ombak work` as processes of their own, on an
// empty database, with a mail server that takes their letters over SMTP.
type started struct {
	house
	first string // the address at which the first person becomes admin
	box   *mailserver.Server
}

func start(t *testing.T) *started {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	x := &started{}
	x.t = t
	var db string
	x.s, db = storetest.NewURL(t)
	var err error
	x.box, err = mailserver.Start(mailserver.Options{Addr: "127.0.0.1:0"})
	x.must(err)
	t.Cleanup(func() { x.box.Close() })
	program := filepath.Join(t.TempDir(), "ombak")
	if out, err := exec.Command("go", "build", "-o", program, "ombak/cmd/ombak").CombinedOutput(); err != nil {
		t.Fatalf("building ombak: %v\n%s", err, out)
	}
	l := listen(t)
	at := l.Addr().String()
	l.Close()
	x.url = "http://" + at
	env := append(os.Environ(), "OMBAK_DATABASE_URL="+db, "OMBAK_HOME="+t.TempDir(), "OMBAK_ADDR="+at,
		"OMBAK_URL="+x.url,
		"OMBAK_MAIL_OUT="+x.box.Addr(), "OMBAK_MAIL_IN=127.0.0.1:0", "OMBAK_LOG=error")
	run := func(command string) io.Reader {
		cmd := exec.Command(program, command)
		cmd.Env, cmd.Stderr = env, os.Stderr
		out, err := cmd.StdoutPipe()
		x.must(err)
		x.must(cmd.Start())
		t.Cleanup(func() { cmd.Process.Signal(syscall.SIGTERM); cmd.Wait() })
		return out
	}
	lines := bufio.NewScanner(run("serve"))
	for x.first == "" && lines.Scan() {
		if s := strings.TrimSpace(lines.Text()); strings.HasPrefix(s, x.url+"/first/") {
			x.first = s
		}
	}
	if x.first == "" {
		t.Fatal("serve told no address to begin at")
	}
	run("work")
	x.must(x.until("the server to answer", func() bool {
		res, err := http.Get(x.url + "/readyz")
		if err == nil {
			res.Body.Close()
		}
		return err == nil && res.StatusCode == http.StatusOK
	}))
	x.tab, err = browser.Start(ctx)
	x.must(err)
	t.Cleanup(x.tab.Close)
	return x
}

// link is the first address in the newest letter to somebody that a pattern finds.
func (x *started) letterLink(to, pattern string) string {
	x.t.Helper()
	found := ""
	x.must(x.until("a letter to "+to, func() bool {
		for _, l := range x.box.Letters(to, 1) {
			p, err := x.box.Read(l)
			x.must(err)
			found = regexp.MustCompile(pattern).FindString(p.Text)
		}
		return found != ""
	}))
	return found
}

// TestFromAnEmptyDatabaseToADeal is a real workspace's first day: nothing is
// there, nothing is made by code, and by evening there is a deal.
func TestFromAnEmptyDatabaseToADeal(t *testing.T) {
	x := start(t)
	signIn := func(email string) {
		t.Helper()
		x.must(x.tab.Forget())
		x.goes("/sign-in")
		x.types(`input[name=email]`, email)
		x.types(`input[name=password]`, "ten letters at least")
		x.presses("Sign in")
		x.must(x.tab.Find(".places"))
	}
	x.must(x.tab.Go(x.first))
	x.sees("Begin with Ombak")
	x.types(`input[name=name]`, "Ines Radu")
	x.types(`input[name=email]`, "ines@karang.example")
	x.types(`input[name=password]`, "ten letters at least")
	x.presses("Begin")
	x.sees("You are the admin.", "Until a first sequence runs", "0 of 9 done")
	x.must(x.tab.Go(x.first))
	x.sees("There is nothing here") // it let in once

	// A few sentences of set-up.
	x.goes("/today")
	x.presses("Say who you are")
	x.types(`input[name=name]`, "Karang Instruments")
	x.types(`textarea[name=address]`, "14 Mole Road")
	x.presses("Save")
	x.sees("Saved.")
	x.presses("Send a test letter to yourself")
	x.sees("The mail server took a letter to ines@karang.example")
	x.presses("People who work here")
	x.types(`input[name=name]`, "Rui Vale")
	x.types(`input[name=email]`, "rui@karang.example")
	x.chooses(`select[name=role]`, "rep")
	x.presses("Invite")
	x.sees("A letter is on its way to rui@karang.example", "Rui Vale")
	join := x.letterLink("rui@karang.example", `http://\S+/join/\S+`)
	x.presses("Pipelines")
	x.presses("Begin with usual stages")
	x.sees("These are stages to begin with")
	x.goes("/scoring")
	x.presses("Begin with usual points")
	x.sees("These are points to begin with")
	x.goes("/today")
	x.sees("5 of 9 done")

	// A page, a message, a sequence.
	x.goes("/content/pages")
	x.presses("New page")
	x.types(`.drop input[name=title]`, "Oxygen alarms")
	x.presses("Write it")
	x.must(x.tab.Click(`[data-part="1"] .part-show`))
	x.must(x.tab.Until("the editor", `document.querySelector('.part.open trix-editor')?.dataset.ready`))
	x.types(`.part.open trix-editor`, "Where to hang a sensor.")
	x.types(`input[name=button]`, "Send it")
	x.presses("Publish")
	x.sees("Published.")
	x.goes("/content")
	x.presses("New message")
	x.types(`.drop input[name=name]`, "Guide")
	x.presses("Letter")
	x.must(x.tab.Click(`[data-part="1"] .part-show`))
	x.must(x.tab.Until("the editor", `document.querySelector('.part.open trix-editor')?.dataset.ready`))
	x.types(`#subject`, "Your guide")
	x.types(`trix-editor`, "Here it is: ")
	x.chooses(`select[data-page]`, "Oxygen alarms")
	x.presses("Put in a link to it")
	x.must(x.tab.Until("the link", `document.querySelector('trix-editor a')`))
	x.presses("Save as version 1")
	x.sees("Saved.")
	x.goes("/sequences")
	x.presses("New sequence")
	x.types(`input[name=name]`, "Guide follow-up")
	x.presses("Start drafting")
	x.insert("the start to End", "email", "Guide", func() {
		x.chooses(`aside select[name=message]`, "Guide")
		x.must(x.tab.Click(`aside input[name=request]`))
	})
	x.insert("Guide to End", "pause", "A while", func() { x.types(`aside input[name=for]`, "5") })
	x.presses("Close")
	x.chooses(`aside select[name=page]`, "Oxygen alarms")
	x.must(x.tab.Click(`details[data-part=when] > summary`))
	x.must(x.tab.Click(`aside input[name=hold]`))
	x.presses("Save")
	x.sees("Nothing keeps this from being launched")
	x.must(x.tab.Click(`.actions a.main`))
	x.sees("Nobody enters now. From now on enter those who fill in")
	x.presses("Launch")
	x.sees("Launched.", "Running · version 1")
	x.goes("/today")
	x.must(x.tab.Until("the list to be gone", `!document.body.innerText.includes('Until a first sequence runs')`))

	// The rep joins; a visitor comes, gets a letter, presses its link and is ready.
	x.must(x.tab.Forget())
	x.must(x.tab.Go(join))
	x.sees("Join your colleagues", "You sign in as rui@karang.example")
	x.types(`input[name=password]`, "ten letters at least")
	x.presses("Join")
	x.sees("Your desk is clear")
	x.must(x.tab.Forget())
	x.goes("/p/oxygen-alarms")
	x.types(`input[name=f-first-name]`, "Ana")
	x.types(`input[name=f-last-name]`, "Strand")
	x.types(`input[name=f-email]`, "ana@fjord.example")
	x.types(`input[name=f-company]`, "Fjord Farms")
	x.presses("Send it")
	link := x.letterLink("ana@fjord.example", fmt.Sprintf(`%s/l/[^\s<>]+`, regexp.QuoteMeta(x.url)))
	time.Sleep(5 * time.Second) // whoever presses within seconds of delivery is taken for a program
	x.must(x.tab.Go(link))
	x.sees("Where to hang a sensor.")

	signIn("rui@karang.example")
	x.sees("Handoffs 1", "Ana Strand", "Why now")
	x.key("a")
	x.sees("Accepted. A deal stands on the pipeline.")
	x.goes("/pipeline")
	x.sees("First talk 1", "Fjord Farms", "Rui Vale")
	var sent, handed int
	x.must(x.s.DB().QueryRow("select (select count(*) from touch where state = 'sent'), (select count(*) from "+
		"enrolment where reason = 'deal opened')").Scan(&sent, &handed))
	if sent != 1 || handed != 1 || len(x.box.Letters("ana@fjord.example", 10)) != 1 {
		t.Errorf("%d sent, %d left for a deal, %d letters", sent, handed, len(x.box.Letters("ana@fjord.example", 10)))
	}
}
