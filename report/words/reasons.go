package words

import (
	"trimlantern/core/mixed"
	"trimlantern/core/rewrite"
)

// classes is the one table of what becomes of an insecure reference in a browser.
var classes = map[mixed.Class]string{
	mixed.Blocked:  "blocked by browsers",
	mixed.Upgraded: "upgraded by browsers",
	mixed.Form:     "form sends insecurely",
	mixed.Download: "download refused by browsers",
	mixed.Masked:   "masked by the page's policy",
	mixed.Possible: "possibly loaded",
	mixed.Link:     "link, not loaded",
}

// Class says what becomes of an insecure reference in a browser.
func Class(c mixed.Class) string { return classes[c] }

// reasons is the one table of why something was left.
var reasons = map[rewrite.Reason]string{
	rewrite.Linked:     "other hosts, only linked, not loaded",
	rewrite.Standard:   "names of standards, not addresses",
	rewrite.Identifier: "permanent identifiers",
	rewrite.LookAlike:  "look-alike hosts, not this site",
	rewrite.Kept:       "left by your decision",
	rewrite.Cached:     "cached copies, made anew by the system",
	rewrite.OtherPort:  "this host on another port: another origin",
	rewrite.Outside:    "this host, outside the site's folder",
	rewrite.Subdomain:  "sub-domains not named; add them if they are yours",
	rewrite.Private:    "private addresses, left from development",
	rewrite.NoHTTPS:    "loaded from hosts without HTTPS",
	rewrite.NoVerdict:  "loaded from hosts that could not be asked",
	rewrite.Possible:   "other hosts that a script may load",
	rewrite.Unsound:    "serialized values that are not sound",
	rewrite.Opaque:     "inside a class's own format",
	rewrite.KeyTaken:   "array keys whose secure form exists already",
	rewrite.TooDeep:    "envelopes nested too deep",
	rewrite.TooLong:    "values that would outgrow their column",
	rewrite.NoKey:      "rows of tables without a key",
	rewrite.ReadOnly:   "in files that may not be written",
	rewrite.Generated:  "in generated files: change what makes them",
	rewrite.Taken:      "would break a unique index",
	rewrite.List:       "in columns of lists or fixed values",
	rewrite.Unsealed:   "cannot be sealed again",
	rewrite.Protected:  "protected by a hash or a signature",
	rewrite.Binary:     "inside binary data",
	rewrite.Unread:     "compressed or encoded, and not read",
	rewrite.Unclear:    "letters directly behind the host: where does it end?",
	rewrite.Malformed:  "addresses of this site that are not well formed",
	rewrite.Hidden:     "tables with rows that this database user may not see",
	rewrite.Unloadable: "values that PHP would no longer load",
	rewrite.Charset:    "text that the connection's charset would change",
	rewrite.Immutable:  "rows that are never changed (old versions, named by their content): not looked at",
	rewrite.Nameless:   "rows whose columns cannot be told apart",
	rewrite.Code:       "in views, triggers, functions and definitions",
	rewrite.Statement:  "in statements and expressions that are no values",
	rewrite.Remark:     "in comments of the dump",
	rewrite.NotChosen:  "left out by your choice",
}

// Reason says why something was left; "" of what is no reason.
func Reason(r rewrite.Reason) string { return reasons[r] }
