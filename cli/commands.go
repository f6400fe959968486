package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/core/address"
	"trimlantern/core/envelope"
	"trimlantern/core/sheet"
	"trimlantern/outside/sitefile"
	"trimlantern/outside/system"
	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/dumps"
	"trimlantern/work/preview"
	"trimlantern/work/run"
	"trimlantern/work/setup"
	"trimlantern/work/status"
)

func (a *app) initCommand() *cobra.Command {
	var o setup.Options
	var databaseURL string
	move := false
	c := &cobra.Command{
		Use:   "init [--site https://HOST] [FOLDER]",
		Short: "Write the site file: which site, which database, which files",
		Long: `Writes trimlantern.yaml. Below FOLDER it looks for the system's own
configuration and takes database, user, password and table prefix from it, or
for an SQLite database; or the flags say it. Without --site the database says the
address; sister sites are found there too. The password is never written: the site
file says where it is kept. Running init again corrects the site file; decisions stay.

--database dump:FILE takes an exported database, packed or not: it is looked at like a
live one, and apply makes a new dump or a patch of it. --system FILE.yaml describes a
system of your own, also one whose content is files.

The site file and the logbook, with all old values, are kept in a folder of the site
below your data folder ($XDG_DATA_HOME/trimlantern/HOST), where no web server can hand
them out. --here keeps them in the current folder, --config FILE wherever you say.

` + exitCodes,
		Example: `  trimlantern init /var/www/ternrock
  trimlantern init --site https://ternrock.example --also www.ternrock.example /var/www/ternrock
  trimlantern init --site https://ternrock.example --database sqlite:site.db --prefix tr_ --files theme
  trimlantern init --site https://ternrock.example --database dump:museum.sql.gz
  trimlantern init --site https://ternrock.example --database mysql://keeper@localhost/museum \
      --password-env MUSEUM_PASSWORD --prefix wp_
  trimlantern init --site https://ternrock.example --password-file secret \
      --database 'postgres://keeper@db.ternrock.example/museum?tls=verify'`,
		Args: atMost(1, "one FOLDER"),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				o.Folder = args[0]
			}
			if move {
				r, err := work.Move(a.config, a.home)
				if err != nil {
					return err
				}
				return a.show(r, func(t *report.Text) { t.Moved(r) })
			}
			if databaseURL != "" {
				if err := parseDatabase(databaseURL, &o.Database); err != nil {
					return err
				}
			}
			if c.Flags().Changed("site") && strings.TrimSpace(a.site) == "" {
				return address.ErrEmpty
			}
			o.Site, o.Also, o.Sisters, o.Path, o.Home = a.site, a.also, a.sisters, a.config, a.home
			if o.Here && o.Path != "" {
				return fmt.Errorf("--here and --config say two places for the site file; write one of them")
			}
			o.Network = sitefile.Network{Resolve: a.resolve, CA: a.ca}
			r, err := setup.Init(c.Context(), o, a.progress())
			if err != nil {
				return err
			}
			return a.show(r, func(t *report.Text) { t.Inited(r) })
		},
	}
	a.address(c)
	a.network(c)
	f := c.Flags()
	f.BoolVar(&o.Here, "here", false, "keep site file and logbook in the current folder; not in one that a web server serves")
	f.BoolVar(&move, "move", false, "move the site file that is in use, with its logbook, into your data folder")
	f.StringVar(&databaseURL, "database", "", "the database: `sqlite:FILE`, dump:FILE (an exported one), mysql://USER@HOST/NAME or postgres://USER@HOST/NAME; ?socket=PATH, tls=off|encrypt|verify, tls-ca=FILE, schema=NAME")
	f.StringVar(&o.Database.Config, "system-config", "", "take the database from the system's own configuration `FILE`")
	f.StringVar(&o.Database.Prefix, "prefix", "", "what the names of the site's tables begin with")
	f.StringVar(&o.Database.PasswordEnv, "password-env", "", "the password is in this environment `VARIABLE`")
	f.StringVar(&o.Database.PasswordFile, "password-file", "", "the password is in this `FILE`")
	f.StringVar(&o.Database.Charset, "charset", "", "how the system's own software connects (default utf8mb4)")
	f.StringVar(&o.System, "system", "", "the kind of system: "+strings.Join(system.Names(), ", ")+", or a FILE.yaml of your own")
	f.IntSliceVar(&o.Sites, "sites", nil, "of several sites in one database only these `NUMBERS`")
	f.StringArrayVar(&o.Files, "files", nil, "a `FOLDER` with themes or plugins (repeatable)")
	check(c.RegisterFlagCompletionFunc("system", cobra.FixedCompletions(system.Names(), cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// parseDatabase reads the address of a database. A password in it is refused:
// everybody on the machine could read it.
func parseDatabase(raw string, d *sitefile.Database) error {
	for _, kind := range []string{"sqlite", work.DumpKind} {
		if file, ok := strings.CutPrefix(raw, kind+":"); ok && file != "" {
			d.Kind, d.File = kind, file
			return nil
		}
	}
	u, err := url.Parse(raw)
	kinds := map[string]string{"mysql": "mysql", "mariadb": "mysql", "postgres": "postgres", "postgresql": "postgres"}
	if err != nil || kinds[u.Scheme] == "" || strings.Trim(u.Path, "/") == "" {
		return fmt.Errorf("--database cannot be read; write sqlite:FILE, dump:FILE, mysql://USER@HOST:PORT/NAME or postgres://USER@HOST:PORT/NAME")
	}
	for k := range u.Query() {
		if !slices.Contains([]string{"socket", "tls", "tls-ca", "schema", "charset"}, k) {
			return fmt.Errorf("--database: %q is not known behind the question mark; known are socket, tls, tls-ca, schema and charset", k)
		}
	}
	if _, ok := u.User.Password(); ok {
		return fmt.Errorf("--database must not hold the password, since everybody on the machine can read it there; use --password-env or --password-file")
	}
	q := u.Query()
	d.Kind, d.Host, d.User, d.Name, d.Socket = kinds[u.Scheme], u.Hostname(), u.User.Username(), strings.Trim(u.Path, "/"), q.Get("socket")
	d.TLS, d.TLSCA, d.Schema = q.Get("tls"), q.Get("tls-ca"), q.Get("schema")
	if c := q.Get("charset"); c != "" {
		d.Charset = c
	}
	if p := u.Port(); p != "" {
		if d.Port, err = strconv.Atoi(p); err != nil {
			return fmt.Errorf("--database: %q is no port", p)
		}
	}
	return nil
}

// choice adds the flags that choose a part of the site.
func (a *app) choice(c *cobra.Command, o *sheet.Choice) {
	f := c.Flags()
	f.StringArrayVar(&o.Tables, "table", nil, "read only this `TABLE` (repeatable); * and ? are wildcards")
	f.StringArrayVar(&o.Except, "except", nil, "leave out what fits `PATTERN`: TABLE, TABLE.COLUMN or file:FILE (repeatable)")
	f.IntSliceVar(&o.Sites, "sites", nil, "of several sites in one database only these `NUMBERS`")
}

// strict adds the flag that makes an exit code stricter.
func strict(c *cobra.Command, kinds *[]string) {
	c.Flags().StringSliceVar(kinds, "fail-on", nil, "exit with 1 where something is left of this `KIND`: change, person (repeatable)")
	check(c.RegisterFlagCompletionFunc("fail-on", cobra.FixedCompletions(preview.FailKinds, cobra.ShellCompDirectiveNoFileComp)))
}

// knownKinds refuses what --fail-on does not know.
func knownKinds(kinds []string) error {
	for _, k := range kinds {
		if !slices.Contains(preview.FailKinds, k) {
			return fmt.Errorf("--fail-on %s is not known; write %s", k, strings.Join(preview.FailKinds, " or "))
		}
	}
	return nil
}

func (a *app) previewCommand() *cobra.Command {
	var choice sheet.Choice
	var judge string
	var failOn []string
	c := &cobra.Command{
		Use:   "preview",
		Short: "Show every change, write a change sheet, change nothing",
		Long: `Reads the database and the files that the site file names, and shows what would
change, what is left alone and why, and what needs a person. Nothing is changed:
preview is the dry run. The change sheet in the logbook holds exactly the changes
that apply will make.

Hosts that pages load from are asked whether they serve the same over HTTPS. Where PHP
is installed, it loads every serialized value before and after the change, without any
class: what it would no longer load is left and named.

` + exitCodes,
		Example: `  trimlantern preview
  trimlantern preview --offline --format json
  trimlantern preview --except '*_log' --except comments.comment_author_url
  trimlantern preview --fail-on person`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := knownKinds(failOn); err != nil {
				return err
			}
			j, err := a.open()
			if err != nil {
				return err
			}
			j.Choice, j.Judge, j.FailOn = choice, judge, failOn
			sparing()
			r, err := preview.Run(c.Context(), j)
			if err != nil {
				return err
			}
			return a.show(r, func(t *report.Text) { t.Preview(r) })
		},
	}
	a.network(c)
	a.choice(c, &choice)
	judgeFlag(c, &judge)
	strict(c, &failOn)
	c.Flags().StringVar(&choice.Address, "only", "", "of the site's own addresses change this one alone: `public|core`")
	c.Flags().BoolVar(&a.offline, "offline", false, "ask no other host; what it serves stays unknown")
	return c
}

func (a *app) mendCommand() *cobra.Command {
	var choice sheet.Choice
	var judge string
	var failOn []string
	var cause envelope.Cause
	c := &cobra.Command{
		Use:   "mend",
		Short: "Propose corrected lengths for serialized values that are broken",
		Long: `An earlier careless replacement may have left serialized values whose lengths no
longer fit; the system then drops the whole setting. mend finds them, also inside
other values, JSON and slashes. Each length follows from the one that stands
there and from the replacement: --was and --now say what was replaced by what. It
proposes only what makes a value sound all the way down, and names the rest. Like
preview it writes a change sheet and changes nothing: apply carries it out, undo
takes it back.

` + exitCodes,
		Example: `  trimlantern mend
  trimlantern mend --was http://old.example --now https://ternrock.example
  trimlantern apply`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := knownKinds(failOn); err != nil {
				return err
			}
			j, err := a.open()
			if err != nil {
				return err
			}
			j.Choice, j.Judge, j.FailOn = choice, judge, failOn
			sparing()
			r, err := preview.Mend(c.Context(), j, cause)
			if err != nil {
				return err
			}
			return a.show(r, func(t *report.Text) { t.Preview(r) })
		},
	}
	c.Flags().StringVar(&cause.Was, "was", "http://", "the `TEXT` that was replaced")
	c.Flags().StringVar(&cause.Now, "now", "https://", "the `TEXT` that replaced it")
	a.choice(c, &choice)
	judgeFlag(c, &judge)
	strict(c, &failOn)
	return c
}

// judgeFlag adds the flag for a second opinion.
func judgeFlag(c *cobra.Command, judge *string) {
	c.Flags().StringVar(judge, "judge", "", "the `PHP` that loads serialized values before and after the change, or none (default: the one that is installed)")
}

// sparing has the memory of what comes and goes collected before it gathers.
func sparing() { debug.SetMemoryLimit(120 << 20) }

func (a *app) applyCommand() *cobra.Command {
	var drops bool
	var failOn []string
	var rate, largest int
	var o dumps.ApplyOptions
	c := &cobra.Command{
		Use:   "apply [SHEET]",
		Short: "Carry out a change sheet: journal first, then the change",
		Long: `Carries out the newest change sheet, or the one named. Each value is compared
with what the preview saw; one that changed since is left and named. What stood
there before goes into the journal, through to the disk, before it is changed.
Then the counts are compared with the preview's, and a second preview shows what
is left.

Interrupted at any moment, the same command goes on. For a rehearsal there is
preview: it is the dry run. Transactions are small; --rate slows them down where a
live site or its replicas need room.

An exported database (init --database dump:FILE) is not changed in place: --write
makes a new dump of it, --patch an SQL file with only what changes, to be loaded
over the database that the dump was made of, and another one that takes that back.
A patch leaves rows that were edited since the export, and counts them.

` + exitCodes,
		Example: `  trimlantern apply
  trimlantern apply --drop-caches
  trimlantern apply --rate 200
  trimlantern apply --write museum-https.sql.gz
  trimlantern apply --patch museum-https.sql --largest-file 8`,
		Args:              atMost(1, "one SHEET"),
		ValidArgsFunction: a.complete(func(j *work.Job) ([]string, error) { return j.Book.Sheets() }),
		RunE: func(c *cobra.Command, args []string) error {
			if err := knownKinds(failOn); err != nil {
				return err
			}
			j, err := a.open()
			if err != nil {
				return err
			}
			if o.Write != "" || o.Patch != "" {
				if largest < 1 || largest > 1024 {
					return fmt.Errorf("--largest-file %d: write a number of megabytes from 1 to 1024", largest)
				}
				o.Sheet, o.Largest = strings.Join(args, ""), int64(largest)<<20
				r, err := dumps.Apply(c.Context(), j, o)
				if err != nil {
					return err
				}
				return a.show(r, func(t *report.Text) { t.DumpApplied(r) })
			}
			j.Rate, j.FailOn = rate, failOn
			sparing()
			r, err := run.Apply(c.Context(), j, strings.Join(args, ""), drops)
			if err != nil {
				return err
			}
			return a.show(r, func(t *report.Text) { t.Applied(r) })
		},
	}
	a.network(c)
	c.Flags().BoolVar(&a.offline, "offline", false, "ask no other host in the second preview")
	c.Flags().BoolVar(&drops, "drop-caches", false, "also remove the cached rows that the system description calls safe to lose")
	c.Flags().IntVar(&rate, "rate", 0, "change at most this many `cells` a second")
	c.Flags().StringVar(&o.Write, "write", "", "of an exported database: write the new dump to this `FILE`")
	c.Flags().StringVar(&o.Patch, "patch", "", "of an exported database: write only what changes to this `FILE`, as SQL")
	c.Flags().IntVar(&largest, "largest-file", 2, "split a patch into files of at most this many `MB`")
	strict(c, &failOn)
	c.MarkFlagsMutuallyExclusive("write", "patch")
	return c
}

func (a *app) undoCommand() *cobra.Command {
	var o run.UndoOptions
	var script string
	var rate int
	c := &cobra.Command{
		Use:   "undo [JOURNAL]",
		Short: "Put back exactly what a journal says",
		Long: `Goes backwards through the newest journal that is not undone, or the one named,
and puts back what stood there before. A value that somebody changed since is
left and named. Interrupted, the same command goes on.

--table puts back a part. --as-sql changes nothing and writes plain SQL that does the
same, for somebody without this tool.

` + exitCodes,
		Example: `  trimlantern undo
  trimlantern undo --table options
  trimlantern undo --as-sql back.sql`,
		Args:              atMost(1, "one JOURNAL"),
		ValidArgsFunction: a.complete(func(j *work.Job) ([]string, error) { return j.Book.Journals() }),
		RunE: func(c *cobra.Command, args []string) error {
			j, err := a.open()
			if err != nil {
				return err
			}
			j.Rate, o.Journal = rate, strings.Join(args, "")
			var r *run.Undone
			sparing()
			if script == "" {
				r, err = run.Undo(c.Context(), j, o)
			} else {
				r, err = a.undoSQL(c.Context(), j, o, script)
			}
			if err != nil || script == "-" {
				return err
			}
			return a.show(r, func(t *report.Text) { t.Undone(r) })
		},
	}
	c.Flags().StringArrayVar(&o.Files, "file", nil, "put back this `FILE` too, even outside the folders that the site file names (repeatable)")
	c.Flags().StringArrayVar(&o.Tables, "table", nil, "put back only this `TABLE` (repeatable); * and ? are wildcards")
	c.Flags().StringVar(&script, "as-sql", "", "write SQL to this `FILE`, or - for standard output, and change nothing")
	c.Flags().IntVar(&rate, "rate", 0, "change at most this many `cells` a second")
	return c
}

// undoSQL writes the script of an undo; a file appears only when it is whole.
func (a *app) undoSQL(ctx context.Context, j *work.Job, o run.UndoOptions, file string) (*run.Undone, error) {
	if file == "-" {
		w := bufio.NewWriter(a.out)
		o.SQL = w
		r, err := run.Undo(ctx, j, o)
		return r, errors.Join(err, w.Flush())
	}
	var r *run.Undone
	var undone error
	err := writeFile(file, func(w io.Writer) error {
		o.SQL = w
		r, undone = run.Undo(ctx, j, o)
		return undone
	})
	switch {
	case undone != nil:
		return nil, undone
	case err != nil:
		return nil, &work.Fault{Code: work.World, What: "the script cannot be written", Do: "name a file in a folder that is writable", Err: err}
	}
	r.Script = file
	return r, nil
}

// complete offers what the logbook lists.
func (a *app) complete(list func(*work.Job) ([]string, error)) cobra.CompletionFunc {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		j, err := a.open()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ids, err := list(j)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		return ids, cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *app) statusCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "status",
		Short: "Show the road as a check list, and the next step",
		Long: `Shows what was done and measured, when, and the one next step. It reads the
logbook and asks the database only whether it is there.

` + exitCodes,
		Example: `  trimlantern status
  trimlantern status --site https://ternrock.example
  trimlantern status --format json`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			j, err := a.bookJob()
			if err != nil {
				return err
			}
			r, err := status.Of(c.Context(), j)
			if err != nil {
				return err
			}
			return a.show(r, func(t *report.Text) { t.Status(r) })
		},
	}
	a.address(c)
	return c
}

func (a *app) filterCommand() *cobra.Command {
	o := dumps.Options{}
	var summary string
	c := &cobra.Command{
		Use:   "filter --site https://HOST [IN [OUT]]",
		Short: "Read an SQL dump, write it with secure references",
		Long: `A filter: an SQL dump (or one stored value) goes in, the same comes out with the
site's references secure and its serialized values re-sealed. It needs no site
file and no database. Dumps are read as the dump programs of MariaDB, MySQL,
PostgreSQL (plain) and SQLite and web panels write them; everything else of the
dump is copied byte for byte. References in statements that are no rows, in code
and in comments are named with their line.

- or nothing stands for the standard streams. Input packed with gzip, zstd, bzip2
or xz, in a zip or tar archive, or in UTF-16 is unpacked; an output is packed as
its name says (.gz, .zst, .bz2, .xz, .zip, .tar.gz and so on). The dump is read to
its end before anything is written, and an output file appears under its name only
when it is whole; more than 32 MB of standard input wait in a temporary file. The
summary goes to standard error.

The sister sites of a network are found in the dump. It asks no other host: what
pages load from elsewhere is left and counted. Memory stays small whatever the size
of the dump; a row that is larger than --largest-row stops it, with its place.

` + exitCodes,
		Example: `  mariadb-dump museum | trimlantern filter --site https://ternrock.example > museum-https.sql
  trimlantern filter --site https://ternrock.example --also www.ternrock.example museum.sql.gz secure.sql.gz
  trimlantern filter --site https://ternrock.example --as value < setting.txt`,
		Args: atMost(2, "IN and OUT"),
		RunE: func(c *cobra.Command, args []string) error {
			if !slices.Contains([]string{"", "dump", "value"}, o.As) {
				return fmt.Errorf("--as %s is not known; write dump or value", o.As)
			}
			if !slices.Contains([]string{"", "mysql", "mariadb", "postgres", "sqlite"}, o.Dialect) {
				return fmt.Errorf("--dialect %s is not known; write mysql, postgres or sqlite", o.Dialect)
			}
			if o.Row < 1 || o.Row > 1024 {
				return fmt.Errorf("--largest-row %d: write a number of megabytes from 1 to 1024", o.Row)
			}
			args = append(args, "", "")
			o.Site, o.Also, o.Sisters, o.In, o.Out, o.Stdin, o.Stdout = a.site, a.also, a.sisters, args[0], args[1], os.Stdin, a.out
			r, err := dumps.Filter(c.Context(), o, a.progress())
			if err != nil {
				return err
			}
			return a.summarize(r, summary)
		},
	}
	a.address(c)
	c.Flags().StringVar(&o.As, "as", "", "what the input is: `dump|value` (default: told from the input)")
	c.Flags().StringVar(&o.System, "system", "", "the kind of system: "+strings.Join(system.Names(), ", ")+", or a FILE.yaml of your own (default: told from the tables)")
	c.Flags().StringArrayVar(&o.Parts, "part", nil, "a `FILE` that goes on where IN ends, of a dump in several (repeatable)")
	c.Flags().StringVar(&o.Dialect, "dialect", "", "whose SQL the dump is: `mysql|postgres|sqlite` (default: told from the dump)")
	c.Flags().StringVar(&o.Charset, "charset", "", "the charset of the dump's text, by the database's `NAME` for it, where the dump does not say (default utf8mb4)")
	c.Flags().StringVar(&o.Tables, "tables", "", "a dump `FILE` that defines the tables, where IN has only their rows")
	c.Flags().BoolVar(&o.Rows, "rows-only", false, "change rows of tables that nothing defines: nobody knows what fits into their columns")
	c.Flags().BoolVar(&o.Code, "code", false, "change views, triggers, functions and definitions too")
	c.Flags().IntVar(&o.Row, "largest-row", 16, "stop at a row of more than this many `MB`; a row takes up to five times its size of memory")
	c.Flags().StringVar(&summary, "summary", "", "write the summary as JSON to this `FILE`")
	check(c.RegisterFlagCompletionFunc("dialect", cobra.FixedCompletions([]string{"mysql", "postgres", "sqlite"}, cobra.ShellCompDirectiveNoFileComp)))
	check(c.RegisterFlagCompletionFunc("as", cobra.FixedCompletions([]string{"dump", "value"}, cobra.ShellCompDirectiveNoFileComp)))
	check(c.RegisterFlagCompletionFunc("system", cobra.FixedCompletions(system.Names(), cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// summarize writes what filter did to standard error, since its result has
// standard output to itself.
func (a *app) summarize(r *dumps.Filtered, file string) error {
	a.code = r.Code()
	if file != "" {
		if err := writeFile(file, func(w io.Writer) error { return report.JSON(w, r) }); err != nil {
			return &work.Fault{Code: work.World, What: "the summary cannot be written", Do: "the output itself is complete; name another file", Err: err}
		}
	}
	if a.format == "json" {
		return report.JSON(a.errs, r)
	}
	if a.quiet {
		return nil
	}
	t := &report.Text{W: a.errs, Color: a.colorOn(a.errs)}
	t.Filtered(r)
	return t.Err()
}

func (a *app) historyCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "history",
		Short: "List the logbook: sheets, runs and scans",
		Long: `Lists what earlier runs left in the logbook, the oldest first: change sheets of
preview and mend, journals of apply, results of scan. The names are those that
apply and undo take.

` + exitCodes,
		Example: `  trimlantern history
  trimlantern history --site https://ternrock.example
  trimlantern history --format json`,
		Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			j, err := a.bookJob()
			if err != nil {
				return err
			}
			r, err := status.Past(j)
			if err != nil {
				return err
			}
			return a.show(r, func(t *report.Text) { t.History(r) })
		},
	}
	a.address(c)
	return c
}

func (a *app) systemsCommand() *cobra.Command {
	var against bool
	c := &cobra.Command{
		Use:   "systems [NAME|FILE.yaml]",
		Short: "List the system descriptions, show one, or check one against the database",
		Long: `A system says what is where in one kind of content-managed system: which settings
are its addresses, which columns are permanent identifiers, which rows are caches.
Without a name the built-in ones are listed. A file of your own is read and checked;
--against-database also looks whether the site's database has what it names.

` + exitCodes,
		Example: `  trimlantern systems
  trimlantern systems wordpress
  trimlantern systems --against-database my-system.yaml`,
		Args: atMost(1, "one NAME or FILE.yaml"),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return system.Names(), cobra.ShellCompDirectiveDefault
		},
		RunE: func(c *cobra.Command, args []string) error {
			name := strings.Join(args, "")
			if !against {
				r, err := work.ShowSystems(name)
				if err != nil {
					return err
				}
				return a.show(r, func(t *report.Text) { t.Systems(r) })
			}
			j, err := a.open()
			if err != nil {
				return err
			}
			r, err := j.CheckSystem(c.Context(), name)
			if err != nil {
				return err
			}
			return a.show(r, func(t *report.Text) { t.Systems(r) })
		},
	}
	c.Flags().BoolVar(&against, "against-database", false, "hold it against the site's database")
	return c
}
