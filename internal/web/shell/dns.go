package shell

// DnsRecord is one that somebody has to set.
type DnsRecord struct{ Name, Text string }
