package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trimlantern/report"
	"trimlantern/work"
)

// groups are the parts of the help's list of commands, in order, with the commands of each in the order of the road.
var groups = []struct {
	title    string
	commands []string
}{
	{"The road", []string{"switch", "init", "ready", "cert", "backup", "preview", "show", "decide", "apply", "redirect", "scan"}},
	{"Along the way", []string{"status", "history", "undo", "trace", "mend", "filter"}},
	{"Afterwards, and for many sites", []string{"checkup", "fleet"}},
	{"About the program", []string{"demo", "systems", "completion", "help"}},
}

// topics are what holds for all commands: help NAME shows one.
var topics = []struct{ name, short, text string }{
	{"codes", "Exit codes", `Every command ends with one of four exit codes:

  0  it did what it was asked, or the check found nothing wrong
  1  a check failed (scan, ready, redirect test, checkup, status, cert check),
     or a planned change was not made
  2  wrong use or input; nothing was changed
  3  the outside world failed; what was done is in the journal, and the same
     command goes on

preview, mend and apply end with 0 when they did their work, whatever is left
for a person to decide. --fail-on makes them stricter: change (something is left
to change), person (something needs a decision). scan --fail-on CLASS counts
only findings of that class and graver ones.`},
	{"json", "Results for programs", `--format json writes a result as one JSON object to standard output. Notes and
progress go to standard error. Every object has "version": 1; the number grows
when a field changes its meaning. Names and types of fields stay; new fields may
come. Lists are [] when they are empty, never null. Times are RFC 3339.

An error is an object with "error", "do" (what to do) and "code" (exit code).

show changes, left, scan and journal write JSON Lines: first a line with
"version", "show", "id" and "site", then one object a line, as they come.

scan --report FILE writes HTML, JSON, CSV, JUnit XML or SARIF, by the ending of
the name. docs/formats.md describes the files that the program keeps.

trimlantern help json NAME prints the JSON Schema of a result:
` + strings.TrimSuffix(report.SchemaList(), "\n")},
	{"site-file", "What may stand in trimlantern.yaml", `trimlantern init writes the site file; it can be edited. Paths count from
folder, or from the file's own folder. Unknown keys are refused.

  site       the site's HTTPS address: https://HOST
  also       other names of the same site: [www.HOST]
  sisters    other sites of the same network: a list of site and also
  system     the kind of system: wordpress, generic, or a FILE.yaml of your own
  folder     the site's folder, from / on
  system-folder  the system's folder, where its configuration lies elsewhere
  system-config  the system's own configuration, where the database is not read
             from it: it may hold the site's addresses
  database   kind (mysql, postgres, sqlite, dump), file, config (the system's
             own configuration), host, port, socket, user, name, schema,
             charset, tls (off, encrypt, verify), tls-ca, identity, prefix; one
             of password-env, password-file. Never the password itself.
  files      folders with themes or plugins
  choose     a part of the site: tables, except, sites, address
  hosts      decisions about other hosts: HOST: secure, insecure or leave
  accepted   findings that do not count: finding, about, because, date
  replaced   addresses that take the place of others: from, to, copy, file, date
  relative   places whose own addresses are written from the path on: TABLE,
             TABLE.COLUMN, setting:NAME, file:FILE
  edited     texts that were edited: cell, path, was, text (hashes), date
  copies     where copies of other hosts' files lie: folder, address
  network    resolve: [HOST:PORT:ADDR], ca: FILE, credentials: FILE`},
	{"words", "The words that are used here", `alias         another name of the same site, like www.
sister site   another site of the same network, with an address of its own
reference     one URL with an insecure scheme at one place
spelling      how a reference is written there: plain, http:\/\/, http%3A …
envelope      what wraps text and must be sealed again when the text changes: a
              length, a checksum, an encoding, a signature
system        a description of one kind of content-managed system (YAML)
change sheet  the exact set of proposed changes: made by preview, carried out by
              apply
journal       written ahead of every change; undo reads it
logbook       sheets, journals, scans and evidence of one site
verdict       what was found out about another host: it serves the same thing
              over HTTPS, does not, or cannot be told

clause        one part of what a scan claims of a whole site; "clean" needs all:
  addresses   every address that is known was asked for
  parts       all that pages load was read
  scripts     the scripts of all pages were run
  browser     the browser looked at them to the end
  identity    other visitors see the same: device, language, second visit
  walls       nothing is in the way: a password, a question, a challenge

Findings of a scan, the gravest first (W3C Mixed Content):
blocked       browsers refuse to load it
upgraded      browsers ask over HTTPS instead; broken where there is none
form          a form sends to it
download      a click downloads it: browsers refuse
masked        the page's policy has browsers ask over HTTPS; not all know it
possible      a script, or an attribute that scripts read: it may be loaded
link          loads nothing, costs a redirect: links, canonical, feeds

A fault counts. A note is shown and does not count. What the owner accepts is
shown with the reason and does not count again.`},
	{"options", "Options of all commands", ""},
	{"licences", "The licences of what the program is made of", ""},
}

// helpWidth is how wide help is.
const helpWidth = 80

// face gives the program its own help and its own words for mistakes.
func (a *app) face(root *cobra.Command) {
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { helpOf(c.OutOrStdout(), c) })
	root.SetUsageFunc(func(c *cobra.Command) error {
		helpOf(c.OutOrStderr(), c)
		return nil
	})
	for _, t := range topics {
		text := t.text
		topic := &cobra.Command{Use: t.name, Short: t.short, Long: text, Hidden: true}
		if t.name == "options" {
			topic.SetHelpFunc(func(c *cobra.Command, _ []string) {
				fmt.Fprintln(c.OutOrStdout(), "Options of all commands:")
				flagList(c.OutOrStdout(), root.PersistentFlags())
				fmt.Fprintln(c.OutOrStdout(), "\nEach can be set in the environment, like TRIMLANTERN_FORMAT=json.")
			})
		}
		if t.name == "licences" {
			topic.SetHelpFunc(func(c *cobra.Command, _ []string) {
				if err := writeLicences(c.OutOrStdout()); err != nil {
					fmt.Fprintln(c.ErrOrStderr(), err)
				}
			})
		}
		topic.RunE = func(c *cobra.Command, _ []string) error {
			return fmt.Errorf("%q is no command, but a topic of help: trimlantern help %s", c.Name(), c.Name())
		}
		root.AddCommand(topic)
	}
	root.SetFlagErrorFunc(flagFault)
	root.SetHelpCommand(&cobra.Command{
		Use:   "help [COMMAND|TOPIC]",
		Short: "Show the help of a command or a topic",
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 1 && args[0] == "json" {
				return report.SchemaNames(), cobra.ShellCompDirectiveNoFileComp
			}
			return visible(root), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 2 && args[0] == "json" {
				return schemaOf(a.out, args[1])
			}
			c, rest, err := root.Find(args)
			if err != nil || len(rest) > 0 {
				return unknown(root, strings.Join(args, " "))
			}
			return c.Help()
		},
	})
	root.Args = func(*cobra.Command, []string) error { return nil }
	root.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return c.Help()
		}
		return unknown(c, args[0])
	}
}

// schemaOf writes the JSON Schema of a result.
func schemaOf(w io.Writer, name string) error {
	b := report.SchemaOf(name)
	if b == nil {
		do := "trimlantern help json lists the results"
		if near := nearest(name, report.SchemaNames()); near != "" {
			do = "did you mean: trimlantern help json " + near
		}
		return &work.Fault{Code: work.Misuse, What: fmt.Sprintf("no result is called %q", name), Do: do}
	}
	_, err := w.Write(b)
	return cannotWrite(err)
}

// unknown says that there is no such command, and which may be meant.
func unknown(c *cobra.Command, name string) error {
	do := "see " + c.CommandPath() + " --help"
	if near := nearest(name, visible(c)); near != "" {
		do = "did you mean: " + c.CommandPath() + " " + near
	}
	if does := meant(c, name); does != "" {
		do = does
	}
	if err := here("the place", name); err != nil {
		return err
	}
	return &work.Fault{Code: work.Misuse, What: fmt.Sprintf("unknown command %q", name), Do: do}
}

func visible(c *cobra.Command) (names []string) {
	for _, sub := range c.Commands() {
		if !sub.Hidden || c.Parent() == nil {
			names = append(names, sub.Name())
		}
	}
	return names
}

// flagFault puts a mistake in the flags into a user's words.
func flagFault(c *cobra.Command, err error) error {
	do := "see " + c.CommandPath() + " --help"
	what := err.Error()
	var none *pflag.NotExistError
	var bad *pflag.InvalidValueError
	var missing *pflag.ValueRequiredError
	switch {
	case errors.As(err, &none):
		name := none.GetSpecifiedName()
		what = "unknown flag: --" + name
		if none.GetSpecifiedShortnames() != "" {
			what = "unknown flag: -" + name
		}
		var names []string
		c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		if near := nearest(name, names); near != "" {
			do = "did you mean: --" + near
		}
		if does := flagMeant(c, name); does != "" {
			do = does
		}
	case errors.As(err, &missing):
		what = fmt.Sprintf("--%s needs a value", missing.GetSpecifiedName())
	case errors.As(err, &bad):
		f := bad.GetFlag()
		if some, ok := f.Value.(interface{ wants() string }); ok {
			what = fmt.Sprintf("--%s %s is not known; %s", f.Name, bad.GetValue(), some.wants())
			if kind := f.Value.Type(); kind == "int" || kind == "duration" {
				what = fmt.Sprintf("--%s %s: %s", f.Name, bad.GetValue(), some.wants())
			}
			break
		}
		what = fmt.Sprintf("--%s %s: %s", f.Name, bad.GetValue(), kindOf(f))
	}
	return &work.Fault{Code: work.Misuse, What: what, Do: do}
}

// kindOf says what a flag takes.
func kindOf(f *pflag.Flag) string {
	switch f.Value.Type() {
	case "int", "intSlice", "int64", "count":
		return "that is no number"
	case "time":
		return "that is no time; write it like 21d or 36h"
	case "duration":
		return "that is no time; write it like 90s, 30m or 2h"
	case "bool":
		return "write true or false"
	}
	return "that cannot be used"
}

// nearest returns the name that a mistyped one most likely means; "" where none is near.
func nearest(name string, names []string) string {
	best, at := "", max(1, len(name)/3)+1
	for _, n := range names {
		d := distance(name, n)
		if strings.HasPrefix(n, name) && len(name) > 1 {
			d = 1
		}
		if d < at {
			best, at = n, d
		}
	}
	return best
}

// distance is how many letters differ (Levenshtein).
// Two that changed places count as one.
func distance(a, b string) int {
	for i := 0; len(a) == len(b) && i+1 < len(a); i++ {
		if a[i] == b[i+1] && a[i+1] == b[i] && a[:i] == b[:i] && a[i+2:] == b[i+2:] && a != b {
			return 1
		}
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			d := before
			if a[i] != b[j] {
				d++
			}
			before = row[j+1]
			row[j+1] = min(d, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

// argFault says what is wrong with the words behind a command.
func argFault(c *cobra.Command, what string) error {
	return &work.Fault{Code: work.Misuse, What: nameOf(c) + " " + what, Do: "see " + c.CommandPath() + " --help"}
}

// nameOf is a command without the program's name.
func nameOf(c *cobra.Command) string {
	return strings.TrimPrefix(c.CommandPath(), c.Root().Name()+" ")
}

// atMost and exactly say in plain words how many words a command takes; names are what they are.
func atMost(n int, names string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) > n {
			return argFault(c, fmt.Sprintf("takes %s, and not %q too", names, strings.Join(args[n:], " ")))
		}
		return nil
	}
}

func atLeast(n int, names string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < n {
			return argFault(c, "needs "+names)
		}
		return nil
	}
}

func exactly(n int, names string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < n {
			return argFault(c, "needs "+names)
		}
		return atMost(n, names)(c, args)
	}
}

// helpOf writes the help of a command.
func helpOf(w io.Writer, c *cobra.Command) {
	if c.Parent() == nil {
		front(w, c)
		return
	}
	if i := slices.IndexFunc(topics, func(t struct{ name, short, text string }) bool { return t.name == c.Name() }); i >= 0 && c.Parent().Parent() == nil {
		fmt.Fprintln(w, c.Long)
		return
	}
	fmt.Fprintf(w, "%s.\n", strings.TrimSuffix(c.Short, "."))
	if long := strings.TrimSpace(strings.Replace(c.Long, exitCodes, "", 1)); long != "" {
		fmt.Fprintf(w, "\n%s\n", flow(long))
	}
	fmt.Fprintf(w, "\nUsage:\n  %s\n", usage(c))
	if c.HasAvailableSubCommands() {
		fmt.Fprintf(w, "\nCommands:\n")
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() {
				entry(w, sub.Name(), sub.Short, 12)
			}
		}
	}
	if c.Example != "" {
		fmt.Fprintf(w, "\nExamples:\n%s\n", folded(c.Example))
	}
	if hasOptions(c) {
		fmt.Fprintf(w, "\nOptions:\n")
		flagList(w, c.LocalNonPersistentFlags())
	}
	fmt.Fprintf(w, "\nOptions of all commands: trimlantern help options. Exit codes: help codes.\n")
}

// usage is the command line in one.
func usage(c *cobra.Command) string {
	line := c.CommandPath()
	if _, rest, ok := strings.Cut(c.Use, " "); ok {
		line += " " + rest
	}
	if c.HasAvailableSubCommands() {
		line += " COMMAND"
	}
	if hasOptions(c) {
		line += " [OPTION]…"
	}
	return line
}

// hasOptions reports whether a command has options of its own, but for --help.
func hasOptions(c *cobra.Command) (has bool) {
	c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) { has = has || !f.Hidden && f.Name != "help" })
	return has
}

// front is the help of the program as a whole.
func front(w io.Writer, root *cobra.Command) {
	fmt.Fprintf(w, "%s.\n", root.Short)
	fmt.Fprintf(w, "\n%s\n", flow(strings.TrimSpace(root.Long)))
	fmt.Fprintf(w, "\nUsage:\n  trimlantern COMMAND [OPTION]…\n\nExamples:\n%s\n", root.Example)
	for _, g := range groups {
		fmt.Fprintf(w, "\n%s:\n", g.title)
		for _, name := range g.commands {
			for _, c := range root.Commands() {
				if c.Name() == name {
					entry(w, name, c.Short, 10)
				}
			}
		}
	}
	fmt.Fprintf(w, "\nMore:\n")
	for _, t := range topics {
		entry(w, "help "+t.name, t.short, 14)
	}
}

// entry writes a name with its words, wrapped.
func entry(w io.Writer, name, words string, width int) {
	first := fmt.Sprintf("  %-*s  ", width, name)
	rest := strings.Repeat(" ", width+4)
	if len(first) > width+4 {
		fmt.Fprintf(w, "%s\n", strings.TrimRight(first, " "))
		first = rest
	}
	for i, line := range strings.Split(wrapTo(words, helpWidth-width-4), "\n") {
		if i > 0 {
			first = rest
		}
		fmt.Fprintf(w, "%s%s\n", first, line)
	}
}

// flagList writes flags with their words, wrapped.
func flagList(w io.Writer, flags *pflag.FlagSet) {
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		value, words := pflag.UnquoteUsage(f)
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if value != "" {
			name += " " + value
		}
		switch {
		case f.DefValue == "" || f.DefValue == "false" || f.DefValue == "[]" || f.DefValue == "0" || f.DefValue == "0s" || strings.Contains(words, "default"):
		default:
			words += fmt.Sprintf(" (default: %s)", f.DefValue)
		}
		entry(w, name, words, 22)
	})
}

// folded breaks long command lines as a shell reads them: a backslash at the end, and more on the next line.
func folded(examples string) string {
	var out []string
	for _, line := range strings.Split(examples, "\n") {
		for len(line) > helpWidth {
			at := -1
			quote := byte(0)
			for i := range len(line) {
				switch ch := line[i]; {
				case quote != 0:
					if ch == quote {
						quote = 0
					}
				case ch == '\'' || ch == '"':
					quote = ch
				case ch == ' ' && i > 8 && i < helpWidth-2 && (at < 0 || line[i+1] == '-' || !strings.HasPrefix(line[i+1:], "-") && !isValue(line[:i])):
					at = i
				}
			}
			if at < 0 {
				break
			}
			out = append(out, line[:at]+" \\")
			line = "      " + line[at+1:]
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

// isValue reports whether what stands before a blank is a flag, so that the flag's value follows.
func isValue(before string) bool {
	word := before[strings.LastIndexByte(before, ' ')+1:]
	return strings.HasPrefix(word, "--")
}

// flow wraps paragraphs that are not set in columns.
func flow(text string) string {
	var out []string
	for _, p := range strings.Split(text, "\n\n") {
		if set := slices.ContainsFunc(strings.Split(p, "\n"), func(l string) bool { return strings.HasPrefix(l, "  ") }); !set {
			p = wrapTo(strings.Join(strings.Fields(p), " "), helpWidth)
		}
		out = append(out, p)
	}
	return strings.Join(out, "\n\n")
}

// wrapTo breaks words into lines of a width.
func wrapTo(s string, width int) string {
	var b strings.Builder
	n := 0
	for i, word := range strings.Fields(s) {
		size := len([]rune(word))
		switch {
		case i == 0:
		case n+1+size > width:
			b.WriteByte('\n')
			n = 0
		default:
			b.WriteByte(' ')
			n++
		}
		b.WriteString(word)
		n += size
	}
	return b.String()
}
