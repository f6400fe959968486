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
	var check bool
	var repair string
	c := &cobra.Command{
		Use:   "history",
		Short: "List the logbook: sheets, runs and scans; verify it",
		Long: `Lists what earlier runs left in the logbook, the oldest first: change sheets of
preview and mend, journals of apply, results of scan. The names are those that
apply and undo take.

With --check it reads every file of the logbook and of the last backup to the
last byte, and verifies its checksums. With --repair it makes a new journal of
all that can be read of a damaged one, which stays as it is; undo then puts
back what is in the new one.

` + exitCodes,
		Example: `  trimlantern history
  trimlantern history --check
  trimlantern history --format json`,
		Args: noArgs,
		RunE: with(a.bookJob, func(_ *cobra.Command, _ []string, j *work.Job) error {
			switch {
			case check:
				return shown(a, (*report.Text).HistoryCheck)(status.Checked(j))
			case repair != "":
				return shown(a, (*report.Text).HistoryRepair)(status.Repaired(j, repair))
			}
			return shown(a, (*report.Text).History)(status.Past(j))
		}),
	}
	a.address(c)
	c.Flags().BoolVar(&check, "check", false, "verify the checksums of all files")
	c.Flags().StringVar(&repair, "repair", "", "make a new journal of what can be read of the damaged `JOURNAL`")
	c.MarkFlagsMutuallyExclusive("check", "repair")
	return c
}
