package shell

type DnsRecord struct{ Name, Text string }
