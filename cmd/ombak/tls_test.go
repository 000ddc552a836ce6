package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// certificate makes one for 127.0.0.1 that rests on itself, and answers its files.
func certificate(t *testing.T) (cert *x509.Certificate, file, keyFile string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(t, err)
	der, err := x509.CreateCertificate(rand.Reader,
		&x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
			NotAfter:    time.Now().Add(time.Hour),
			IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true},
		&x509.Certificate{SerialNumber: big.NewInt(1)}, &key.PublicKey, key)
	must(t, err)
	cert, err = x509.ParseCertificate(der)
	must(t, err)
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	must(t, err)
	dir := t.TempDir()
	file, keyFile = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	must(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	must(t, os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER}), 0o600))
	return cert, file, keyFile
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func TestHTTPSByACertificateOfOnesOwn(t *testing.T) {
	cert, file, keyFile := certificate(t)
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	c := config{"OMBAK_TLS_CERT": file, "OMBAK_TLS_KEY": keyFile}
	l, err := tlsListener(c, plain)
	must(t, err)
	ctx, end := context.WithCancel(context.Background())
	over := make(chan error, 1)
	go func() {
		over <- serve(ctx, l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.TLS == nil {
				t.Error("a request came without TLS")
			}
			io.WriteString(w, r.Proto)
		}))
	}()
	roots := x509.NewCertPool()
	roots.AddCert(cert)
	if !strings.HasPrefix(c.url(plain), "https://127.0.0.1:") {
		t.Errorf("it says it is at %s", c.url(plain))
	}
	ask := func(with *tls.Config) (string, error) {
		client := &http.Client{Timeout: 10 * time.Second,
			Transport: &http.Transport{TLSClientConfig: with, ForceAttemptHTTP2: true}}
		defer client.CloseIdleConnections()
		res, err := client.Get(c.url(plain))
		if err != nil {
			return "", err
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		return string(b), err
	}
	if got, err := ask(&tls.Config{RootCAs: roots}); err != nil || got != "HTTP/2.0" {
		t.Errorf("over HTTPS: %q, %v", got, err)
	}
	if got, err := ask(&tls.Config{}); err == nil {
		t.Errorf("whoever does not know the certificate reads %q", got)
	}
	if got, err := ask(&tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS10,
		MaxVersion: tls.VersionTLS11}); err == nil {
		t.Errorf("an old TLS reads %q", got)
	}
	end()
	must(t, <-over)
	for _, bad := range []config{{"OMBAK_TLS_CERT": file}, {"OMBAK_TLS_KEY": keyFile},
		{"OMBAK_TLS_CERT": keyFile, "OMBAK_TLS_KEY": file}, {"OMBAK_TLS_CERT": file + "x", "OMBAK_TLS_KEY": keyFile}} {
		if _, err := tlsListener(bad, plain); err == nil ||
			!strings.Contains(err.Error(), "OMBAK_TLS_CERT and OMBAK_TLS_KEY") {
			t.Errorf("%v: %v", bad, err)
		}
	}
	if l, err := tlsListener(config{}, plain); err != nil || l != plain {
		t.Errorf("without a certificate: %v, %v", l, err)
	}
}
