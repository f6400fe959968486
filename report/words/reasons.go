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
	rewrite.NoVerdict:  "loaded from hosts that were not asked, or gave no answer",
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
	rewrite.Rule:       "rules: conditions that test for http://, or pairs with the secure address",
	rewrite.Pieces:     "addresses written in pieces",
	rewrite.Hidden:     "tables with rows that this database user may not see",
	rewrite.NotRead:    "parts of the database that are not read",
	rewrite.Followed:   "rows of other tables refer to it, and would lose it",
	rewrite.Unloadable: "values that PHP would no longer load",
	rewrite.Charset:    "text that the connection's charset would change",
	rewrite.Immutable:  "rows that are never changed (old versions, named by their content): not looked at",
	rewrite.Unchanging: "in rows that are never changed (old versions)",
	rewrite.Nameless:   "rows whose columns cannot be told apart",
	rewrite.Code:       "in views, triggers, functions and definitions",
	rewrite.Statement:  "in statements and expressions that are no values",
	rewrite.Remark:     "in comments of the dump",
	rewrite.NotChosen:  "left out by your choice",
}

// Reason says why something was left; "" of what is no reason.
func Reason(r rewrite.Reason) string { return reasons[r] }

// remedies is the one table of what to do about what was left, at the place where it is stored.
var remedies = map[rewrite.Reason]string{
	rewrite.Identifier: "leave it: a permanent identifier, which no page loads",
	rewrite.Cached:     "a cached copy: fix its source, then empty the cache (apply --drop-caches, or the system's own way)",
	rewrite.NoHTTPS:    "its host has no HTTPS: keep a copy on your own site (trimlantern decide adopt), or put another address there",
	rewrite.NoVerdict:  "nothing is known of its host: run trimlantern preview, which asks it, or say it with trimlantern decide",
	rewrite.Possible:   "check the script: does it load this? Then say with trimlantern decide what its host does",
	rewrite.Linked:     "only a link to another host: it may stay",
	rewrite.Kept:       "left by your decision in the site file",
	rewrite.Unsound:    "the value is not sound: trimlantern mend, or edit it in the system itself",
	rewrite.Opaque:     "a class's own format: edit it in the system itself",
	rewrite.TooDeep:    "nested too deep: edit it in the system itself",
	rewrite.NoKey:      "its table has no key: edit it in the database",
	rewrite.Subdomain:  "a name below the site's: is it yours? Then name it under also in the site file",
	rewrite.LookAlike:  "another host, whose name only looks like the site's",
	rewrite.OtherPort:  "another port is another origin: edit it in the system itself",
	rewrite.Outside:    "outside of the site's folder: it belongs to somebody else",
	rewrite.Private:    "left from development: edit it in the system itself",
	rewrite.Standard:   "leave it: the name of a standard",
	rewrite.Unsealed:   "a length or an encoding around it cannot be made to fit: edit it in the system itself",
	rewrite.Protected:  "a hash or a signature covers it: save it again in the system itself",
	rewrite.Binary:     "inside binary data: replace the file in the system itself",
	rewrite.Unread:     "compressed or encoded in a way that is not read: edit it in the system itself",
	rewrite.Unclear:    "letters stand directly behind the host: put a blank between them",
	rewrite.Hidden:     "row-level security keeps rows from this database user: name one under database that sees all of them",
	rewrite.NotRead:    "it is not read: look into it yourself, then say with trimlantern decide accept that it is well",
	rewrite.Followed:   "the database would empty the rows that refer to it: change both in the system itself, or set ON UPDATE CASCADE",
	rewrite.Code:       "code or a definition: write https there with the statement that made it (ALTER, CREATE OR REPLACE)",
	rewrite.Charset:    "the connection's charset would change its text: set charset under database in the site file to that of the column",
	rewrite.Rule:       "a rule: check what it is for; a condition should accept both http:// and https://, and a redirect to the secure address may stay",
	rewrite.Pieces:     "the address is put together from pieces: write https where its scheme is set",
	rewrite.Malformed:  "not a well-formed address: correct it in the system itself",
}

// Remedy says what to do about what was left for a reason; where there is nothing to do, why it was left.
func Remedy(r rewrite.Reason) string {
	if do := remedies[r]; do != "" {
		return do
	}
	return Reason(r)
}

// What to do at a place that was not left.
const (
	RemedyJoined  = "check this line: it seems to build the address; write https:// here, or where the start of the address is set"
	RemedyPiece   = "check this line: it contains part of the address"
	RemedySheet   = "trimlantern apply changes it: it is in the newest sheet, %[1]s"
	RemedyLoaded  = "a page does more than link to it: write https:// here, or decide about it: trimlantern decide replace"
	RemedyPreview = "not in a change sheet yet: run trimlantern preview"
)
