package cli

import (
	"runtime/debug"

	"github.com/spf13/cobra"

	"trimlantern/core/change"
	"trimlantern/core/envelope"
	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/preview"
)

// choice adds the flags that choose a part of the site.
func (a *app) choice(c *cobra.Command, o *change.Choice) {
	f := c.Flags()
	f.StringArrayVar(&o.Tables, "table", nil, "read only this `TABLE` (repeatable); * and ? are wildcards")
	f.StringArrayVar(&o.Except, "except", nil, "leave out what fits `PATTERN`: TABLE, TABLE.COLUMN or file:FILE (repeatable)")
	f.IntSliceVar(&o.Sites, "sites", nil, "of several sites in one database only these `NUMBERS`")
}

// strict adds the flag that makes an exit code stricter.
func strict(c *cobra.Command, kinds *[]string) {
	wordLists(c, kinds, "fail-on", "exit with 1 where something is left of this `KIND`: change, person (repeatable)", preview.FailKinds...)
}

func (a *app) previewCommand() *cobra.Command {
	var choice change.Choice
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
		RunE: with(a.open, func(c *cobra.Command, _ []string, j *work.Job) error {
			j.Choice, j.Judge, j.FailOn = choice, judge, failOn
			sparing()
			return shown(a, (*report.Text).Preview)(preview.Run(c.Context(), j))
		}),
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
	var choice change.Choice
	var judge string
	var failOn []string
	var cause envelope.Cause
	c := &cobra.Command{
		Use:   "mend",
		Short: "Propose corrections for serialized values that are broken",
		Long: `An earlier careless replacement may have left serialized values whose lengths no
longer fit; the system then drops the whole setting. mend finds them, also inside
other values, JSON, base64, compressed values and slashes. Each length follows
from the one that is there and from the replacement: --was and --now say what was
replaced by what. Where that explains nothing, it looks for other damage: line
ends or characters that were converted, entities, backslashes, names of
properties that lost their NULs, classes that were renamed, wrong counts. It
proposes only what makes a value sound all the way down, in exactly one way, and
names the rest: all that preview calls broken. Like preview it writes a change
sheet and changes nothing: apply carries it out, undo takes it back.

` + exitCodes,
		Example: `  trimlantern mend
  trimlantern mend --was http://old.example --now https://ternrock.example
  trimlantern apply`,
		Args: noArgs,
		RunE: with(a.open, func(c *cobra.Command, _ []string, j *work.Job) error {
			j.Choice, j.Judge, j.FailOn = choice, judge, failOn
			sparing()
			return shown(a, (*report.Text).Preview)(preview.Mend(c.Context(), j, cause))
		}),
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
