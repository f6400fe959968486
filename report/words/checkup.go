package words

import "trimlantern/core/point"

const notAsItWas = "visitors get something else than when the site was last well"

// What a checkup remembers and finds changed. The first value is a page, the second says how many others are like it.
var (
	PageFails    = Sentence{"page-error", point.Stop, "%[1]s%[2]s: visitors read an error: %[3]s", notAsItWas, "read the error log of the server and of PHP"}
	PageStock    = Sentence{"page-default", point.Stop, "%[1]s%[2]s: a server or a host shows its own page instead of the site: %[3]s", notAsItWas, "see that the server serves the site's folder, that the name is paid for, and that the site was not moved"}
	PageEmpty    = Sentence{"page-empty", point.Stop, "%[1]s%[2]s: there is nothing to read any more", notAsItWas, "read the error log of the server and of PHP: an error that is not shown leaves an empty page"}
	SiteReplaced = Sentence{"site-another", point.Stop, "another site is shown instead of this one: %[1]s%[2]s, with the title %[3]q", notAsItWas, "see where the name leads, and which folder the server serves; if the site was rebuilt, run trimlantern checkup --learn"}
	PageReplaced = Sentence{"page-another", point.Care, "%[1]s%[2]s: another page than before, %[3]q", "", "look at it; this is said once"}
	PagesGone    = Sentence{"page-gone", point.Care, "%[1]s%[2]s: not there any more", "other sites and search engines still lead there", "if it was not meant to go, put it back; else redirect it; this is said once"}
	PagesLost    = Sentence{"page-lost", point.Stop, "%[1]s%[2]s: it was there, and cannot be had now", notAsItWas, "read the server's error log"}
	HostNew      = Sentence{"host-new", point.Care, "%[1]s%[2]s: a script, a frame or a form leads to %[3]s, which none did before", "injected code looks like this", "if none of you added it, look for it with trimlantern trace and take it out; this is said once"}
	ScriptHides  = Sentence{"script-hides", point.Care, "%[1]s%[2]s: a new script hides what it does", "injected code looks like this", "look at the scripts of the page; if none of you added it, the site was broken into; this is said once"}
	ProofBarred  = Sentence{"proof-barred", point.Care, "where a certificate authority looks for its proof, the server %[3]s", "the next renewal fails", "let everybody read that folder: %[1]s%[2]s"}
)

// How the place for proofs answers.
const (
	NoAnswer      = "gives no answer"
	AnswersStatus = "answers %[1]d"
)

// Others says how many others there are; "": none.
func Others(n int) string {
	if n <= 0 {
		return ""
	}
	return " and " + Count(n, "other page")
}
