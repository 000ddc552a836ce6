package web

type dnsRecord struct{ Name, Text string }
