package cli

import (
	"bufio"
	"context"
	"errors"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/dumps"
	"trimlantern/work/ready"
	"trimlantern/work/run"
)

func (a *app) applyCommand() *cobra.Command {
	var drops, effects, anyway bool
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

Nothing is changed while HTTPS does not work for the site: trimlantern ready is asked
where its last answer is missing, old or bad. --anyway is for those who know better.

Interrupted at any moment, the same command goes on. For a rehearsal there is
preview: it is the dry run. Transactions are small; --rate slows them down where a
live site or its replicas need room. A value that the database does not take stays
and is named with the database's own words; all others are changed. So does one with
which a trigger would write elsewhere, since undo could not take that back:
--with-triggers changes it all the same.

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
		RunE: with(a.open, func(c *cobra.Command, args []string, j *work.Job) error {
			if o.Write != "" || o.Patch != "" {
				o.Sheet, o.Largest, o.Gate = strings.Join(args, ""), int64(largest)<<20, passing(j, anyway)
				return shown(a, (*report.Text).DumpApplied)(dumps.Apply(c.Context(), j, o))
			}
			j.Rate, j.FailOn, j.Effects = rate, failOn, effects
			sparing()
			return shown(a, (*report.Text).Applied)(run.Apply(c.Context(), j, run.Options{Sheet: strings.Join(args, ""), Drops: drops, Gate: passing(j, anyway)}))
		}),
	}
	a.network(c)
	c.Flags().BoolVar(&a.offline, "offline", false, "ask no other host in the second preview")
	c.Flags().BoolVar(&drops, "drop-caches", false, "also remove the cached rows that the system description calls safe to lose")
	c.Flags().BoolVar(&effects, "with-triggers", false, "also change rows where triggers of the database write more with them, which undo cannot take back")
	c.Flags().BoolVar(&anyway, "anyway", false, "change the site although HTTPS does not work for it yet")
	number(c.Flags(), &rate, "rate", 0, 0, 1000000, "change at most this many `CELLS` a second")
	c.Flags().StringVar(&o.Write, "write", "", "of an exported database: write the new dump to this `FILE`")
	c.Flags().StringVar(&o.Patch, "patch", "", "of an exported database: write only what changes to this `FILE`, as SQL")
	number(c.Flags(), &largest, "largest-file", 2, 1, 1024, "split a patch into files of at most this many `MB`")
	strict(c, &failOn)
	c.MarkFlagsMutuallyExclusive("write", "patch")
	return c
}

// passing refuses a change of a site's addresses where HTTPS does not work for it, unless the user wants it anyway.
func passing(j *work.Job, anyway bool) run.Gate {
	if anyway {
		return nil
	}
	return func(ctx context.Context) (string, error) { return ready.Gate(ctx, j) }
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
		RunE: with(a.open, func(c *cobra.Command, args []string, j *work.Job) error {
			j.Rate, o.Journal = rate, strings.Join(args, "")
			sparing()
			if script == "" {
				return shown(a, (*report.Text).Undone)(run.Undo(c.Context(), j, o))
			}
			r, err := a.undoSQL(c.Context(), j, o, script)
			if err != nil || script == "-" {
				return err
			}
			return a.show(r, func(t *report.Text) { t.Undone(r) })
		}),
	}
	c.Flags().StringArrayVar(&o.Files, "file", nil, "put back this `FILE` too, even outside the folders that the site file names (repeatable)")
	c.Flags().StringArrayVar(&o.Tables, "table", nil, "put back only this `TABLE` (repeatable); * and ? are wildcards")
	c.Flags().StringVar(&script, "as-sql", "", "write SQL to this `FILE`, or - for standard output, and change nothing")
	number(c.Flags(), &rate, "rate", 0, 0, 1000000, "change at most this many `CELLS` a second")
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
