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
	Hidden     Reason = "hidden"     // a table of which the database hides rows
	Unloadable Reason = "unloadable" // PHP, asked for a second opinion, would not load it after the change
	Immutable  Reason = "immutable"  // a row that its system never changes: an old version, or addressed by its content
	Nameless   Reason = "nameless"   // nobody can tell the columns of its row apart, and some are not to be changed
	Code       Reason = "code"       // in what a database keeps or runs: a view, a trigger, a function, a default
	Statement  Reason = "statement"  // in a statement of a dump that is no row, or in an expression
	Remark     Reason = "remark"     // in a comment of a dump
	Charset    Reason = "charset"    // its text does not survive the charset of the connection
)

// reasons is the one table of reasons: their words and whether a person must act.
var reasons = map[Reason]struct {
	words  string
	person bool
}{
	Linked:     {"other hosts, only linked, not loaded", false},
	Standard:   {"names of standards, not addresses", false},
	Identifier: {"permanent identifiers", false},
	LookAlike:  {"look-alike hosts, not this site", false},
	Kept:       {"left by your decision", false},
	Cached:     {"cached copies, made anew by the system", false},
	OtherPort:  {"this host on another port: another origin", true},
	Outside:    {"this host, outside the site's folder", true},
	Subdomain:  {"sub-domains not named; add them if they are yours", true},
	Private:    {"private addresses, left from development", true},
	NoHTTPS:    {"loaded from hosts without HTTPS", true},
	NoVerdict:  {"loaded from hosts that could not be asked", true},
	Possible:   {"other hosts that a script may load", true},
	Unsound:    {"serialized values that are not sound", true},
	Opaque:     {"inside a class's own format", true},
	KeyTaken:   {"array keys whose secure form exists already", true},
	TooDeep:    {"envelopes nested too deep", true},
	TooLong:    {"values that would outgrow their column", true},
	NoKey:      {"rows of tables without a key", true},
	ReadOnly:   {"in files that may not be written", true},
	Generated:  {"in generated files: change what makes them", true},
	Taken:      {"would break a unique index", true},
	List:       {"in columns of lists or fixed values", true},
	Unsealed:   {"cannot be sealed again", true},
	Protected:  {"protected by a hash or a signature", true},
	Binary:     {"inside binary data", true},
	Unread:     {"compressed or encoded, and not read", true},
	Unclear:    {"letters directly behind the host: where does it end?", true},
	Malformed:  {"addresses of this site that are not well formed", true},
	Hidden:     {"tables with rows that this database user may not see", true},
	Unloadable: {"values that PHP would no longer load", true},
	Charset:    {"text that the connection's charset would change", true},
	Immutable:  {"rows that are never changed (old versions, named by their content): not looked at", false},
	Nameless:   {"rows whose columns cannot be told apart", true},
	Code:       {"in views, triggers, functions and definitions", true},
	Statement:  {"in statements and expressions that are no values", true},
	Remark:     {"in comments of the dump", false},
	NotChosen:  {"left out by your choice", false},
}

// Words returns the reason as a person reads it.
func (r Reason) Words() string { return reasons[r].words }

// NeedsPerson reports whether somebody must act on it.
func (r Reason) NeedsPerson() bool { return reasons[r].person }
