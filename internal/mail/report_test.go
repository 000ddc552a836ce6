package mail

import (
	"fmt"
	"strings"
	"testing"
)

// crlf writes a letter's lines as they go over the wire.
func crlf(s string) []byte {
	return []byte(strings.ReplaceAll(strings.TrimPrefix(s, "\n"), "\n", "\r\n"))
}

// The examples of RFC 3464, appendix E, and of RFC 5965, appendix B, written
// down from memory, bodies shortened.
const (
	// E.1: a simple report, of a letter that was given up after five days.
	simpleReport = `
Date: Thu, 7 Jul 1994 17:16:05 -0400
From: Mail Delivery Subsystem <MAILER-DAEMON@CS.UTK.EDU>
Message-Id: <199407072116.RAA14128@CS.UTK.EDU>
Subject: Returned mail: Cannot send message for 5 days
To: <owner-info-mime@cs.utk.edu>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status;
      boundary="RAA14128.773615765/CS.UTK.EDU"

--RAA14128.773615765/CS.UTK.EDU

The original message was received at Sat, 2 Jul 1994 17:10:28 -0400
from root@localhost

--RAA14128.773615765/CS.UTK.EDU
content-type: message/delivery-status

Reporting-MTA: dns; cs.utk.edu

Original-Recipient: rfc822;louisl@larry.slip.umd.edu
Final-Recipient: rfc822;louisl@larry.slip.umd.edu
Action: failed
Status: 4.0.0
Diagnostic-Code: smtp; 426 connection timed out
Last-Attempt-Date: Thu, 7 Jul 1994 17:15:49 -0400

--RAA14128.773615765/CS.UTK.EDU
content-type: message/rfc822

[original message goes here]

--RAA14128.773615765/CS.UTK.EDU--
`
	// E.2: a report about several recipients, one of whom got it.
	severalReport = `
Date: Fri, 8 Jul 1994 09:21:47 -0400
From: Mail Delivery Subsystem <MAILER-DAEMON@CS.UTK.EDU>
Subject: Returned mail: User unknown
To: <owner-ups-mib@CS.UTK.EDU>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status;
   boundary="JAA13167.773673707/CS.UTK.EDU"

--JAA13167.773673707/CS.UTK.EDU
content-type: text/plain; charset=us-ascii

   ----- The following addresses had delivery problems -----
<arathib@vnet.ibm.com>  (unrecoverable error)
<wsnell@sdcc13.ucsd.edu>  (unrecoverable error)

--JAA13167.773673707/CS.UTK.EDU
content-type: message/delivery-status

Reporting-MTA: dns; cs.utk.edu

Original-Recipient: rfc822;arathib@vnet.ibm.com
Final-Recipient: rfc822;arathib@vnet.ibm.com
Action: failed
Status: 5.0.0 (permanent failure)
Diagnostic-Code: smtp;
  550 'arathib@vnet.IBM.COM' is not a registered gateway user
Remote-MTA: dns; vnet.ibm.com

Original-Recipient: rfc822;johnh@hpnjld.njd.hp.com
Final-Recipient: rfc822;johnh@hpnjld.njd.hp.com
Action: delayed
Status: 4.0.0 (hpnjld.njd.jp.com: host name lookup failure)

--JAA13167.773673707/CS.UTK.EDU--
`
	// E.5: a report that a letter is late.
	lateReport = `
From: MAILER-DAEMON@nsfnet-relay.ac.uk
Date: Sun, 10 Jul 1994 00:36:51 +0100
Subject: WARNING: message delayed at "nsfnet-relay.ac.uk"
To: owner-ups-mib@CS.UTK.EDU
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status; boundary=foobar

--foobar
content-type: text/plain

Your message has not been delivered.

--foobar
content-type: message/delivery-status

Reporting-MTA: dns; sun2.nsfnet-relay.ac.uk

Final-Recipient: rfc822;thomas@de-montfort.ac.uk
Status: 4.0.0 (unknown temporary failure)
Action: delayed

--foobar--
`
	// RFC 5965, B.1: a complaint.
	abuseReport = `
From: <abusedesk@example.com>
Date: Thu, 8 Mar 2005 17:40:36 EDT
Subject: FW: Earn money
To: <abuse@example.net>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=feedback-report;
     boundary="part1_13d.2e68ed54_boundary"

--part1_13d.2e68ed54_boundary
Content-Type: text/plain; charset="US-ASCII"
Content-Transfer-Encoding: 7bit

This is an email abuse report for an email message received from IP
192.0.2.1 on Thu, 8 Mar 2005 14:00:00 EDT.

--part1_13d.2e68ed54_boundary
Content-Type: message/feedback-report

Feedback-Type: abuse
User-Agent: SomeGenerator/1.0
Version: 1

--part1_13d.2e68ed54_boundary
Content-Type: message/rfc822
Content-Disposition: inline

From: <somespammer@example.net>
To: <user@example.com>
Subject: Earn money
MIME-Version: 1.0
Content-type: text/plain
Message-ID: <8787KJKJ3K4J3K4J3K4J3.mail@example.net>
Date: Thu, 02 Sep 2004 12:31:03 -0500

Spam Spam Spam

--part1_13d.2e68ed54_boundary--
`
)

func TestReportsOfTheStandards(t *testing.T) {
	for _, c := range []struct {
		name, source string
		kind         Kind
		say          string
	}{
		{"RFC 3464, E.1", simpleReport, NotNow,
			"[{louisl@larry.slip.umd.edu louisl@larry.slip.umd.edu failed 4.0.0 426 connection timed out}]"},
		{"RFC 3464, E.2", severalReport, Bounce,
			"[{arathib@vnet.ibm.com arathib@vnet.ibm.com failed 5.0.0 550 'arathib@vnet.IBM.COM' is not a registered " +
				"gateway user} {johnh@hpnjld.njd.hp.com johnh@hpnjld.njd.hp.com delayed 4.0.0 }]"},
		{"RFC 3464, E.5", lateReport, NotNow, "[{thomas@de-montfort.ac.uk  delayed 4.0.0 }]"},
		{"RFC 5965, B.1", abuseReport, Complaint, "[] [user@example.com] [8787KJKJ3K4J3K4J3K4J3.mail@example.net]"},
		{"RFC 5965, not spam after all",
			strings.Replace(abuseReport, "Feedback-Type: abuse", "Feedback-Type: not-spam", 1), Notice, ""},
		{"RFC 5965, with whom it was sent to",
			strings.Replace(abuseReport, "User-Agent: SomeGenerator/1.0",
				"User-Agent: SomeGenerator/1.0\nOriginal-Rcpt-To: <Ana@fjord.example>", 1), Complaint,
			"[] [ana@fjord.example]"},
		{"RFC 3464, delivered", strings.Replace(lateReport, "Action: delayed", "Action: delivered", 1), Notice, ""},
		{"RFC 3463, a full mailbox",
			strings.NewReplacer("Action: delayed", "Action: failed", "4.0.0 (", "5.2.2 (").Replace(lateReport), NotNow,
			""},
		{"RFC 3463, a policy",
			strings.NewReplacer("Action: delayed", "Action: failed", "4.0.0 (", "5.7.1 (").Replace(lateReport), NotNow,
			""},
		{"RFC 3463, no such mailbox",
			strings.NewReplacer("Action: delayed", "Action: failed", "4.0.0 (", "5.1.1 (").Replace(lateReport), Bounce,
			""},
		{"RFC 8098, read",
			"From: a@b.example\nContent-Type: multipart/report; report-type=disposition-notification; " +
				"boundary=B\n\n--B\n\nread\n--B--\n", Notice, ""},
	} {
		m := Read(crlf(c.source))
		if got := fmt.Sprint(m.About, " ", m.Against, " ", m.References); m.Kind != c.kind ||
			!strings.HasPrefix(got, c.say) {
			t.Errorf("%s is %s: %s", c.name, m.Kind, got)
		}
	}
}

// TestAutomaticAnswers: RFC 3834, 5 first; then ways that came before it
// (common practice, no source).
func TestAutomaticAnswers(t *testing.T) {
	for head, want := range map[string]Kind{
		"Auto-Submitted: auto-replied": Automatic, "Auto-Submitted: auto-generated; x=y": Automatic,
		"Auto-Submitted: No": FromPerson, "Auto-Submitted:": FromPerson,
		"Precedence: bulk": Automatic, "Precedence: first-class": FromPerson, "X-Autoreply: yes": Automatic,
		"Subject: Automatic reply: your guide": Automatic, "Subject: =?utf-8?q?R=C3=A9ponse_automatique?=": Automatic,
		"Subject: Re: Automatic reply to your alarm": FromPerson,
		// Who says that it is a person's is believed.
		"Auto-Submitted: no\r\nSubject: Out of office": FromPerson,
	} {
		if m := Read([]byte("From: a@b.example\r\n" + head + "\r\n\r\nAway.\r\n")); m.Kind != want {
			t.Errorf("%q is %s", head, m.Kind)
		}
	}
}

func FuzzReport(f *testing.F) {
	f.Add("Reporting-MTA: dns; x\n\nFinal-Recipient: rfc822;a@b\nAction: failed\nStatus: 5.1.1\n")
	f.Add("Feedback-Type: abuse\nOriginal-Rcpt-To: <a@b>\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, r := range deliveryReport(text) {
			if r.Address != strings.ToLower(r.Address) {
				t.Errorf("%q", r.Address)
			}
		}
		complaint(text)
	})
}
