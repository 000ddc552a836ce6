package mail

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"io"
	"math/big"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// certificate makes one for a name, by itself, and the pool that trusts it.
func certificate(t *testing.T, name string) (tls.Certificate, *x509.CertPool) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, IsCA: true,
		BasicConstraintsValid: true,
		NotBefore:             time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, &c, &c, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	made, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AddCert(made)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, pool
}

// secured takes letters and lets everybody in; it notes over what they came.
type secured struct {
	conn *smtp.Conn
	came *[]string
}

func (s *secured) Reset()                               {}
func (s *secured) Logout() error                        { return nil }
func (s *secured) Mail(string, *smtp.MailOptions) error { return nil }
func (s *secured) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (s *secured) AuthMechanisms() []string             { return []string{sasl.Plain} }
func (s *secured) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, _, _ string) error { return nil }), nil
}

func (s *secured) Data(r io.Reader) error {
	how := "plain"
	if _, ok := s.conn.TLSConnectionState(); ok {
		how = "TLS"
	}
	*s.came = append(*s.came, how)
	_, err := io.Copy(io.Discard, r)
	return err
}

// securedServer runs one, with TLS from the first byte or by an upgrade.
func securedServer(t *testing.T, config *tls.Config, implicit bool) (port string, came *[]string) {
	t.Helper()
	came = new([]string)
	s := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &secured{c, came}, nil }))
	s.TLSConfig, s.ErrorLog = config, quiet{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_, port, _ = net.SplitHostPort(l.Addr().String())
	if implicit {
		l = tls.NewListener(l, config)
	}
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return port, came
}

type quiet struct{}

func (quiet) Printf(string, ...any) {}
func (quiet) Println(...any)        {}

// What is only offered is taken as it is, whoever made the certificate (RFC
// 7435); where a password goes, or TLS is asked for, it must be trusted (RFC
// 8314). What went wrong is said in plain words.
func TestTLS(t *testing.T) {
	own, trust := certificate(t, "localhost")
	other, otherTrust := certificate(t, "mail.elsewhere.example")
	good := &tls.Config{Certificates: []tls.Certificate{own}}
	for _, c := range []struct {
		name     string
		config   *tls.Config
		implicit bool
		address  string // before its port
		login    string
		trust    *x509.CertPool
		fate     Fate
		came     string // how its letter came, or why it did not
	}{
		{"a certificate of its own, only offered", good, false, "localhost", "", nil, Taken, "TLS"},
		{"one for another name, only offered", &tls.Config{Certificates: []tls.Certificate{other}}, false, "localhost",
			"", nil, Taken, "TLS"},
		{"what is offered does not work",
			&tls.Config{Certificates: []tls.Certificate{own}, MaxVersion: tls.VersionTLS11}, false, "localhost", "",
			nil, Taken, "plain"},
		{"with a password, not trusted", good, false, "localhost", "ines", nil, Later,
			"its certificate is by nobody that is trusted here"},
		{"with a password, trusted by setting", good, false, "localhost", "ines", trust, Taken, "TLS"},
		{"with a password, for another name", &tls.Config{Certificates: []tls.Certificate{other}}, false, "localhost",
			"ines", otherTrust, Later, "its certificate is for another name"},
		{"with a password, none offered", nil, false, "localhost", "ines", nil, Later,
			"it offers no TLS, and no password is sent without"},
		{"at once, on any port", good, true, "smtps://localhost", "ines", trust, Taken, "TLS"},
		{"at once, not trusted", good, true, "smtps://localhost", "", nil, Later,
			"its certificate is by nobody that is trusted here"},
		{"at once, where there is none", nil, false, "smtps://localhost", "", nil, Later, "TLS could not be agreed on"},
	} {
		t.Run(c.name, func(t *testing.T) {
			port, came := securedServer(t, c.config, c.implicit)
			s, err := NewAccountSender(Account{Server: c.address + ":" + port, Login: c.login, Password: "pens"}, true)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			s.Trust, s.Patience = c.trust, 3*time.Second
			for range 2 { // the second finds out nothing again
				fate, err := s.Send(t.Context(), letter)
				if fate != c.fate {
					t.Fatalf("%s: %v", fate, err)
				}
				if err == nil {
					continue
				}
				if !strings.HasSuffix(err.Error(), c.came) {
					t.Errorf("it says %q, want %q", err, c.came)
				}
				for _, word := range []string{"x509", "tls:", "dial", "tcp", "EOF", "STARTTLS", "SMTP", "client"} {
					if strings.Contains(err.Error(), word) {
						t.Errorf("it says %q", err)
					}
				}
			}
			if c.fate == Taken && strings.Join(*came, " ") != c.came+" "+c.came {
				t.Errorf("it came by %v", *came)
			}
		})
	}
}

func TestParseServer(t *testing.T) {
	for address, want := range map[string]string{
		"smtp.karang.example:587":          "smtp.karang.example 587 false",
		"smtp.karang.example:465":          "smtp.karang.example 465 true",
		"smtps://smtp.karang.example:2465": "smtp.karang.example 2465 true",
		"smtp://[2001:db8::1]:25":          "2001:db8::1 25 false",
		"smtp.karang.example":              "", ":25": "", "a:0": "", "a:65536": "", "a:smtp": "", "": "",
		"https://a:25": "",
	} {
		host, port, implicit, err := ParseServer(address)
		if got := fmt.Sprint(host, " ", port, " ", implicit); err == nil && got != want || err != nil && want != "" {
			t.Errorf("%q is %s, %v; want %q", address, got, err, want)
		}
	}
}
