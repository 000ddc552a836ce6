package main

import (
	"bytes"
	"net"
	"strings"
	"testing"
)

func TestConfig(t *testing.T) {
	for _, c := range []struct{ env, want string }{
		{"OMBAK_ADDR=127.0.0.1:9090", ""}, {"OMBAK_ADDR=", ""}, {"PATH=/bin", ""}, {"OMBAK_TEST_DATABASE_URL=x", ""},
		{"OMBAK_ADDR=9090", `OMBAK_ADDR is "9090", but it should read host:port`},
		{"OMBAK_ADDR=127.0.0.1:http", "is no port"},
		{"OMBAK_URL=ombak.example", "http://host"}, {"OMBAK_URL=https://ombak.example/x", "without a path"},
		{"OMBAK_URL=https://ombak.example", ""},
		{"OMBAK_DATABASE_URL=mysql://x", "postgres://"}, {"OMBAK_ZONE=Mars/Olympus", "no time zone"},
		{"OMBAK_ZONE=Local", "no time zone"}, {"OMBAK_ZONE=Europe/Oslo", ""},
		{"OMBAK_SEED=x", "whole number"}, {"OMBAK_LOG=loud", "debug, info, warn, error"},
		{"OMBAK_MAIL_DOMAIN=a@b", "no domain"}, {"OMBAK_ADRR=127.0.0.1:1", "no setting OMBAK_ADRR"},
	} {
		_, err := readConfig([]string{c.env})
		if (err == nil) != (c.want == "") || (err != nil && !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v, want %q", c.env, err, c.want)
		}
	}
}

func TestHelpListsEverySetting(t *testing.T) {
	var b bytes.Buffer
	usage(&b)
	for _, s := range settings {
		if !strings.Contains(b.String(), s.name) {
			t.Errorf("help does not list %s", s.name)
		}
	}
}

func TestATakenPortGivesWayOnlyWhereItIsTheUsualOne(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	if _, err := listen(config{"OMBAK_ADDR": taken.Addr().String()}, "OMBAK_ADDR"); err == nil ||
		!strings.Contains(err.Error(), "OMBAK_ADDR: "+taken.Addr().String()) {
		t.Errorf("set by hand and taken: %v", err)
	}
	usual := settings[0].usual
	settings[0].usual = taken.Addr().String()
	defer func() { settings[0].usual = usual }()
	l, err := listen(config{}, "OMBAK_ADDR")
	if err != nil || l.Addr().String() == taken.Addr().String() {
		t.Fatalf("the usual one, taken: %v", err)
	}
	l.Close()
}
