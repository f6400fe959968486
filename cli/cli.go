// Package cli is the command line: flags in, a job called, a report out.
package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"trimlantern/outside/disk"
	"trimlantern/outside/verbose"
	"trimlantern/report"
	"trimlantern/work"
)

// Version is set when the program is built.
var Version = "dev"

// app is one run of the program.
type app struct {
	in        io.Reader
	out, errs io.Writer
	code      int

	config  string
	home    string
	site    string
	also    []string
	sisters []string
	format  string
	all     bool // lists to their ends
	quiet   bool
	colors  string
	dir     string
	paint   bool // a pager shows it on a terminal
	resolve []string
	ca      string
	log     string // "text" or "json": what is asked of the world outside is written to standard error
	secrets string
	offline bool
}

// result is what a job came to.
type result interface{ Code() int }

// Run runs the program and returns its exit code.
func Run(args []string, out, errs io.Writer) int {
	ctx, stop := interruptible(errs)
	defer stop()
	calm()
	work.Tool = "trimlantern " + Version
	a := &app{in: os.Stdin, out: out, errs: errs}
	verbose.Off()
	defer verbose.Off()
	root := a.root()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	began := time.Now()
	if err := root.ExecuteContext(ctx); err != nil {
		a.code = a.fail(err)
	}
	verbose.Took(ctx, began, "ended", nil, "code", a.code)
	return a.code
}

// fail says what went wrong, where, and what to do, and returns the exit code.
func (a *app) fail(err error) int {
	var f *work.Fault
	if !errors.As(err, &f) {
		f = &work.Fault{Code: work.Misuse, What: err.Error(), Do: "trimlantern --help lists the commands, and COMMAND --help shows one"}
	}
	if a.format == "json" {
		if err := report.JSON(a.out, map[string]any{"error": report.Clean(f.Error()), "do": f.Do, "code": f.Code}); err != nil {
			fmt.Fprintln(a.errs, err)
		}
	}
	a.text(a.errs).Fault(f)
	return f.Code
}

const exitCodes = `Exit codes: 0 done, or nothing wrong; 1 a check failed, or a planned change was not
made; 2 wrong use or input, nothing was changed; 3 the outside world failed, and the
same command continues from there. trimlantern help codes says more.`

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "trimlantern",
		Short: "Take a website from HTTP to HTTPS, and prove that it got there",
		Long: `It finds the insecure references in database content, serialized settings and files,
shows every change first, carries out exactly what was shown, can take all of it back,
and scans the pages until every one is clean. trimlantern switch walks the whole road.`,
		Example: `  trimlantern switch /var/www/ternrock
  trimlantern demo`,
		Version:       Version,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if err := fromEnvironment(c); err != nil {
				return err
			}
			if a.dir != "" {
				if err := os.Chdir(a.dir); err != nil {
					return &work.Fault{Code: work.Misuse, What: "cannot work in " + a.dir + ": there is no such folder, or it may not be entered", Do: "name a folder that is there: -C FOLDER"}
				}
			}
			if a.log != "" {
				verbose.Begin(a.errs, a.log == "json")
				slog.Info("begun", "command", c.CommandPath(), "version", Version)
			}
			formats := []string{"text", "json"}
			if more := c.Annotations["formats"]; more != "" {
				formats = append(formats, strings.Fields(more)...)
			}
			if !slices.Contains(formats, a.format) {
				return fmt.Errorf("--format %s is not known; write %s", a.format, orList(formats))
			}
			return nil
		},
	}
	p := root.PersistentFlags()
	p.StringVar(&a.config, "config", "", "the site `FILE` (default: the nearest trimlantern.yaml, or that of your data folder)")
	p.StringVar(&a.home, "home", "", "the `FOLDER` where sites are kept (default: $TRIMLANTERN_HOME, or trimlantern in your data folder)")
	p.StringVar(&a.format, "format", "text", "how results are written: `text|json`")
	words(root, p, &a.log, "verbose", "write a log to standard error: `text|json`, without its word as text", "text", "json")
	p.Lookup("verbose").NoOptDefVal = "text"
	p.BoolVar(&a.quiet, "quiet", false, "no progress on standard error")
	a.colors = "auto"
	words(root, p, &a.colors, "color", "colours: `auto|always|never` (NO_COLOR is honoured)", "auto", "always", "never")
	p.StringVarP(&a.dir, "in", "C", "", "work as if started in this `FOLDER`")
	check(root.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"text", "json"}, cobra.ShellCompDirectiveNoFileComp)))
	root.AddCommand(a.switchCommand(), a.initCommand(), a.previewCommand(), a.applyCommand(), a.undoCommand(), a.scanCommand(), a.traceCommand(), a.filterCommand(), a.mendCommand(), a.statusCommand(), a.historyCommand(), a.systemsCommand(), a.readyCommand(), a.certCommand(), a.backupCommand(), a.redirectCommand(), a.checkupCommand(), a.showCommand(), a.decideCommand(), a.fleetCommand(), a.demoCommand(), a.guardCommand(), a.completionCommand())
	root.CompletionOptions.DisableDefaultCmd = true
	a.face(root)
	root.AddCommand(a.manCommand(root))
	return root
}

// fromEnvironment takes options of all commands from variables like TRIMLANTERN_FORMAT, where the command line
// does not say.
func fromEnvironment(c *cobra.Command) (err error) {
	c.Root().PersistentFlags().VisitAll(func(f *pflag.Flag) {
		name := "TRIMLANTERN_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		v, ok := os.LookupEnv(name)
		if !ok || v == "" || f.Changed || f.Name == "in" || f.Name == "home" || err != nil {
			return
		}
		if f.Value.Set(v) != nil {
			err = &work.Fault{Code: work.Misuse, What: name + ": " + v + " cannot be used", Do: "unset it, or set it as --" + f.Name + " takes it"}
		}
	})
	return err
}

// check is for what only a mistake in this package makes fail.
func check(err error) {
	if err != nil {
		panic(err)
	}
}

// network adds the flags of commands that use the network.
func (a *app) network(c *cobra.Command) {
	c.Flags().StringArrayVar(&a.resolve, "resolve", nil, "connect to another address: `HOST:PORT:ADDR` (repeatable; HOST may be *)")
	c.Flags().StringVar(&a.ca, "ca", "", "trust the authority in this PEM `FILE` too")
	c.Flags().StringVar(&a.secrets, "credentials", "", "`FILE` with what a staging site wants: lines \"Name: value\" or \"basic NAME:PASSWORD\"")
}

// address adds the flags that name the site.
func (a *app) address(c *cobra.Command) {
	c.Flags().StringVar(&a.site, "site", "", "the site's HTTPS address: `https://HOST`")
	c.Flags().StringArrayVar(&a.also, "also", nil, "another `HOST` name of the same site (repeatable)")
	c.Flags().StringArrayVar(&a.sisters, "sister", nil, "another site of the same network, by its own HTTPS `ADDRESS` (repeatable)")
}

// load opens the job of the site file.
func (a *app) load() (*work.Job, error) {
	j, err := work.Open(a.config, a.home, a.progress())
	if err != nil {
		return nil, err
	}
	j.Resolve, j.CA, j.Offline, j.Secrets = a.resolve, a.ca, a.offline, a.secrets
	j.Guard = a.guard(j)
	return j, nil
}

// open opens the job of the site file for a command, and first settles what an earlier run left in the middle.
func (a *app) open() (*work.Job, error) {
	j, err := a.load()
	if err != nil {
		return nil, err
	}
	a.settled(j)
	if len(j.Edited) > 0 {
		fmt.Fprintf(a.errs, "trimlantern: %s was edited since Trim Lantern wrote it\n", report.Clean(j.File.Path))
		for i, line := range j.Edited {
			if i == 3 {
				fmt.Fprintf(a.errs, "  and %d more lines\n", len(j.Edited)-i)
				break
			}
			text := []rune(report.Clean(line))
			fmt.Fprintf(a.errs, "  %s\n", string(text[:min(len(text), 100)]))
		}
		fmt.Fprintln(a.errs, "What to do: if that was you, nothing: the next preview takes it over")
	}
	if why := j.Exposed(); why != "" {
		fmt.Fprintf(a.errs, "trimlantern: the site file and the logbook, with all old values, are in a folder that a web server serves (%s)\nWhat to do: trimlantern init --move puts them into your data folder\n", report.Clean(why))
	}
	return j, nil
}

// with opens the job that a command needs, and has it run.
func with(open func() (*work.Job, error), run func(*cobra.Command, []string, *work.Job) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		j, err := open()
		if err != nil {
			return err
		}
		return run(c, args, j)
	}
}

// shown takes what a job came to, and shows it in the words that report has for it.
func shown[R result](a *app, words func(*report.Text, R)) func(R, error) error {
	return func(r R, err error) error {
		if err != nil {
			return err
		}
		return a.show(r, func(t *report.Text) { words(t, r) })
	}
}

// show writes a result as the user wants it and keeps its exit code.
func (a *app) show(r result, text func(*report.Text)) error {
	a.code = r.Code()
	var err error
	if a.format == "json" {
		err = report.JSON(a.out, r)
	} else {
		t := a.text(a.out)
		text(t)
		err = t.Err()
	}
	return cannotWrite(err)
}

// hungUp reports whether whoever reads the output has seen enough: that is no fault of theirs or ours.
func hungUp(err error) bool { return errors.Is(err, syscall.EPIPE) }

// cannotWrite is the fault of a result that could not be written; nil where it was, or where its reader left.
func cannotWrite(err error) error {
	if err == nil || hungUp(err) {
		return nil
	}
	return &work.Fault{Code: work.World, What: "the result cannot be written", Do: "the work itself is done; trimlantern status shows where you are", Err: err}
}

// text writes results for people to w. Nothing is shortened where that is no terminal, and nobody says how wide it
// may be.
func (a *app) text(w io.Writer) *report.Text {
	paged := a.paint && w == a.out
	return &report.Text{W: w, Color: paged || a.colorOn(w), Whole: !isTerminal(w) && !paged && os.Getenv("COLUMNS") == "", All: a.all, ASCII: ascii(), Width: columns(w), Rich: rich()}
}

// rich reports whether the terminal says that it knows 256 colours.
func rich() bool {
	return strings.Contains(os.Getenv("TERM"), "256color") || os.Getenv("COLORTERM") != ""
}

// columns returns how many columns a terminal has, by COLUMNS or by itself; 0 where nobody knows.
func columns(w io.Writer) int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 0 {
		return n
	}
	for _, one := range []io.Writer{w, os.Stdout} { // what goes through a pager is shown there all the same
		if f, ok := one.(*os.File); ok {
			if n, _, err := term.GetSize(int(f.Fd())); err == nil {
				return n
			}
		}
	}
	return 0
}

// ascii reports whether the locale says that only ASCII is shown; one that nobody set shows everything.
func ascii() bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := strings.ToLower(os.Getenv(name)); v != "" {
			return !strings.Contains(v, "utf-8") && !strings.Contains(v, "utf8")
		}
	}
	return false
}

func (a *app) colorOn(w io.Writer) bool {
	if a.colors == "always" || a.colors == "never" {
		return a.colors == "always"
	}
	return os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb" && isTerminal(w)
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// noArgs is cobra.NoArgs in our words.
func noArgs(c *cobra.Command, args []string) error {
	if len(args) > 0 && c.HasAvailableSubCommands() && c.Name() != "show" {
		return unknown(c, args[0])
	}
	if len(args) > 0 {
		if near := nearest(args[0], visible(c)); near != "" {
			return unknown(c, args[0])
		}
		return argFault(c, fmt.Sprintf("takes no %q", strings.Join(args, " ")))
	}
	return nil
}

// stdout is the name that stands for standard output.
const stdout = "-"

// writeReport writes a report to a file, or to standard output, which what is said then leaves to it.
func (a *app) writeReport(file string, write func(io.Writer) error) error {
	if file != stdout {
		return writeFile(file, write)
	}
	w := bufio.NewWriter(a.out)
	a.out = a.errs
	if err := write(w); err != nil {
		return err
	}
	return w.Flush()
}

// reportTo refuses a report on standard output where the result itself goes there.
func (a *app) reportTo(files ...string) error {
	if slices.Contains(files, stdout) && a.format != "text" {
		return fmt.Errorf("--report - and --format %s both write to standard output; write one of them", a.format)
	}
	return nil
}

// writeFile writes a file that appears only when all of it is there.
func writeFile(file string, write func(io.Writer) error) error {
	f, err := disk.Create(file, 0o600)
	if err != nil {
		return err
	}
	defer f.Discard()
	w := bufio.NewWriter(f)
	if err := write(w); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Commit()
}

// lookJob is scanJob with a logbook: without a site file, in the user's data folder.
func (a *app) lookJob() (*work.Job, error) {
	j, err := a.scanJob()
	if err == nil {
		j.Keep(a.home)
	}
	return j, err
}

// bookJob is lookJob for commands that read the logbook.
func (a *app) bookJob() (*work.Job, error) {
	j, err := a.lookJob()
	if err == nil && j.Book == nil {
		return nil, &work.Fault{Code: work.World, What: "your data folder, which keeps scan results, cannot be used", Do: "name another one: --home FOLDER"}
	}
	return j, err
}

// scanJob opens the site file, or makes do with --site.
func (a *app) scanJob() (*work.Job, error) {
	if a.site == "" {
		return a.open()
	}
	j, err := work.OpenKnown(a.site, a.home, a.progress())
	if err == nil && (j == nil || a.config != "" || len(a.also)+len(a.sisters) > 0) {
		j, err = work.OpenAddress(a.site, a.also, a.sisters, a.progress())
	}
	if err != nil {
		return nil, err
	}
	j.Resolve, j.CA, j.Secrets = a.resolve, a.ca, a.secrets
	return j, nil
}

// complete offers what the logbook lists.
func (a *app) complete(list func(*work.Job) ([]string, error)) cobra.CompletionFunc {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		j, err := a.load()
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
