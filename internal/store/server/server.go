// Package server runs a private PostgreSQL server on loopback, from the
// programs of Debian's packages, with a data directory of its own.
//
// PostgreSQL refuses to run as root; where this process is root, the server
// runs as the user postgres that Debian's package makes.
package server

import (
	"context"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Server is a running server.
type Server struct {
	URL string

	mu       sync.Mutex
	cmd      *exec.Cmd // nil: somebody else's
	stopping bool
	up       bool       // it has answered once, and is started again where it ends
	done     chan error // it has ended for good
}

// Options say how to run it.
type Options struct {
	Dir string // where its data lie; made if it is not there

	// Throwaway gives up durability for speed: for tests, whose data nobody wants back.
	Throwaway bool
}

// ErrMissing is answered where PostgreSQL's programs are not installed.
var ErrMissing = errors.New("PostgreSQL is not installed: install Debian's package postgresql")

// Start starts the server on a free port of 127.0.0.1, making its data
// directory first where there is none. Where another process already runs a
// server on that directory, that one is used and Stop leaves it alone.
func Start(ctx context.Context, o Options) (*Server, error) {
	bin, err := programs()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	who, err := owner()
	if err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("making the database's directory: %w", err)
	}
	if who != nil {
		if err := os.Chown(dir, int(who.Uid), int(who.Gid)); err != nil {
			return nil, fmt.Errorf("giving %s to the user postgres: %w", dir, err)
		}
		if err := reachable(ctx, dir, who); err != nil {
			return nil, err
		}
	}
	password, fresh, err := secret(filepath.Join(dir, "password"))
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err != nil {
		if !fresh {
			// A first start that was cut off may have left half a directory.
			if err := os.RemoveAll(data); err != nil {
				return nil, err
			}
		}
		known := password
		if o.Throwaway {
			if known, err = quick(password); err != nil {
				return nil, err
			}
		}
		if err := initialise(ctx, bin, dir, data, known, who); err != nil {
			return nil, err
		}
	}
	if s := adopt(ctx, data, password); s != nil {
		return s, nil
	}
	s, err := start(ctx, bin, dir, data, password, who, o)
	if err != nil {
		return nil, err
	}
	if err := s.renew(ctx, dir, fresh); err != nil {
		return nil, errors.Join(fmt.Errorf("giving the database a new password: %w", err), s.Stop())
	}
	return s, nil
}

// renewals counts how often passwords had to be given up so far: each server
// gets a new one where it has had fewer.
const renewals = "1"

// renew gives a server that an earlier version of Ombak has made a new
// password, once.
func (s *Server) renew(ctx context.Context, dir string, fresh bool) error {
	mark, file := filepath.Join(dir, "password.renewed"), filepath.Join(dir, "password")
	if b, err := os.ReadFile(mark); err == nil && strings.TrimSpace(string(b)) == renewals {
		return nil
	}
	if !fresh {
		password := rand.Text()
		next := file + ".next"
		if err := os.WriteFile(next, []byte(password), 0o600); err != nil {
			return err
		}
		c, err := pgx.Connect(ctx, s.URL)
		if err != nil {
			return err
		}
		defer c.Close(ctx)
		// rand.Text is letters and digits alone.
		if _, err := c.Exec(ctx, "alter role ombak password '"+password+"'"); err != nil {
			return err
		}
		if err := os.Rename(next, file); err != nil {
			return err
		}
		u, err := url.Parse(s.URL)
		if err != nil {
			return err
		}
		u.User = url.UserPassword("ombak", password)
		s.URL = u.String()
	}
	return os.WriteFile(mark, []byte(renewals+"\n"), 0o600)
}

// buffers is the memory that the server keeps pages in: a quarter of the
// machine's, as PostgreSQL's manual advises (section 20.4), up to 4 GB.
func buffers(o Options) string {
	const least, most = 128, 4096
	var info syscall.Sysinfo_t
	if o.Throwaway || syscall.Sysinfo(&info) != nil {
		return strconv.Itoa(least) + "MB"
	}
	machine := info.Totalram * uint64(info.Unit)
	// A container may have less than its machine.
	if limit, err := os.ReadFile("/sys/fs/cgroup/memory.max"); err == nil {
		if n, err := strconv.ParseUint(strings.TrimSpace(string(limit)), 10, 64); err == nil {
			machine = min(machine, n)
		}
	}
	return strconv.FormatUint(max(least, min(machine/4>>20, most)), 10) + "MB"
}

func start(ctx context.Context, bin, dir, data, password string, who *syscall.Credential, o Options) (*Server, error) {
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	args := []string{"-D", data, "-h", "127.0.0.1", "-p", strconv.Itoa(port), "-c", "unix_socket_directories=",
		"-c", "max_connections=100", "-c", "shared_buffers=" + buffers(o), "-c", "max_wal_size=2GB", "-c",
		"wal_compression=on",
		"-c", "timezone=UTC", "-c", "log_min_messages=warning", "-c", "log_checkpoints=off"}
	if o.Throwaway {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	s := &Server{URL: address(port, password), done: make(chan error, 1)}
	started := make(chan error, 1)
	go s.run(started, func() (*exec.Cmd, error) {
		logFile, err := os.OpenFile(filepath.Join(dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			return nil, err
		}
		defer logFile.Close()
		cmd := exec.Command(filepath.Join(bin, "postgres"), args...)
		cmd.Dir = dir
		cmd.Stdout, cmd.Stderr = logFile, logFile
		// Its own process group: Ctrl-C at the terminal is for us, and we stop it in our time. Where we are killed, the
		// kernel stops it in our place.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGINT, Credential: who}
		return cmd, cmd.Start()
	})
	if err := <-started; err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	deadline := time.Now().Add(30 * time.Second)
	for {
		if err = ping(ctx, s.URL); err == nil {
			s.mu.Lock()
			s.up = true
			s.mu.Unlock()
			return s, nil
		}
		// Cut off while it got a new password, the server may have that one already.
		if next, rerr := os.ReadFile(filepath.Join(dir, "password.next")); rerr == nil {
			if other := address(port, string(next)); ping(ctx, other) == nil {
				s.mu.Lock()
				s.URL, s.up = other, true
				s.mu.Unlock()
				return s, nil
			}
		}
		select {
		case <-ctx.Done():
			s.Stop()
			return nil, ctx.Err()
		case werr := <-s.done:
			return nil, fmt.Errorf("PostgreSQL ended while starting (%v): see %s", werr, filepath.Join(dir, "log"))
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			s.Stop()
			return nil, fmt.Errorf("PostgreSQL did not answer within 30 s: %w", err)
		}
	}
}

// run runs the server until it is stopped. One that ends by itself, after it
// has answered once, is started again on the same port: whoever is connected
// finds it there.
func (s *Server) run(started chan<- error, start func() (*exec.Cmd, error)) {
	// The kernel means the thread that started it, not the process: keep that one as long as the server lives.
	runtime.LockOSThread()
	for first := true; ; first = false {
		cmd, err := start()
		if err == nil {
			s.mu.Lock()
			s.cmd = cmd
			stopping := s.stopping
			s.mu.Unlock()
			if stopping { // while it was started again
				cmd.Process.Signal(syscall.SIGINT)
			}
		}
		if first {
			started <- err
			if err != nil {
				return
			}
		}
		if err == nil {
			err = cmd.Wait()
		}
		s.mu.Lock()
		over := s.stopping || !s.up
		s.mu.Unlock()
		if over {
			s.done <- err
			return
		}
		slog.Error("PostgreSQL has ended by itself and is started again", "error", err)
		time.Sleep(500 * time.Millisecond)
	}
}

// Stop ends the server and waits until it is gone. Stopping one that was
// already running when Start came does nothing.
func (s *Server) Stop() error {
	if s == nil {
		return nil
	}
	s.mu.Lock()
	cmd := s.cmd
	s.stopping = true
	s.mu.Unlock()
	if cmd == nil {
		return nil
	}
	// Fast: ends connections, keeps data. One that has ended just now is not started again.
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-s.done:
		return nil
	case <-time.After(20 * time.Second):
		return cmd.Process.Kill()
	}
}

// adopt finds a server that already runs on the data directory.
func adopt(ctx context.Context, data, password string) *Server {
	b, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return nil
	}
	lines := strings.Split(string(b), "\n")
	if len(lines) < 4 {
		return nil
	}
	port, err := strconv.Atoi(strings.TrimSpace(lines[3]))
	if err != nil {
		return nil
	}
	s := &Server{URL: address(port, password)}
	if ping(ctx, s.URL) != nil {
		return nil
	}
	return s
}

// quick is a password as the server may be told it, in the form of RFC 5803, with fewer rounds of stretching than
// is usual: a test opens a dozen connections, and each round is reckoned on both sides.
func quick(password string) (string, error) {
	const rounds = 8
	salt := make([]byte, 16)
	rand.Read(salt)
	salted, err := pbkdf2.Key(sha256.New, password, salt, rounds, sha256.Size)
	if err != nil {
		return "", err
	}
	keyed := func(words string) []byte {
		h := hmac.New(sha256.New, salted)
		h.Write([]byte(words))
		return h.Sum(nil)
	}
	stored := sha256.Sum256(keyed("Client Key"))
	b := base64.StdEncoding
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", rounds, b.EncodeToString(salt), b.EncodeToString(stored[:]),
		b.EncodeToString(keyed("Server Key"))), nil
}

func initialise(ctx context.Context, bin, dir, data, password string, who *syscall.Credential) error {
	pw := filepath.Join(dir, "password.init")
	if err := os.WriteFile(pw, []byte(password), 0o600); err != nil {
		return err
	}
	defer os.Remove(pw)
	if who != nil {
		if err := os.Chown(pw, int(who.Uid), int(who.Gid)); err != nil {
			return err
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", data, "-U", "ombak", "-A", "scram-sha-256",
		"--pwfile", pw, "-E", "UTF8", "--lc-collate=C", "--lc-ctype=C.UTF-8", "--no-sync", "--no-instructions")
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("making the database: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

func address(port int, password string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword("ombak", password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)),
		Path: "/postgres", RawQuery: "sslmode=disable"}
	return u.String()
}

func ping(ctx context.Context, address string) error {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	c, err := pgx.Connect(ctx, address)
	if err != nil {
		return err
	}
	return c.Close(ctx)
}

// programs finds the newest of Debian's installed versions.
func programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	sort.Slice(found, func(i, j int) bool { return version(found[i]) > version(found[j]) })
	if len(found) > 0 {
		return filepath.Dir(found[0]), nil
	}
	p, err := exec.LookPath("postgres")
	if err != nil {
		return "", ErrMissing
	}
	if p, err = filepath.EvalSymlinks(p); err != nil {
		return "", ErrMissing
	}
	return filepath.Dir(p), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// owner is who the server has to run as, nil for ourselves.
func owner() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("%w (as root its user postgres is needed)", ErrMissing)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// reachable checks that the user who will run the server can come to dir.
func reachable(ctx context.Context, dir string, who *syscall.Credential) error {
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", `test -w "$0"`, dir)
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	if cmd.Run() != nil {
		return fmt.Errorf("the user postgres cannot come to %s: set OMBAK_HOME to a folder that other users may pass "+
			"through, such as one under /var/lib", dir)
	}
	return nil
}

// secret reads the password, or makes one.
func secret(file string) (password string, fresh bool, err error) {
	if b, err := os.ReadFile(file); err == nil && len(b) > 0 {
		return strings.TrimSpace(string(b)), false, nil
	}
	password = rand.Text()
	return password, true, os.WriteFile(file, []byte(password), 0o600)
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
