package engine

import (
	"bytes"
	"context"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/dns/dnsmessage"

	"ombak/internal/core/calendar"
	"ombak/internal/engine/post"
	"ombak/internal/mail"
	"ombak/internal/standin/mailserver"
	"ombak/internal/standin/unruly"
	"ombak/internal/store"
)

// realMail is a mail server as it is in the world, of the readers' company,
// fjord.example, on this machine's loopback alone. It takes mail for its own
// readers, relays nothing, and knows where mail for us goes.
type realMail struct {
	t     *testing.T
	dir   string
	plain string // host:port, TLS offered by a certificate of its own
	tls   string // smtps://host:port
	trust *x509.CertPool
}

// startRealMail starts one that sends what is for us to an address.
func startRealMail(t *testing.T, us string) *realMail {
	t.Helper()
	if os.Getenv("OMBAK_TEST_MAIL") == "" {
		t.Skip("scripts/test-mail runs this")
	}
	dir, err := os.MkdirTemp("", "ombak-mail-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	m := &realMail{t: t, dir: dir}
	owner, err := user.Lookup("postfix")
	m.must(err)
	uid, _ := strconv.Atoi(owner.Uid) // Debian's are numbers
	gid, _ := strconv.Atoi(owner.Gid)
	m.must(os.Chmod(dir, 0o755))
	for _, d := range []string{"etc", "spool", "data", "mail"} {
		m.must(os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	m.must(os.Chown(filepath.Join(dir, "data"), uid, gid))
	m.must(os.Chown(filepath.Join(dir, "mail"), uid, gid))
	cert, key := filepath.Join(dir, "etc/cert.pem"), filepath.Join(dir, "etc/key.pem")
	m.run("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", key, "-out", cert, "-days", "2",
		"-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost")
	pem, err := os.ReadFile(cert)
	m.must(err)
	m.trust = x509.NewCertPool()
	m.trust.AppendCertsFromPEM(pem)
	ports := [2]string{freePort(t), freePort(t)}
	m.plain, m.tls = "localhost:"+ports[0], "smtps://localhost:"+ports[1]
	host, port, err := net.SplitHostPort(us)
	m.must(err)
	// Behind it is a server that knows nobody any more: what it has taken by then comes back as a report.
	gone, err := unruly.Start(func(at string) string {
		if at == "RCPT" {
			return "550 5.1.1 there is nobody of that name any more"
		}
		return ""
	})
	m.must(err)
	t.Cleanup(gone.Close)
	_, gonePort, err := net.SplitHostPort(gone.Addr())
	m.must(err)
	ours := fmt.Sprintf("smtp:[%s]:%s", host, port)
	m.write("etc/main.cf", map[string]string{
		"compatibility_level": "3.6", "queue_directory": dir + "/spool", "data_directory": dir + "/data",
		"mail_owner":   "postfix",
		"setgid_group": "postdrop", "maillog_file": dir + "/log", "maillog_file_prefixes": dir,
		"myhostname":    "mx.fjord.example",
		"mydestination": "", "inet_interfaces": "127.0.0.1", "inet_protocols": "ipv4", "mynetworks": "",
		"default_transport":        "error:no way out",
		"smtpd_relay_restrictions": "reject_unauth_destination", "smtp_dns_support_level": "disabled",
		"smtp_host_lookup":        "native",
		"virtual_mailbox_domains": "fjord.example", "virtual_mailbox_base": dir + "/mail", "minimal_backoff_time": "1s",
		"virtual_mailbox_maps": "inline:{ana@fjord.example=ana/,left@fjord.example=left/}",
		"virtual_uid_maps":     "static:" + owner.Uid,
		"virtual_gid_maps":     "static:" + owner.Gid,
		"virtual_minimum_uid":  "1",
		"transport_maps": "inline:{{left@fjord.example=smtp:[127.0.0.1]:" + gonePort +
			"},{mail.karang.example=" + ours + "},{karang.example=" + ours + "}}",
		"smtpd_tls_security_level": "may", "smtpd_tls_received_header": "yes", "smtpd_tls_cert_file": cert,
		"smtpd_tls_key_file": key,
	})
	m.must(os.WriteFile(filepath.Join(dir, "etc/master.cf"), []byte(ports[0]+` inet n - n - - smtpd
`+ports[1]+` inet n - n - - smtpd -o smtpd_tls_wrappermode=yes
pickup unix n - n 1 1 pickup
cleanup unix n - n - 0 cleanup
qmgr unix n - n 1 1 qmgr
tlsmgr unix - - n 1000? 1 tlsmgr
rewrite unix - - n - - trivial-rewrite
bounce unix - - n - 0 bounce
defer unix - - n - 0 bounce
trace unix - - n - 0 bounce
error unix - - n - - error
retry unix - - n - - error
smtp unix - - n - - smtp
virtual unix - n n - - virtual
anvil unix - - n - 1 anvil
scache unix - - n - 1 scache
proxymap unix - - n - - proxymap
postlog unix-dgram n - n - 1 postlogd
`), 0o644))
	m.run("postfix", "-c", dir+"/etc", "start")
	t.Cleanup(func() {
		exec.Command("postfix", "-c", dir+"/etc", "stop").Run() // its folder goes with it
		if t.Failed() {
			log, _ := os.ReadFile(dir + "/log")
			t.Logf("the mail server says:\n%s", log)
		}
	})
	return m
}

func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	return port
}

func (m *realMail) must(err error) {
	m.t.Helper()
	if err != nil {
		m.t.Fatal(err)
	}
}

func (m *realMail) write(name string, settings map[string]string) {
	m.t.Helper()
	var b strings.Builder
	for k, v := range settings {
		fmt.Fprintf(&b, "%s = %s\n", k, v)
	}
	m.must(os.WriteFile(filepath.Join(m.dir, name), []byte(b.String()), 0o644))
}

func (m *realMail) run(name string, args ...string) string {
	m.t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		m.t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
	return string(out)
}

// letters are those that a reader has, as files.
func (m *realMail) letters(reader string) [][]byte {
	m.t.Helper()
	files, err := filepath.Glob(filepath.Join(m.dir, "mail", reader, "new", "*"))
	m.must(err)
	var out [][]byte
	for _, f := range files {
		b, err := os.ReadFile(f)
		m.must(err)
		out = append(out, b)
	}
	return out
}

// names answers what a domain name server would of one name: a text.
func names(t *testing.T, name, text string) (port int) {
	t.Helper()
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	go func() {
		b := make([]byte, 1500)
		for {
			n, from, err := c.ReadFrom(b)
			if err != nil {
				return
			}
			var q dnsmessage.Message
			if q.Unpack(b[:n]) != nil || len(q.Questions) == 0 {
				continue
			}
			q.Response, q.Authoritative = true, true
			q.Additionals = nil
			if asked := q.Questions[0]; strings.EqualFold(asked.Name.String(), name+".") &&
				asked.Type == dnsmessage.TypeTXT {
				var parts []string
				for rest := text; rest != ""; {
					n := min(len(rest), 255)
					parts, rest = append(parts, rest[:n]), rest[n:]
				}
				q.Answers = []dnsmessage.Resource{{
					Header: dnsmessage.ResourceHeader{Name: asked.Name, Type: asked.Type, Class: asked.Class, TTL: 60},
					Body:   &dnsmessage.TXTResource{TXT: parts},
				}}
			} else {
				q.RCode = dnsmessage.RCodeNameError
			}
			if packed, err := q.Pack(); err == nil {
				c.WriteTo(packed, from) // whoever asked asks again
			}
		}
	}()
	return c.LocalAddr().(*net.UDPAddr).Port
}

// verify is a reader of DKIM that is not ours: the one SpamAssassin rests on.
const verify = `use Mail::DKIM::Verifier; use Mail::DKIM::DNS; use Net::DNS::Resolver;
	Mail::DKIM::DNS::resolver(Net::DNS::Resolver->new(nameservers => ['127.0.0.1'], port => $ARGV[0], recurse => 0));
	my $v = Mail::DKIM::Verifier->new; while (<STDIN>) { s/\r?\n$//; $v->PRINT("$_\015\012") } $v->CLOSE; print $v->result_detail`

// A letter goes out by a mail server as it is in the world: it arrives, another's
// reader of DKIM finds its signature good, and another's filter finds nothing in
// it. Who is not there is refused or comes back as a report; an answer comes in.
func TestRealMail(t *testing.T) {
	w := newWorld(t, mailserver.Options{})
	w.clock.set(time.Now()) // others look at the date
	w.must(w.s.EnsureMonths(w.ctx, w.clock.Now(), w.clock.Now()))
	in, err := mail.Listen("127.0.0.1:0", func(ctx context.Context, m mail.Received) error {
		return w.e.Receive(ctx, m)
	})
	w.must(err)
	t.Cleanup(func() { in.Close() })
	m := startRealMail(t, in.Addr())
	key, err := mail.NewKey()
	w.must(err)
	signer, err := mail.NewSigner("t", key)
	w.must(err)
	sender, err := mail.NewSender(m.plain)
	w.must(err)
	t.Cleanup(sender.Close)
	sender.Signer, sender.Conns = signer, post.OutboxConns
	w.e.Mail, w.e.Signer = sender, signer
	ws := w.e.Workspace()
	ws.Name, ws.Address = "Karang Instruments", "1 Harbour Road, Port Example"
	w.must(w.e.SetWorkspace(w.ctx, ws))

	reader := func(first, email string) int64 {
		id := w.meet(store.NewPerson{First: first, Last: "Lunde", Email: email, Country: "NO"})
		w.agrees(id, true)
		return id
	}
	ana := reader("Ana", "ana@fjord.example")
	left := reader("Lea", "left@fjord.example")
	nobody := reader("Nora", "nobody@fjord.example")
	outside := reader("Otto", "otto@elsewhere.example")
	w.settle()
	news := w.newsletter(func(n *store.Mailing) {
		n.Plan.V.Rest = 0
		for day := range n.Plan.V.Hours.Days {
			n.Plan.V.Hours.Days[day] = []calendar.Interval{anyHour}
		}
	})
	w.must(w.e.LaunchMailing(w.ctx, news.ID))
	w.settle()
	until(m.t, "the letter to arrive", func() bool { return len(m.letters("ana")) == 1 })
	letter := m.letters("ana")[0]

	t.Run("it is verified", func(t *testing.T) {
		name, text, err := signer.Record("karang.example")
		w.must(err)
		cmd := exec.Command("perl", "-e", verify, fmt.Sprint(names(t, name, text)))
		cmd.Stdin = bytes.NewReader(letter)
		out, err := cmd.CombinedOutput()
		if err != nil || string(out) != "pass" {
			t.Errorf("another's reader of DKIM says %s, %v", out, err)
		}
		bent := exec.Command("perl", "-e", verify, fmt.Sprint(names(t, name, text)))
		bent.Stdin = bytes.NewReader(bytes.Replace(letter, []byte("Subject: "), []byte("Subject: Not "), 1))
		if out, err := bent.CombinedOutput(); err != nil || strings.HasPrefix(string(out), "pass") {
			t.Errorf("of a letter that was changed it says %s, %v", out, err)
		}
	})
	t.Run("it scores low", func(t *testing.T) { m.scores(t, letter) })
	t.Run("it came by TLS", func(t *testing.T) {
		if !bytes.Contains(letter, []byte("using TLSv1.3")) && !bytes.Contains(letter, []byte("using TLSv1.2")) {
			t.Errorf("it came so:\n%.600s", letter)
		}
	})
	t.Run("who is not there bounces", func(t *testing.T) {
		until(m.t, "the report", func() bool {
			w.settle()
			return w.count("select count(*) from person where bounced_at is not null and id = $1", left) == 1
		})
		if w.count("select count(*) from person where bounced_at is not null and id = $1", nobody) != 1 {
			t.Error("who was refused as unknown is not marked")
		}
		if w.count("select count(*) from person where bounced_at is not null and id = any ($1)",
			[]int64{ana, outside}) != 0 {
			t.Error("who was not at fault is marked: a relay that is denied says nothing of the reader")
		}
	})
	t.Run("an answer comes back", func(t *testing.T) {
		id := regexp.MustCompile(`(?mi)^Message-ID: (<.+>)\r?$`).FindSubmatch(letter)
		cmd := exec.Command("sendmail", "-C", m.dir+"/etc", "-f", "ana@fjord.example", "ines@karang.example")
		cmd.Env = append(os.Environ(), "MAIL_CONFIG="+m.dir+"/etc")
		cmd.Stdin = strings.NewReader(fmt.Sprintf("From: Ana Lunde <ana@fjord.example>\nTo: "+
			"ines@karang.example\nSubject: Re: News\nIn-Reply-To: %s\n\n"+
			"Please call me.\n\nOn Tue, 14 Apr 2026, Ines Radu wrote:\n> News\n", id[1]))
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		until(m.t, "the answer", func() bool {
			list, err := w.s.IncomingOf(w.ctx, store.Of(ana))
			w.must(err)
			return len(list) == 1 && list[0].Said == "Please call me." && list[0].Touch != nil && !list[0].Unsure
		})
	})
	t.Run("a certificate of one's own", func(t *testing.T) {
		l := mail.Letter{ID: "tls.1@mail.karang.example", From: "ines@karang.example", To: "ana@fjord.example",
			Subject: "x", Text: "x", Date: day0}
		for _, trusted := range []bool{false, true} {
			s, err := mail.NewAccountSender(mail.Account{Server: m.tls}, true)
			w.must(err)
			if trusted {
				s.Trust = m.trust
			}
			fate, err := s.Send(w.ctx, l)
			if s.Close(); (fate == mail.Taken) != trusted {
				t.Errorf("trusted %v: %s, %v", trusted, fate, err)
			}
			if !trusted && !strings.HasSuffix(err.Error(), "its certificate is by nobody that is trusted here") {
				t.Errorf("it says %v", err)
			}
		}
	})
	t.Run("a letter by hand scores low", func(t *testing.T) {
		w.must(w.e.SendByHand(w.ctx,
			post.ByHand{Person: ana, Subject: "The limits you asked for", Once: "0123456789abcdef",
				Text: "Dear {{ person.first_name }},\n\nthank you for your call. I will send you the limits on " +
					"Monday.\n\nWith kind regards"}, w.rep1))
		w.settle()
		var byHand []byte
		until(m.t, "it to arrive", func() bool {
			for _, l := range m.letters("ana") {
				if bytes.Contains(l, []byte("The limits you asked for")) {
					byHand = l
				}
			}
			return byHand != nil
		})
		m.scores(t, byHand)
	})
}

// scores has a letter scored by another's rules, those that ask nobody.
func (m *realMail) scores(t *testing.T, letter []byte) {
	t.Helper()
	cmd := exec.Command("spamassassin", "--local", "--test-mode")
	cmd.Stdin = bytes.NewReader(letter)
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	found := regexp.MustCompile(`X-Spam-Status: \w+, score=(-?[0-9.]+)`).FindSubmatch(out)
	if found == nil {
		t.Fatalf("no score in %.1000s", out)
	}
	score, err := strconv.ParseFloat(string(found[1]), 64)
	if bytes.Contains(out, []byte("ALL_TRUSTED")) {
		score++ // that it came from this machine counts for it, and would not elsewhere
	}
	if report := regexp.MustCompile(`(?s)Content analysis details:.*`).Find(out); err != nil || score >= 1 {
		t.Errorf("it scores %s: %s", found[1], report)
	}
	t.Logf("it scores %.1f", score)
}
