package report

import (
	"fmt"
	"strings"
	"time"

	"trimlantern/core/point"
	"trimlantern/work"
	"trimlantern/work/cert"
)

// Records shows the records that a person has to make.
func (t *Text) Records(records []cert.Record) {
	t.printf("Make %s in the DNS, beside what already exists:\n\n", plural(len(records), "record"))
	for _, r := range records {
		t.printf("  name   %s\n  type   %s\n  text   %s\n\n", Clean(r.Name), r.Type, Clean(r.Value))
	}
	t.printf("Some panels want the name without the domain at its end, and add it themselves.\n")
}

// Obtained shows what became of the site's certificates. A renewal in which nothing was due shows nothing.
func (t *Text) Obtained(o *cert.Obtained) {
	first := true
	for _, c := range o.Certificates {
		if o.Renewing && c.State == cert.CertKept && len(c.Files) == 0 && o.Code() == work.Clean {
			continue
		}
		if !first {
			t.printf("\n")
		}
		first = false
		t.certificate(o, c)
	}
	if first || o.Renewing {
		return
	}
	switch shown := o.Certificates[0]; {
	case o.Code() != work.Clean && shown.Do != "":
	case shown.Texts != nil:
		t.next("paste the three texts into the panel, then: trimlantern ready")
	case len(shown.Served) > 0 && allNew(o):
		t.next("have it renewed in time: trimlantern cert renew --install-timer cron")
	default:
		t.next("name these files in the server's configuration, then: trimlantern ready")
	}
}

// allNew reports whether every address shows the certificates.
func allNew(o *cert.Obtained) bool {
	for _, c := range o.Certificates {
		for _, s := range c.Served {
			if !s.New {
				return false
			}
		}
	}
	return true
}

// certWords begin a report on one certificate.
var certWords = map[cert.State]string{
	cert.CertIssued: "Obtained a certificate for", cert.CertKept: "There is a good certificate for", cert.CertWaiting: "Waiting for the DNS: no certificate yet for",
	cert.CertRefused: "No use: the certificate for", cert.CertBack: "Taken back: the new certificate for", cert.CertFailed: "No certificate for",
}

func (t *Text) certificate(o *cert.Obtained, c cert.Certificate) {
	head := certWords[c.State] + " " + Clean(strings.Join(c.Names, ", "))
	switch c.State {
	case cert.CertIssued:
		t.mark(t.good("[x]"), head)
	case cert.CertKept:
		t.mark(t.good("[x]"), head)
	case cert.CertWaiting:
		t.mark(t.care("[!]"), head)
	default:
		t.mark(t.bad("[-]"), head)
	}
	if c.Problem != "" {
		t.wrap("      ", Clean(c.Problem))
	}
	if c.Do != "" {
		t.wrap("      ", t.faint("do:  ")+Clean(c.Do))
	}
	for i, tried := range c.Tried {
		if c.State != cert.CertFailed && c.State != cert.CertWaiting {
			break // another way worked
		}
		if i == 0 {
			t.heading("Tried, and does not work")
		}
		t.wrap("  ", fmt.Sprintf("%s, %s: %s", tried.Way, Clean(tried.Name), Clean(tried.Why)))
	}
	if c.State == cert.CertWaiting && len(c.Records) > 0 {
		t.heading("Records to make in the DNS, beside what is there")
		for _, r := range c.Records {
			t.printf("  name   %s\n  type   %s\n  text   %s\n", Clean(r.Name), r.Type, Clean(r.Value))
			if r.Why != "" {
				t.wrap("         ", t.faint(Clean(r.Why)))
			}
		}
	}
	if !c.Until.IsZero() && c.State != cert.CertFailed {
		t.printf("      %s\n", t.faint(fmt.Sprintf("good until %s, due for renewal on %s", day(c.Until), day(c.Renew))))
		if c.Way != "" {
			t.printf("      %s\n", t.faint("names proven by "+wayWords[c.Way]))
		}
	}
	if c.Way == "dns-by-hand" && c.State == cert.CertIssued {
		t.wrap("      ", t.faint("the records in the DNS are not needed any more"))
	}
	if point.Worst(c.Points).Fault() {
		t.heading("What our own check says of it")
		var faults []point.Point
		for _, p := range c.Points {
			if p.Grade.Fault() {
				faults = append(faults, p)
			}
		}
		t.points(faults)
	}
	if c.Folder != "" && c.Texts == nil {
		t.heading("Files")
		rows := [][]string{{"key", "private key, readable by you alone"}, {"certificate-with-chain", "certificate and chain, as most servers want it"}, {"certificate", "the certificate alone"}, {"intermediates", "the chain alone"}}
		t.printf("  in %s\n", t.clip(c.Folder, 74))
		for i := range rows {
			rows[i][0] += ".pem"
		}
		t.rows(nil, rows)
	}
	for i, f := range c.Files {
		if i == 0 {
			t.heading("Replaced; the previous ones are kept")
		}
		t.printf("  %s\n", t.clip(f, 76))
	}
	t.servedBy(c)
	t.texts(c)
}

var wayWords = map[string]string{"file": "a file in the web root", "listener": "a listener on port 80", "dns-update": "a record (dynamic update)", "dns-program": "a record (your program)", "dns-by-hand": "a record that you made"}

func day(when time.Time) string { return when.UTC().Format("2006-01-02") }

// servedBy shows what the site's addresses show.
func (t *Text) servedBy(c cert.Certificate) {
	for i, s := range c.Served {
		if i == 0 {
			t.heading("Served now")
		}
		where := Clean(s.Name)
		if s.Addr != "" {
			where += " at " + Clean(s.Addr)
		}
		if s.New {
			t.mark(t.good("[x]"), where+": this certificate")
			continue
		}
		t.mark(t.care("[!]"), where+": "+Clean(s.Why))
	}
}

// texts prints what a panel asks for, each text with its name, in the order in which panels ask.
func (t *Text) texts(c cert.Certificate) {
	if c.Texts == nil {
		return
	}
	for _, part := range []struct{ key, name string }{
		{"certificate", "1. Certificate (also called CRT)"}, {"key", "2. Private key (KEY); keep it secret"}, {"intermediates", "3. Chain (also called intermediate certificates, CA bundle, CABUNDLE)"},
	} {
		t.heading(part.name)
		t.printf("%s", c.Texts[part.key])
	}
}

// Revoked reports on a certificate that was revoked.
func (t *Text) Revoked(r *cert.Revoked) {
	t.printf("Revoked the certificate for %s, which would have been good until %s (%s).\n", Clean(strings.Join(r.Names, ", ")), day(r.Until), r.Reason)
	t.wrap("", t.faint("Browsers refuse it as soon as they know: within days, or at once where they ask."))
}

// Requested reports what cert request wrote.
func (t *Text) Requested(r *cert.Requested) {
	t.printf("Made a key and a request for %s.\n\n", t.clip(strings.Join(r.Names, ", "), 50))
	t.rows(nil, [][]string{{"request", t.clip(r.Request, 60), "send it to the authority"}, {"key", t.clip(r.Key, 60), "stays here, secret"}})
	t.next("when the certificate has come: trimlantern cert check FILE… " + Clean(r.Key))
}

// Checked reports what certificate files hold.
func (t *Text) Checked(r *cert.Checked) {
	t.printf("In the files\n\n")
	for _, p := range r.Papers {
		words := p.What
		if p.Bad != "" {
			words += ": " + p.Bad
		}
		t.printf("  %s\n", t.faint(t.clip(p.File, 70)))
		t.wrap("    ", Clean(words))
	}
	t.heading("Together")
	t.points(r.Points)
	if r.Chain != "" {
		t.printf("\nWrote %s\n", t.clip(r.Chain, 70))
	}
	if r.Key != "" {
		t.printf("Wrote %s (for nobody else to read)\n", t.clip(r.Key, 46))
	}
	for _, k := range r.Kept {
		t.printf("%s\n", t.faint("the previous one is kept: "+t.clip(k, 52)))
	}
	switch {
	case r.Code() != work.Clean:
		t.next("fix what is marked above, then run the same command again")
	case r.Chain == "":
		t.next("write them in the server's order: --write FOLDER")
	default:
		t.next("name both files in the server's configuration, then: trimlantern ready")
	}
}

// Proof reports whether a proof of ownership can be fetched.
func (t *Text) Proof(r *cert.Proof) {
	for _, a := range r.Asked {
		mark := t.good("[x]")
		if !a.OK {
			mark = t.bad("[-]")
		}
		words := a.URL
		if a.At != "" {
			words += " at " + a.At
		}
		t.mark(mark, Clean(words))
		if a.Why != "" {
			t.wrap("      ", Clean(a.Why))
		}
	}
	if r.Kept {
		t.printf("\n%s stays there; remove it when the authority has seen it.\n", t.clip(r.File, 60))
	} else {
		t.printf("\n%s\n", t.faint("the file is gone again"))
	}
	if r.Code() == work.Clean {
		t.next("have the authority look for the proof")
	} else {
		t.next("let the server serve that folder over plain HTTP, for every name")
	}
}
