package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/decide"
	"trimlantern/work/findings"
	"trimlantern/work/show"
)

func (a *app) showCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "show",
		Short: "List what needs a decision; or all changes, findings, journal entries",
		Long: `Without a word behind it, lists what needs a decision, numbered, with the ways to
decide: what the newest preview leaves to a person, what the last scan found and no
preview changes, and the faults of ready and redirect test.

changes, left, scan and journal list everything of a sheet, a scan or a journal, whole
and numbered; decided lists your decisions. --table, --host, --file, --page and --reason choose; * and ? are
wildcards. On a terminal the list goes through a pager. With --format json each line is
an object of its own.

` + exitCodes,
		Example: `  trimlantern show
  trimlantern show changes --table options
  trimlantern show left --reason linked
  trimlantern show scan --page '/visit/*' --format json
  trimlantern show journal`,
		Args: noArgs,
		RunE: with(a.open, func(_ *cobra.Command, _ []string, j *work.Job) error {
			w, err := decide.WorkList(j)
			if err != nil {
				return err
			}
			return a.paged(func() error { return a.show(w, func(t *report.Text) { t.WorkList(w) }) })
		}),
	}
	for _, one := range listings {
		c.AddCommand(a.listing(one))
	}
	c.AddCommand(&cobra.Command{
		Use:     "decided",
		Short:   "What was decided, as the site file holds it",
		Long:    "Lists the decisions about hosts, addresses, places and findings. trimlantern decide forget takes one back.\n\n" + exitCodes,
		Example: "  trimlantern show decided",
		Args:    noArgs,
		RunE: with(a.open, func(_ *cobra.Command, _ []string, j *work.Job) error {
			return shown(a, (*report.Text).Decided)(decide.Decisions(j), nil)
		}),
	})
	return c
}

// listing is one list of show.
type listing struct {
	name, short, long string
	of                string // what the argument names
	names             func(*work.Job) ([]string, error)
	run               func(ctx context.Context, j *work.Job, id string, pick show.Pick, visit func(show.Row) error) (string, error)
}

var listings = []listing{
	{"changes", "All changes of a sheet", "Lists every change of the newest change sheet, or the one named, with the text around it. Where the sheet was carried out, the text comes from the journal; where not, from the database and the files as they are now.",
		"SHEET", func(j *work.Job) ([]string, error) { return j.Book.Sheets() },
		show.Changes},
	{"left", "All that a preview left alone, and why", "Lists everything that the newest preview, or the one named, left alone, with the reason.",
		"SHEET", func(j *work.Job) ([]string, error) { return j.Book.Sheets() },
		show.Left},
	{"scan", "All findings of a scan, page by page", "Lists every finding of the last scan, or the one named, page by page.",
		"SCAN", findings.IDs,
		show.Scan},
	{"journal", "Everything that an apply did", "Lists every entry of the newest journal, or the one named: what stood there before, and what was written.",
		"JOURNAL", func(j *work.Job) ([]string, error) { return j.Book.Journals() },
		show.Journal},
}

// listing makes the command of one list.
func (a *app) listing(l listing) *cobra.Command {
	var pick show.Pick
	c := &cobra.Command{
		Use:               l.name + " [" + l.of + "]",
		Short:             l.short,
		Long:              l.long + "\n\n" + exitCodes,
		Example:           "  trimlantern show " + l.name,
		Args:              atMost(1, "one "+l.of),
		ValidArgsFunction: a.complete(l.names),
		RunE: with(a.open, func(c *cobra.Command, args []string, j *work.Job) error {
			return a.paged(func() error { return a.list(c.Context(), j, l, strings.Join(args, ""), pick) })
		}),
	}
	f := c.Flags()
	f.StringArrayVar(&pick.Tables, "table", nil, "only of this `TABLE` (repeatable); * and ? are wildcards")
	f.StringArrayVar(&pick.Hosts, "host", nil, "only of this `HOST` (repeatable)")
	f.StringArrayVar(&pick.Files, "file", nil, "only of this `FILE` (repeatable)")
	f.StringArrayVar(&pick.Pages, "page", nil, "only on this `PAGE`: an address or a path (repeatable)")
	f.StringArrayVar(&pick.Reasons, "reason", nil, "only for this `REASON`, or of this class (repeatable)")
	return c
}

// list writes the lines of a list as they come.
func (a *app) list(ctx context.Context, j *work.Job, l listing, id string, pick show.Pick) error {
	t := a.text(a.out)
	lines := report.Lines{W: a.out}
	headed, n := false, 0
	head := func(id string) error {
		headed = true
		return lines.Head(l.name, id, j.Site.String())
	}
	var cut error
	shown, err := l.run(ctx, j, id, pick, func(one show.Row) error {
		n++
		if a.format == "json" {
			if !headed {
				cut = head(id)
			}
			cut = errors.Join(cut, lines.Put(one))
		} else {
			t.Shown(one)
			cut = t.Err()
		}
		return cut
	})
	if cut != nil {
		return cannotWrite(cut)
	}
	if err != nil {
		return err
	}
	if a.format == "json" {
		if !headed {
			return head(shown)
		}
		return nil
	}
	t.ShownAll(n, l.name, shown)
	return nil
}

// paged runs what writes to standard output; on a terminal that goes through a pager.
func (a *app) paged(write func() error) error {
	if !isTerminal(a.out) || a.format == "json" || os.Getenv("TERM") == "dumb" {
		return write()
	}
	command := os.Getenv("PAGER")
	if command == "cat" {
		return write()
	}
	name, args := "less", []string{"-FRX"}
	if command != "" {
		words := strings.Fields(command)
		name, args = words[0], words[1:]
	}
	path, err := exec.LookPath(name)
	if err != nil {
		return write()
	}
	pager := exec.Command(path, args...)
	pager.Stdout, pager.Stderr = a.out, a.errs
	in, err := pager.StdinPipe()
	if err != nil {
		return write()
	}
	if err := pager.Start(); err != nil {
		return write()
	}
	terminal := a.out
	a.paint = a.colorOn(a.out)
	a.out = in
	if err = write(); hungUp(err) {
		err = nil // whoever reads it has seen enough
	}
	a.out = terminal
	return errors.Join(err, ignoreClosed(in.Close()), ignoreExit(pager.Wait()))
}

func ignoreClosed(err error) error {
	if errors.Is(err, os.ErrClosed) || errors.Is(err, io.ErrClosedPipe) {
		return nil
	}
	return err
}

// ignoreExit leaves what a pager makes of its own end to it.
func ignoreExit(err error) error {
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return nil
	}
	return err
}
