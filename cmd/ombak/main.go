// Command ombak is all of Ombak in one program.
package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/right"
	"ombak/internal/demo"
	"ombak/internal/engine"
	"ombak/internal/engine/base"
	"ombak/internal/engine/post"
	"ombak/internal/finder"
	"ombak/internal/mail"
	"ombak/internal/network"
	"ombak/internal/password"
	"ombak/internal/phone"
	"ombak/internal/seal"
	addresses "ombak/internal/standin/finder"
	peoplenet "ombak/internal/standin/network"
	exchange "ombak/internal/standin/phone"
	"ombak/internal/standin/website"
	"ombak/internal/store"
	"ombak/internal/store/server"
	"ombak/internal/web"
	"ombak/internal/web/shell"
)

func main() {
	command := "help"
	if len(os.Args) > 1 {
		command = os.Args[1]
	}
	c, err := readConfig(os.Environ())
	if err != nil {
		die(err)
	}
	c.logTo(os.Stderr)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	run := map[string]func(context.Context, config) error{
		"demo": runDemo, "serve": runServe, "work": runWork, "migrate": runMigrate, "user": runUser, "bench": runBench,
		"trace": runTrace, "check": runCheck, "score": runScore,
		"help": func(context.Context, config) error { usage(os.Stdout); return nil },
	}[command]
	if run == nil {
		usage(os.Stderr)
		die(fmt.Errorf("there is no command %q", command))
	}
	if err := run(ctx, c); err != nil && !errors.Is(err, context.Canceled) {
		die(err)
	}
}

// open opens the database that is named, or starts an own server. The function
// it answers closes both.
func open(ctx context.Context, c config, p store.Pool) (*store.Store, func(), error) {
	address, stop := c["OMBAK_DATABASE_URL"], func() {}
	if address == "" {
		home, err := c.home()
		if err != nil {
			return nil, nil, err
		}
		srv, err := server.Start(ctx, server.Options{Dir: filepath.Join(home, "postgres")})
		if err != nil {
			return nil, nil, err
		}
		address = srv.URL
		stop = func() {
			if err := srv.Stop(); err != nil {
				slog.Error("stopping PostgreSQL", "error", err)
			}
		}
	}
	s, err := store.OpenPatiently(ctx, address, p, time.Minute)
	if err != nil {
		stop()
		return nil, nil, err
	}
	return s, func() { s.Close(); stop() }, nil
}

// listen listens at a setting's address. The usual port gives way to a free
// one where it is taken; one that was set by hand does not.
func listen(c config, name string) (net.Listener, error) {
	l, err := net.Listen("tcp", c.get(name))
	if err == nil {
		return l, nil
	}
	if !errors.Is(err, syscall.EADDRINUSE) || c.set(name) {
		return nil, fmt.Errorf("%s: %s cannot be listened at: %w", name, c.get(name), err)
	}
	host, _, err := net.SplitHostPort(c.get(name))
	if err != nil {
		return nil, err
	}
	return net.Listen("tcp", net.JoinHostPort(host, "0"))
}

// free is the address that listen would take.
func free(c config, name string) (string, error) {
	l, err := listen(c, name)
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

func (c config) url(l net.Listener) string {
	if u := c["OMBAK_URL"]; u != "" {
		return strings.TrimSuffix(u, "/")
	}
	if c.set("OMBAK_TLS_CERT") {
		return "https://" + l.Addr().String()
	}
	return "http://" + l.Addr().String()
}

func (c config) zone(usual string) *time.Location {
	name := c["OMBAK_ZONE"]
	if name == "" {
		name = usual
	}
	loc, err := time.LoadLocation(name)
	if err != nil {
		return time.UTC // checked when it was read
	}
	return loc
}

// interfaceOf is the interface over HTTP, as the settings have it.
func interfaceOf(ctx context.Context, c config, s *store.Store, e *engine.Engine, d shell.Demo) (*web.Server, error) {
	proxies, err := parseNetworks(c.get("OMBAK_PROXIES"))
	if err != nil {
		return nil, err
	}
	x := web.New(ctx, shell.Config{
		Store: s, Engine: e, Demo: d, Secure: strings.HasPrefix(e.URL, "https:"), Proxies: proxies,
	})
	if !c.set("OMBAK_METRICS_ADDR") {
		return x, nil
	}
	l, err := net.Listen("tcp", c.get("OMBAK_METRICS_ADDR"))
	if err != nil {
		return nil, fmt.Errorf("OMBAK_METRICS_ADDR: %w", err)
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", x.Metrics())
	go func() {
		if err := serve(ctx, l, mux); err != nil && ctx.Err() == nil {
			slog.Error("the figures are no longer answered", "error", err)
		}
	}()
	return x, nil
}

// tlsListener has a listener speak TLS where a certificate is set.
func tlsListener(c config, l net.Listener) (net.Listener, error) {
	if !c.set("OMBAK_TLS_CERT") && !c.set("OMBAK_TLS_KEY") {
		return l, nil
	}
	pair, err := tls.LoadX509KeyPair(c.get("OMBAK_TLS_CERT"), c.get("OMBAK_TLS_KEY"))
	if err != nil {
		return nil, fmt.Errorf("OMBAK_TLS_CERT and OMBAK_TLS_KEY: %w", err)
	}
	return tls.NewListener(l, &tls.Config{
		Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
	}), nil
}

// atEase has memory be gathered seldom, so that no page and no batch waits for it: what serves and works holds little,
// and may hold some hundred megabytes meanwhile. GOGC and GOMEMLIMIT say otherwise.
func atEase() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(800)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(1 << 30)
	}
}

// serve answers over HTTP until ctx ends, then lets what is being answered finish.
func serve(ctx context.Context, l net.Listener, h http.Handler) error {
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		WriteTimeout: 2 * time.Minute, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		BaseContext: func(net.Listener) context.Context { return ctx }}
	failed := make(chan error, 1)
	go func() { failed <- srv.Serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	end, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := srv.Shutdown(end); err != nil {
		return srv.Close() // open event streams do not end by themselves
	}
	return nil
}

func runMigrate(ctx context.Context, c config) error {
	s, end, err := open(ctx, c, store.Pool{Most: 4, Share: 24})
	if err != nil {
		return err
	}
	defer end()
	return s.Migrate(ctx)
}

func runUser(ctx context.Context, c config) error {
	if len(os.Args) != 5 {
		return errors.New("ombak user NAME EMAIL ROLE, the password on standard input")
	}
	email, err := person.Email(os.Args[3])
	if err != nil {
		return err
	}
	role := os.Args[4]
	if err := oneOf("marketer", "rep", "lead", "admin")(role); err != nil {
		return fmt.Errorf("the role is %q, but %w", role, err)
	}
	var typed string
	if _, err := fmt.Fscanln(os.Stdin, &typed); err != nil || len(typed) < 10 {
		return errors.New("the password on standard input has at least 10 letters")
	}
	s, end, err := open(ctx, c, store.Pool{Most: 4, Share: 24})
	if err != nil {
		return err
	}
	defer end()
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	_, err = s.AddUser(ctx,
		store.User{Name: person.Name(os.Args[2]), Email: email, Role: right.Role(role),
			PasswordHash: password.Hash(typed)},
		time.Now().UTC())
	return err
}

// signer reads the key that signs letters, which is made at the first start.
func signer(ctx context.Context, s *store.Store) (*mail.Signer, error) {
	var key string
	there, err := s.Setting(ctx, "dkim_key", &key)
	if err != nil {
		return nil, err
	}
	if !there {
		if key, err = mail.NewKey(); err != nil {
			return nil, err
		}
		if err := s.InitSetting(ctx, "dkim_key", key); err != nil {
			return nil, err
		}
		if _, err := s.Setting(ctx, "dkim_key", &key); err != nil { // another process may have been first
			return nil, err
		}
	}
	return mail.NewSigner("ombak", key)
}

// sealKey is the key that passwords are kept with. earlier is the file of the
// one whose place it has taken; empty where there is none.
func sealKey(c config) (key *seal.Key, earlier string, err error) {
	if text := c.get("OMBAK_SECRET"); text != "" {
		if key, err = seal.Parse(text); err != nil || !c.set("OMBAK_SECRET_BEFORE") {
			return key, "", err
		}
		before, err := seal.Parse(c.get("OMBAK_SECRET_BEFORE"))
		return key.After(before), "", err
	}
	home, err := c.home()
	if err != nil {
		return nil, "", err
	}
	if key, err = seal.File(filepath.Join(home, "key")); err != nil {
		return nil, "", err
	}
	earlier = filepath.Join(home, "secret")
	if _, err := os.Stat(earlier); err != nil {
		return key, "", nil
	}
	before, err := seal.File(earlier)
	return key.After(before), earlier, err
}

func newEngine(
	ctx context.Context, c config, s *store.Store, clock base.Clock, url, mailOut, zone string,
) (*engine.Engine, func(), error) {
	sender, err := mail.NewSender(mailOut)
	if err != nil {
		return nil, nil, err
	}
	if sender.Signer, err = signer(ctx, s); err != nil {
		return nil, nil, err
	}
	trust, err := c.trust()
	if err != nil {
		return nil, nil, err
	}
	sender.Trust, sender.Conns = trust, post.OutboxConns
	key, earlier, err := sealKey(c)
	if err != nil {
		return nil, nil, err
	}
	var outside base.Network
	if c.get("OMBAK_NETWORK_URL") != "" {
		outside = &network.Client{URL: c.get("OMBAK_NETWORK_URL"), Token: c.get("OMBAK_NETWORK_TOKEN")}
	}
	var calls base.Phone
	if c.get("OMBAK_PHONE_URL") != "" {
		calls = &phone.Client{URL: c.get("OMBAK_PHONE_URL"), Token: c.get("OMBAK_PHONE_TOKEN")}
	}
	var finds base.Finder
	if c.get("OMBAK_FINDER_URL") != "" {
		finds = &finder.Client{URL: c.get("OMBAK_FINDER_URL"), Token: c.get("OMBAK_FINDER_TOKEN")}
	}
	e, err := engine.New(ctx, base.Config{
		Network: outside, Phone: calls, Finder: finds,
		Seal: key, Store: s, Clock: clock, Mail: sender, Signer: sender.Signer, URL: url,
		Domain: c.get("OMBAK_MAIL_DOMAIN"),
		Zone:   c.zone(zone), Trust: trust, PrivateServers: c.get("OMBAK_PRIVATE_SERVERS") == "yes",
	})
	if err != nil {
		return nil, nil, err
	}
	if n, err := e.Reseal(ctx); err != nil {
		return nil, nil, fmt.Errorf("sealing passwords with the new key: %w", err)
	} else if n > 0 {
		slog.Info("passwords of mail servers are sealed with the new key", "count", n)
	}
	if earlier != "" {
		if err := os.Remove(earlier); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, nil, err
		}
	}
	return e, sender.Close, nil
}

func runServe(ctx context.Context, c config) error {
	atEase()
	s, end, err := open(ctx, c, store.Pool{Most: 16, Share: 6})
	if err != nil {
		return err
	}
	defer end()
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	l, err := listen(c, "OMBAK_ADDR")
	if err != nil {
		return err
	}
	e, closeMail, err := newEngine(ctx, c, s, base.SystemClock{}, c.url(l), c.get("OMBAK_MAIL_OUT"), "UTC")
	if err != nil {
		return err
	}
	defer closeMail()
	if err := s.EnsureMonths(ctx, e.Now(), e.Now().AddDate(0, 3, 0)); err != nil {
		return err
	}
	in, err := mail.Listen(c.get("OMBAK_MAIL_IN"), e.Receive)
	if err != nil {
		return err
	}
	defer in.Close()
	x, err := interfaceOf(ctx, c, s, e, nil)
	if err != nil {
		return err
	}
	slog.Info("Ombak answers", "at", e.URL, "mail in", in.Addr())
	first, err := e.FirstAddress(ctx)
	if err != nil {
		return err
	}
	if first != "" {
		fmt.Printf("\nNobody works here yet. Whoever opens this address first becomes the admin:\n\n  %s\n\n", first)
	}
	tl, err := tlsListener(c, l)
	if err != nil {
		return err
	}
	h := x.Handler()
	go func() {
		if err := x.Warm(ctx); err != nil && ctx.Err() == nil {
			slog.Warn("whoever asks first waits for what is counted over everybody", "error", err)
		}
		if err := x.Rehearse(ctx); err != nil && ctx.Err() == nil {
			slog.Warn("whoever comes first waits a little longer for some pages", "error", err)
		}
	}()
	return serve(ctx, tl, h)
}

func runWork(ctx context.Context, c config) error {
	atEase()
	s, end, err := open(ctx, c, store.Pool{Most: 8, Share: 24})
	if err != nil {
		return err
	}
	defer end()
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	var clock base.Clock = base.SystemClock{}
	if c.get("OMBAK_CLOCK") == "demo" {
		if clock, err = base.NewHandClock(ctx, s, demo.Start); err != nil {
			return err
		}
	}
	url := c["OMBAK_URL"]
	if url == "" {
		url = "http://" + c.get("OMBAK_ADDR")
	}
	e, closeMail, err := newEngine(ctx, c, s, clock, strings.TrimSuffix(url, "/"), c.get("OMBAK_MAIL_OUT"), "UTC")
	if err != nil {
		return err
	}
	defer closeMail()
	if err := s.EnsureMonths(ctx, e.Now(), e.Now().AddDate(0, 3, 0)); err != nil {
		return err
	}
	slog.Info("working")
	return e.Work(ctx)
}

func runDemo(ctx context.Context, c config) error {
	began := time.Now()
	home, err := c.home()
	if err != nil {
		return err
	}
	s, end, err := open(ctx, c, store.Pool{Most: 20, Share: 4})
	if err != nil {
		return err
	}
	defer end()
	if err := s.Migrate(ctx); err != nil {
		return err
	}
	half, err := demo.CutOff(ctx, s)
	if err != nil {
		return err
	}
	if half {
		slog.Warn("the demo was cut off while it was made, and is made anew")
		if err := errors.Join(s.Reset(ctx), os.RemoveAll(filepath.Join(home, "mailbox")),
			os.RemoveAll(filepath.Join(home, "network"))); err != nil {
			return err
		}
		if err := s.Migrate(ctx); err != nil {
			return err
		}
	}
	clock, err := base.NewHandClock(ctx, s, demo.Start.AddDate(0, 0, -demo.Lived))
	if err != nil {
		return err
	}
	l, err := listen(c, "OMBAK_ADDR")
	if err != nil {
		return err
	}
	inAddr, err := free(c, "OMBAK_MAIL_IN")
	if err != nil {
		return err
	}
	boxes, err := listen(c, "OMBAK_MAILBOX_ADDR")
	if err != nil {
		return err
	}
	site, err := listen(c, "OMBAK_SITE_ADDR")
	if err != nil {
		return err
	}
	social, err := listen(c, "OMBAK_NETWORK_ADDR")
	if err != nil {
		return err
	}
	seed, err := strconv.ParseUint(c.get("OMBAK_SEED"), 10, 64)
	if err != nil {
		return err
	}
	for _, name := range []string{"OMBAK_NETWORK", "OMBAK_PHONE", "OMBAK_FINDER"} {
		c[name+"_URL"], c[name+"_TOKEN"] = "http://"+social.Addr().String(), demo.Password
	}
	people, err := peoplenet.New(peoplenet.Options{Seed: seed, Now: clock.Now, Token: demo.Password,
		File: filepath.Join(home, "network")})
	if err != nil {
		return err
	}
	d, close, err := demo.Open(ctx, demo.Surroundings{Store: s, Clock: clock, Seed: seed,
		Letters: filepath.Join(home, "mailbox"), MailIn: inAddr,
		Readers: "http://" + boxes.Addr().String(), Site: "http://" + site.Addr().String(),
		Engine: func(out string) (*engine.Engine, func(), error) {
			return newEngine(ctx, c, s, clock, c.url(l), out, demo.Zone)
		}})
	if err != nil {
		return err
	}
	defer close()
	e, world := d.Engine, d.World

	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	failed := make(chan error, 5)
	face, err := interfaceOf(inner, c, s, e, d)
	if err != nil {
		return err
	}
	tl, err := tlsListener(c, l)
	if err != nil {
		return err
	}
	go func() { failed <- serve(inner, tl, face.Handler()) }()
	go func() { failed <- serve(inner, boxes, world.View) }()
	go func() { failed <- serve(inner, site, website.Handler(e.URL)) }()
	go func() { failed <- serve(inner, social, outsideWorld(people.Handler(), seed)) }()
	if err := e.AddSite(ctx, d.Site); err != nil {
		return err
	}
	if err := e.Register(ctx); err != nil {
		return err
	}
	defer e.Unregister()
	if err := d.Load(ctx); err != nil {
		return fmt.Errorf("loading the demo: %w", err)
	}
	fmt.Printf(`
Ombak's demo is ready, after %.1f s.

  Ombak             %s
  Readers' mailbox  %s
  A page            %s/p/oxygen-alarms
  Company's site    %s
  Mail out          %s (for more workers: OMBAK_CLOCK=demo OMBAK_MAIL_OUT=%s OMBAK_URL=%s bin/ombak work)

Sign in with one press, or by address; everybody's password is %s
`, time.Since(began).Seconds(), e.URL, d.Readers, e.URL, d.Site, world.Mail.Addr(), world.Mail.Addr(), e.URL,
		demo.Password)
	faces, err := d.Faces(ctx)
	if err != nil {
		return err
	}
	for _, u := range faces {
		fmt.Printf("  %-10s %s\n", u.Role, u.Email)
	}
	fmt.Println("\nCtrl-C ends it, with all that it started.")
	working := make(chan error, 1)
	go func() { working <- e.Work(inner) }()
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	d.Stop()
	cancel()
	<-working
	return err
}

// outsideWorld is the network, the phone and the finder of addresses of a demo, at one address.
func outsideWorld(people http.Handler, seed uint64) http.Handler {
	mux := http.NewServeMux()
	mux.Handle("/", people)
	mux.Handle("/v1/calls/", exchange.New(exchange.Options{Seed: seed, Token: demo.Password, Now: time.Now}).Handler())
	mux.Handle("/v1/find", addresses.Handler(addresses.Options{Seed: seed, Token: demo.Password}))
	return mux
}
