package cli

import (
	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/status"
)

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
		RunE: with(a.bookJob, func(c *cobra.Command, _ []string, j *work.Job) error {
			return shown(a, (*report.Text).Status)(status.Of(c.Context(), j))
		}),
	}
	a.address(c)
	return c
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
		RunE: with(a.bookJob, func(_ *cobra.Command, _ []string, j *work.Job) error {
			return shown(a, (*report.Text).History)(status.Past(j))
		}),
	}
	a.address(c)
	return c
}
