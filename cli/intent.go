package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/work"
)

// intent is what people mean by words that are names of no command here.
type intent struct {
	below string // the command that the words come after; "": the program itself
	words string // separated by blanks
	does  string // what does it here
}

// intents are read in order. A word has one meaning after one command.
var intents = []intent{
	{"", "rollback revert restore back unapply unfix", "trimlantern undo puts back what a journal says; trimlantern redirect remove takes rules out of a file"},
	{"", "dry-run dryrun simulate plan diff rehearse test", "trimlantern preview is the dry run: it shows every change and makes none"},
	{"", "rewrite replace convert run execute do go start change update secure migrate", "trimlantern preview shows every change, trimlantern apply makes them; trimlantern switch leads through all steps"},
	{"", "fix repair correct", "trimlantern mend corrects values that an earlier replacement broke; trimlantern apply carries out what trimlantern preview shows"},
	{"", "certificate ssl tls https csr acme renew revoke issue obtain", "trimlantern cert obtains, checks, renews and revokes certificates"},
	{"", "crawl spider audit mixed-content mixed links verify check-pages", "trimlantern scan reads every page as browsers do and lists what is insecure"},
	{"", "find where locate search grep", "trimlantern trace says where a reference is stored"},
	{"", "export dump save", "trimlantern backup keeps the database and the files; trimlantern apply --write makes a new dump of an exported database"},
	{"", "import load", "trimlantern init --database dump:FILE takes an exported database"},
	{"", "config configure setup new create add site", "trimlantern init writes the site file"},
	{"", "report summary findings results list ls info", "trimlantern show lists findings and changes; trimlantern scan --report FILE.html writes a page"},
	{"", "monitor watch cron health", "trimlantern checkup is one health check for a timer"},
	{"", "redirects rules htaccess hsts headers", "trimlantern redirect shows, installs, removes and tests the server's rules"},
	{"", "ignore accept exclude skip allow whitelist", "trimlantern decide records decisions about findings and hosts"},
	{"", "log logs journal logbook", "trimlantern history lists what was done, and checks the logbook"},
	{"", "sites all multi network", "trimlantern fleet asks the same of many sites"},
	{"", "version about", "trimlantern --version says which one this is"},
	{"", "next todo where-am-i progress state", "trimlantern status shows the road and the next step"},
	{"", "clean purge flush cache caches", "trimlantern apply --drop-caches also removes cached rows that are safe to lose"},
	{"cert", "new create get issue order", "trimlantern cert obtain obtains a certificate"},
	{"cert", "csr sign", "trimlantern cert request makes a key and a signing request"},
	{"cert", "verify show info test status", "trimlantern cert check judges certificate files; trimlantern ready judges what is served"},
	{"cert", "delete remove cancel", "trimlantern cert revoke has a certificate revoked"},
	{"redirect", "add set enable on put write", "trimlantern redirect install puts the rules into a file"},
	{"redirect", "delete disable uninstall off clear", "trimlantern redirect remove takes the rules out again"},
	{"redirect", "check verify follow", "trimlantern redirect test follows every kind of address"},
	{"redirect", "print rules list", "trimlantern redirect show prints the rules for a server"},
	{"fleet", "list ls sites", "trimlantern fleet status shows each site in one line"},
	{"fleet", "add new", "trimlantern fleet init FOLDER finds the sites below a folder"},
	{"decide", "ignore skip allow whitelist", "trimlantern decide accept takes a finding as it is, with a reason; trimlantern decide leave leaves a host alone"},
	{"decide", "copy download mirror", "trimlantern decide adopt keeps a copy of what a host serves"},
}

// meant returns what does here what a word means after a command; "" where that is not known.
func meant(c *cobra.Command, word string) string {
	below := strings.TrimPrefix(strings.TrimPrefix(c.CommandPath(), c.Root().Name()), " ")
	for _, i := range intents {
		if i.below == below && slices.Contains(strings.Fields(i.words), strings.ToLower(word)) {
			return i.does
		}
	}
	for _, top := range c.Root().Commands() {
		if c.HasParent() && top.Name() == word && !top.Hidden {
			return "that is a command of its own: trimlantern " + word
		}
	}
	return ""
}

// flagIntents are flags of other programs, and what says the same here. What begins with -- counts where the command has it.
var flagIntents = map[string][]string{
	"dry-run": {"trimlantern preview is the dry run: it shows every change and makes none"}, "simulate": {"trimlantern preview is the dry run: it shows every change and makes none"},
	"rollback": {"trimlantern undo puts back what a journal says"}, "revert": {"trimlantern undo puts back what a journal says"},
	"force": {"--yes"}, "assume-yes": {"--yes"}, "y": {"--yes"},
	"url": {"--site"}, "domain": {"--site"}, "host": {"--site"}, "hostname": {"--site"}, "address": {"--site"}, "alias": {"--also"}, "www": {"--also"},
	"db": {"--database"}, "dsn": {"--database"}, "dump": {"--database"}, "sql": {"--database"},
	"user": {"--database"}, "username": {"--database"}, "password": {"--password-env", "--password-file"}, "pass": {"--password-env"}, "p": {"--password-env"},
	"from": {"the addresses are told by the site file: trimlantern init --site https://HOST"}, "to": {"the addresses are told by the site file: trimlantern init --site https://HOST"},
	"old": {"the addresses are told by the site file: trimlantern init --site https://HOST"}, "new": {"the addresses are told by the site file: trimlantern init --site https://HOST"},
	"tables": {"--table"}, "exclude": {"--except"}, "skip": {"--except"}, "ignore": {"--except"}, "include": {"--table"},
	"json": {"--format"}, "csv": {"--format"}, "output": {"--report", "--write"}, "o": {"--report", "--write"}, "html": {"--report"},
	"debug": {"--verbose"}, "v": {"--verbose"}, "silent": {"--quiet"}, "q": {"--quiet"}, "no-color": {"--color"}, "no-colour": {"--color"},
	"threads": {"--parallel"}, "jobs": {"--parallel"}, "concurrency": {"--parallel"}, "workers": {"--parallel"}, "limit": {"--pages"}, "max-pages": {"--pages"}, "max-depth": {"--depth"},
	"insecure": {"--ca"}, "k": {"--ca"}, "cacert": {"--ca"}, "config-file": {"--config"}, "c": {"--config"}, "path": {"--directory"}, "dir": {"--directory"}, "folder": {"--directory"},
	"timeout": {"--wait"}, "throttle": {"--rate"}, "delay": {"--rate"}, "rate-limit": {"--rate"}, "mail": {"--email"}, "e-mail": {"--email"},
}

// flagMeant returns what says here what a flag says elsewhere; "" where that is not known.
func flagMeant(c *cobra.Command, name string) string {
	for _, says := range flagIntents[strings.ToLower(name)] {
		flag, ours := strings.CutPrefix(says, "--")
		if !ours {
			return says
		}
		if f := c.Flags().Lookup(flag); f != nil && !f.Hidden {
			return "did you mean: " + says
		}
	}
	var others []string
	eachCommand(c.Root(), func(other *cobra.Command) {
		if f := other.LocalFlags().Lookup(name); f != nil && !f.Hidden && !other.Hidden {
			others = append(others, other.CommandPath())
		}
	})
	if len(others) > 0 {
		return "--" + name + " belongs to " + strings.Join(others[:min(len(others), 3)], ", ")
	}
	return ""
}

func eachCommand(c *cobra.Command, do func(*cobra.Command)) {
	for _, sub := range c.Commands() {
		do(sub)
		eachCommand(sub, do)
	}
}

// remotePlace is how people write a place on another machine: ssh://host/path, user@host:/path, sftp://…
var remotePlace = regexp.MustCompile(`^(?:(?:ssh|sftp|ftps?|scp|rsync)://|[A-Za-z0-9._-]+@[A-Za-z0-9.-]+(?::|$))`)

// here refuses a place on another machine; name is the flag or argument.
func here(name, place string) error {
	if !remotePlace.MatchString(place) {
		return nil
	}
	if _, err := os.Lstat(place); err == nil { // a folder may be called so
		return nil
	}
	return &work.Fault{Code: work.Misuse, What: fmt.Sprintf("%s %s is on another machine", name, place),
		Do: "run trimlantern there: it is one file, copy it; or open the database through a tunnel (ssh -L 3307:127.0.0.1:3306 HOST, then --database mysql://USER@127.0.0.1:3307/NAME) and work on a copy of the files; or take an exported database: --database dump:FILE"}
}

// databaseMeant says how the address of a database is to be written that cannot be read.
func databaseMeant(raw string) string {
	kind := ""
	switch ext := strings.ToLower(filepath.Ext(strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(raw, ".gz"), ".zst"), ".bz2"), ".xz"))); ext {
	case ".sql", ".dump":
		kind = work.DumpKind
	case ".db", ".sqlite", ".sqlite3":
		kind = "sqlite"
	}
	if kind != "" && !strings.Contains(raw, "://") {
		return "did you mean: --database " + kind + ":" + raw
	}
	if _, err := os.Stat(raw); err == nil {
		return "write what it is: --database dump:" + raw + " for an exported database, sqlite:" + raw + " for an SQLite file"
	}
	return "write sqlite:FILE, dump:FILE, mysql://USER@HOST:PORT/NAME or postgres://USER@HOST:PORT/NAME"
}
