package words

import "trimlantern/core/point"

// Why a redirect is not installed.
var (
	RedirectClash = Sentence{"clash", point.Stop, "line %[1]d of the file redirects visitors of the secure address to %[2]s", "together with our rules that is an endless loop", "remove that redirect from line %[1]d, then install again"}
	SiteSilent    = Sentence{"unreached", point.Stop, "the site gives no answer to this machine: %[1]s", "whether the redirect works could not be tested", "say where the server is (--resolve HOST:443:ADDR), or install without the test: --anyway"}
)

// EndlessLoop is what a page that redirects back to HTTP makes of the redirect.
const EndlessLoop = "together with the redirect that is an endless loop"

// Stays says why the rules do not reach some addresses, by the server whose rules they are, and what covers those.
func Stays(server string) (why, do string) {
	switch server {
	case "php":
		return "the server answers there itself, before PHP runs: files that are there, protected folders, folders with an entrance of their own",
			"install the rules in the server too: trimlantern redirect install apache, or nginx"
	case "nginx":
		return "another server block, or a location with an answer of its own, answers there",
			"install the rules in that server block too, or take out the answer of that location"
	}
	return "a folder with rules of its own, a protected one, or another server answers there",
		"install the rules in the .htaccess of that folder too, or in the server's own configuration"
}

// Why a redirect was taken back: how the site answered with it.
const (
	ErrorsForbidden  = "the server answered with an error everywhere: it forbids rules like these in .htaccess (AllowOverride), or does not know one of them; its error log names the directive"
	ErrorsEverywhere = "the server answered with an error everywhere; its error log says why"
	LoopsBehind      = "%[1]s ended in a redirect loop: another rule of the server, or the proxy, sends visitors back"
	LoopsByRule      = "%[1]s ended in a redirect loop: %[2]s sends visitors back"
	Loops            = "%[1]s ended in a redirect loop: a proxy in front ends TLS (then install with --proxy), or another rule of the server sends visitors back"
	LoopsByPage      = "%[1]s ended in a loop: the page %[2]s sends visitors back by itself, with a %[3]s in it"
	VisitorGets      = "whoever types %[1]s %[2]s"
	GetsError        = "gets error %[1]d"
	AnotherRedirect  = "%[1]s; another redirect: %[2]s"
	RuleInFile       = "line %[1]d of the file (%[2]s)"
)

// What a visitor who was there before may still see.
const (
	RedirectRemembered = "Browsers remember a permanent redirect and keep following it after you remove it, until their cache is cleared."
	PageRemembered     = "Browsers may show the front page as it was for up to %[1]s (Cache-Control); a reload shows the new one."
	CacheInFront       = "A cache in front of the server holds a copy that is %[1]s seconds old: empty it there."
	NothingSaid        = "The pages do not say how long they may be kept: browsers decide for themselves, and a reload shows the new one."
)
