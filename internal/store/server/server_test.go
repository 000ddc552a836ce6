package server

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

func folder(t *testing.T) string {
	t.Helper()
	// Not t.TempDir: the server may run as another user, who must be able to pass through.
	dir, err := os.MkdirTemp("/tmp", "ombak-server-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, "postgres")
}

func query(t *testing.T, url, sql string) (string, error) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return "", err
	}
	defer c.Close(ctx)
	var s string
	err = c.QueryRow(ctx, sql).Scan(&s)
	return s, err
}

func TestStartStopAndAgain(t *testing.T) {
	dir := folder(t)
	a, err := Start(t.Context(), Options{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := query(t, a.URL, "create table kept as select 'still here' as word; "); err != nil &&
		!strings.Contains(err.Error(), "no rows") {
		t.Fatal(err)
	}
	if got, err := query(t, a.URL, "show listen_addresses"); err != nil || got != "127.0.0.1" {
		t.Errorf("listens at %q, %v", got, err)
	}
	if _, err := query(t, strings.Replace(a.URL, "ombak:", "ombak:not", 1), "select 'in'"); err == nil {
		t.Error("a wrong password was taken")
	}

	// Another process on the same folder uses the server that runs, and leaves it running.
	b, err := Start(t.Context(), Options{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	if b.URL != a.URL {
		t.Errorf("a second server was started: %s", b.URL)
	}
	if err := b.Stop(); err != nil {
		t.Fatal(err)
	}
	if _, err := query(t, a.URL, "select 'alive'"); err != nil {
		t.Errorf("the one who borrowed it stopped it: %v", err)
	}

	if err := a.Stop(); err != nil {
		t.Fatal(err)
	}
	if _, err := query(t, a.URL, "select 'alive'"); err == nil {
		t.Error("stopped, it still answers")
	}
	c, err := Start(t.Context(), Options{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Stop()
	if got, err := query(t, c.URL, "select word from kept"); err != nil || got != "still here" {
		t.Errorf("after a second start: %q, %v", got, err)
	}
}

func TestAHalfMadeFolderIsMadeAnew(t *testing.T) {
	dir := folder(t)
	if err := os.MkdirAll(filepath.Join(dir, "data", "base"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "password"), []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	s, err := Start(t.Context(), Options{Dir: dir, Throwaway: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	if got, err := query(t, s.URL, "select 'alive'"); err != nil || got != "alive" {
		t.Errorf("%q, %v", got, err)
	}
}

// TestItGoesWithWhoStartedIt kills the process that started a server; the server must go too.
func TestItGoesWithWhoStartedIt(t *testing.T) {
	if dir := os.Getenv("OMBAK_TEST_SERVER_DIR"); dir != "" { // the process to be killed
		s, err := Start(context.Background(), Options{Dir: dir, Throwaway: true})
		if err != nil {
			t.Fatal(err)
		}
		os.WriteFile(filepath.Join(filepath.Dir(dir), "url"), []byte(s.URL), 0o600)
		time.Sleep(time.Minute)
		return
	}
	dir := folder(t)
	cmd := exec.Command(os.Args[0], "-test.run", "^TestItGoesWithWhoStartedIt$")
	cmd.Env = append(os.Environ(), "OMBAK_TEST_SERVER_DIR="+dir)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var url []byte
	for deadline := time.Now().Add(40 * time.Second); len(url) == 0; time.Sleep(50 * time.Millisecond) {
		url, _ = os.ReadFile(filepath.Join(filepath.Dir(dir), "url"))
		if time.Now().After(deadline) {
			cmd.Process.Kill()
			t.Fatal("the server never started")
		}
	}
	if _, err := query(t, string(url), "select 'alive'"); err != nil {
		t.Fatal(err)
	}
	cmd.Process.Kill()
	cmd.Wait() // killed: that is the error
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if _, err := query(t, string(url), "select 'alive'"); err != nil {
			return
		}
		if time.Now().After(deadline) {
			t.Fatal("the server outlives who started it")
		}
	}
}

// A server whose password may be known gets another, once, also where that was
// cut off half way.
func TestANewPassword(t *testing.T) {
	dir := folder(t)
	read := func() string {
		b, err := os.ReadFile(filepath.Join(dir, "password"))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	again := func() *Server {
		t.Helper()
		s, err := Start(t.Context(), Options{Dir: dir, Throwaway: true})
		if err != nil {
			t.Fatal(err)
		}
		if got, err := query(t, s.URL, "select 'in'"); err != nil || got != "in" {
			t.Errorf("the address does not lead in: %v", err)
		}
		return s
	}
	stop := func(s *Server) {
		if err := s.Stop(); err != nil {
			t.Fatal(err)
		}
	}
	stop(again())
	first := read()
	stop(again())
	if read() != first {
		t.Error("a fresh one changed its password")
	}
	os.Remove(filepath.Join(dir, "password.renewed")) // as an earlier version left it
	s := again()
	second := read()
	if second == first {
		t.Error("the password stayed")
	}
	if _, err := query(t, strings.Replace(s.URL, second, first, 1), "select 'in'"); err == nil {
		t.Error("the earlier password still opens it")
	}
	stop(s)
	stop(again())
	if read() != second {
		t.Error("it changed twice")
	}
	// Cut off between the server's change and the file's.
	os.Remove(filepath.Join(dir, "password.renewed"))
	if err := os.Rename(filepath.Join(dir, "password"), filepath.Join(dir, "password.next")); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "password"), []byte(first), 0o600); err != nil {
		t.Fatal(err)
	}
	stop(again())
	stop(again())
}

// A server that is killed is there again, on the same address, with its data.
func TestItComesBack(t *testing.T) {
	s, err := Start(t.Context(), Options{Dir: folder(t)})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Stop()
	if _, err := query(t, s.URL, "create table kept as select 'still here' as word"); err != nil &&
		!strings.Contains(err.Error(), "no rows") {
		t.Fatal(err)
	}
	s.mu.Lock()
	err = s.cmd.Process.Kill()
	s.mu.Unlock()
	if err != nil {
		t.Fatal(err)
	}
	var word string
	for deadline := time.Now().Add(40 * time.Second); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		if word, err = query(t, s.URL, "select word from kept"); err == nil {
			break
		}
	}
	if word != "still here" {
		t.Errorf("after it was killed: %q, %v", word, err)
	}
}
