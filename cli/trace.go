package cli

import (
	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/trace"
)

func (a *app) traceCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "trace URL|NUMBER",
		Short: "Say where an insecure reference is stored",
		Long: `Looks through the database and the site's files, in one pass and in all spellings and
envelopes, for the places that can produce an insecure reference: table, row, setting
and the path inside the value, or file, line and column. If no text contains the whole
address, trace looks for the code and settings that build it, by its parts and by the
markup around it in the page. The likeliest place comes first, with how certain it is
and what to do about it. NUMBER is the number of a finding in the last scan.

` + exitCodes,
		Example: `  trimlantern trace http://ternrock.example/media/lens.svg
  trimlantern trace 1
  trimlantern trace --format json http://charts.tideoffice.example/today.png`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) != 1 {
				return argFault(c, "needs one URL, as scan lists it, or its number")
			}
			return nil
		},
		RunE: with(a.open, func(c *cobra.Command, args []string, j *work.Job) error {
			return shown(a, (*report.Text).Traced)(trace.Run(c.Context(), j, args[0]))
		}),
	}
}
