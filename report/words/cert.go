package words

import "trimlantern/core/point"

// What is found out about certificate files, besides what the certificates are themselves.
var (
	FileUnusable   = Sentence{"file", point.Stop, "%[1]s in %[2]s %[3]s", "", "get it in a form that servers read"}
	KeyFits        = Sentence{"pair", point.Good, "the key belongs to the certificate", "", ""}
	KeyOfAnother   = Sentence{"pair", point.Stop, "the key does not belong to the certificate", "the server will not start with it", "find the key that the signing request was made with, or make a new request: trimlantern cert request"}
	KeyMissing     = Sentence{"pair", point.Care, "no key is among the files", "whether it belongs to the certificate was not checked", "name the key too; it is not shown"}
	NotReplaced    = Sentence{"kept", point.Stop, "%[1]s was not replaced", "visitors could not use the new certificate", "fix what is named above, then run the same command again"}
	IssuedWithout  = Sentence{"names", point.Stop, "it does not cover %[1]s", "", "order it again: --again"}
	NoSuchChain    = Sentence{"other-chain", point.Care, "the authority offers no chain to %[1]q: the usual one was taken", "its chains lead to %[2]s", "name one of these with --chain, and order again: --again"}
	IssuedOtherKey = Sentence{"pair", point.Stop, "the key does not belong to the certificate", "the server will not start with it", "order it again: --again"}
	RenewalTrouble = Sentence{"renewal", point.Care, "%[1]s", "it is good until %[2]s; then browsers show a warning in place of the site", "run trimlantern cert renew, and see that a timer runs it: trimlantern cert renew --install-timer cron"}
)

// What is wrong with a renewal: of the certificate for the first value.
const (
	RenewalRevoked  = "the certificate for %[1]s that is in use was revoked"
	RenewalFailed   = "the renewal of the certificate for %[1]s failed on %[2]s: %[3]s"
	RenewalOverdue  = "the certificate for %[1]s was due for renewal on %[2]s, and nothing renewed it"
	RenewalUnserved = "the certificate for %[1]s was renewed, and %[2]s still shows the one before: the server has not read it (give cert renew --after COMMAND)"
	RenewalNotAsked = "nothing has checked since %[2]s whether the certificate for %[1]s is due for renewal"
)
