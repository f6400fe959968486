package words

import (
	"fmt"
	"strings"

	"trimlantern/core/alike"
	"trimlantern/core/point"
)

const sameSite = "let the server show the same site over HTTPS as over HTTP: the same folder, the same system, the same rules"

// What comparing a page over HTTP and HTTPS finds out. The first value is the page's address, the last says at which
// server, where one of several was asked.
var (
	PageElsewhere     = Sentence{"same-page", point.Stop, "%[1]s leads to %[2]s%[3]s", seenThen, sameSite}
	PageUnreached     = Sentence{"far", point.Note, "%[1]s was not checked: this machine cannot reach that address%[2]s", "", "run the same command on a machine that has IPv6"}
	PageNot           = Sentence{"same-page", point.Stop, "%[1]s cannot be loaded: %[2]s%[3]s", seenThen, "make HTTPS answer there; the server's error log says why it does not"}
	PageLoops         = Sentence{"loop", point.Stop, PageNot.What, seenThen, problems["loop"].do}
	PageElsewhereDead = Sentence{"same-page", point.Stop, "%[1]s leads to %[2]s, which cannot be loaded: %[3]s%[4]s", seenThen, "find the rule that sends visitors there, and remove it"}
	PageBack          = Sentence{"downgrade", point.Care, "%[1]s redirects back to HTTP%[2]s", "as long as it does, the switch has no effect",
		"apply the changes (trimlantern apply): as a rule the system's own address does that; else remove the server's rule"}
	PageAnswers    = Sentence{"same-page", point.Stop, "%[1]s answers %[2]d%[3]s", seenThen, sameSite}
	PageStatus     = Sentence{"same-page", point.Stop, "%[1]s answers %[2]d, and over HTTP %[3]d%[4]s", seenThen, sameSite}
	PageBarred     = Sentence{"same-page", point.Note, "%[1]s asks for a password: it was not compared%[2]s", "", "show it with --credentials"}
	PageNowhere    = Sentence{"same-page", point.Stop, "%[1]s answers %[2]d without a Location%[3]s", seenThen, sameSite}
	PageType       = Sentence{"same-page", point.Stop, "%[1]s is %[2]s, and over HTTP %[3]s%[4]s", seenThen, sameSite}
	PageOther      = Sentence{"same-page", point.Stop, "%[1]s shows a different page (%[2]q) than over HTTP (%[3]q)%[4]s", seenThen, sameSite}
	PageDiffers    = Sentence{"same-page", point.Care, "%[1]s does not show the same as over HTTP: %[2]s%[3]s", "visitors will see what HTTPS shows: it may be an old copy, or another site's part", "compare both in a browser; let HTTPS serve the same folder, and empty the caches"}
	HostNot        = Sentence{"same-page", point.Stop, "https://%[1]s cannot be loaded at %[2]s: %[3]s%[4]s", "", ""}
	HostAnswers    = Sentence{"same-page", point.Stop, "https://%[1]s answers %[2]d at %[3]s%[4]s", "", ""}
	ServersDiffer  = Sentence{"same-server", point.Stop, "https://%[1]s shows a different page at %[2]s than at %[3]s", "visitors see one or the other, depending on their network (IPv4 or IPv6)", "let all addresses serve the same site, or remove the wrong one from the DNS"}
	PagesSame      = Sentence{"same-page", point.Good, "%[1]s: the same over HTTP and HTTPS (%[2]s compared)", "", ""}
	PagesOnlyHTTPS = Sentence{"same-page", point.Good, "%[1]s: HTTPS shows %[2]s; HTTP redirects there, so there is nothing to compare", "", ""}
)

// Why a fault of a page over HTTPS matters: before the switch, and where HTTP redirects there already.
const (
	seenThen = "visitors would see it once the site is on HTTPS"
	SeenNow  = "visitors see it"
)

// ReadErrorLog is what to do about an error of the server.
const ReadErrorLog = "read the server's error log"

// Shown says what two answers of a page show differently.
func Shown(all []alike.Difference) string {
	var parts []string
	for _, d := range all {
		switch {
		case d.Plain == "":
			parts = append(parts, fmt.Sprintf("%q is only there over HTTPS", d.Secure))
		case d.Secure == "":
			parts = append(parts, fmt.Sprintf("%q is only there over HTTP", d.Plain))
		default:
			parts = append(parts, fmt.Sprintf("%q, and over HTTP %q", d.Secure, d.Plain))
		}
	}
	return strings.Join(parts, "; ")
}

// AtServer says at which server of several a page was asked.
func AtServer(at string) string {
	if at == "" {
		return ""
	}
	return " (server " + at + ")"
}

// PageSends is why a page is never there to stay: the page, and what sends on.
const PageSends = "%[1]s sends visitors on by a %[2]s in the page, round and round"
