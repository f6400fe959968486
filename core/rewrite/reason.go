package rewrite

// Reason says why something was left alone.
type Reason string

// The reasons. The first group is settled, the second needs a person.
const (
	Linked     Reason = "linked"     // another host, which a page does not load
	Standard   Reason = "standard"   // the name of a standard
	Identifier Reason = "identifier" // a permanent identifier
	LookAlike  Reason = "look-alike" // a host that only looks like the site's
	Kept       Reason = "kept"       // the user's decision
	Cached     Reason = "cached"     // a cached copy, made anew by the system
	NotChosen  Reason = "not-chosen" // left out by the user's choice

	OtherPort  Reason = "other-port" // the site's host on a port of its own
	Outside    Reason = "outside"    // the site's host, outside its folder
	Subdomain  Reason = "sub-domain" // a name below the site's that was not named
	Private    Reason = "private"    // a leftover of development
	NoHTTPS    Reason = "no-https"   // loaded from a host without HTTPS
	NoVerdict  Reason = "no-verdict" // loaded from a host nobody could ask
	Possible   Reason = "possible"   // another host, which a script may load
	Unsound    Reason = "unsound"    // looks serialized and cannot be read
	Opaque     Reason = "opaque"     // a class's own format
	KeyTaken   Reason = "key-taken"  // the rewritten array key exists already
	TooDeep    Reason = "too-deep"   // envelopes nested past the limit
	TooLong    Reason = "too-long"   // would outgrow its column
	NoKey      Reason = "no-key"     // its table has no key to find the row again
	ReadOnly   Reason = "read-only"  // stands in a file that may not be written
	Generated  Reason = "generated"  // stands in a file that a program makes anew
	Taken      Reason = "taken"      // a unique index has the secure form already
	List       Reason = "list"       // a column of lists or enumerations, which are not rewritten
	Unsealed   Reason = "unsealed"   // what says how long it is, or wraps it, cannot be made to fit
	Protected  Reason = "protected"  // a hash or a signature would no longer fit
	Binary     Reason = "binary"     // inside of binary content
	Unread     Reason = "unread"     // compressed or encoded in a way that is not read
	Unclear    Reason = "unclear"    // nobody can tell where the host ends
	Malformed  Reason = "malformed"  // an address that is not well formed
	Rule       Reason = "rule"       // a condition that tests for it, or a pair whose other side is its secure twin
	Pieces     Reason = "pieces"     // written in pieces that are joined elsewhere
	Hidden     Reason = "hidden"     // a table of which the database hides rows
	NotRead    Reason = "not-read"   // a part of the database that is not read
	Followed   Reason = "followed"   // rows of another table refer to it, and the database would empty those
	Unloadable Reason = "unloadable" // PHP, asked for a second opinion, would not load it after the change
	Immutable  Reason = "immutable"  // a row that its system never changes, of a table that is not looked at: addressed by its content
	Unchanging Reason = "unchanging" // in such a row of a table that is looked at: an old version
	Nameless   Reason = "nameless"   // nobody can tell the columns of its row apart, and some are not to be changed
	Code       Reason = "code"       // in what a database keeps or runs: a view, a trigger, a function, a default
	Statement  Reason = "statement"  // in a statement of a dump that is no row, or in an expression
	Remark     Reason = "remark"     // in a comment of a dump
	Charset    Reason = "charset"    // its text does not survive the charset of the connection
)

// settled are the reasons about which nobody needs to do anything.
var settled = map[Reason]bool{Linked: true, Standard: true, Identifier: true, LookAlike: true, Kept: true, Cached: true, Immutable: true, Unchanging: true, Remark: true, NotChosen: true}

// NeedsPerson reports whether somebody must act on it.
func (r Reason) NeedsPerson() bool { return r != "" && !settled[r] }
