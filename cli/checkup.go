package cli

import (
	"time"

	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/checkup"
	"trimlantern/work/scan"
)

func (a *app) checkupCommand() *cobra.Command {
	o := scan.Options{Depth: 50, Parallel: 4}
	var soon time.Duration
	timer := ""
	c := &cobra.Command{
		Use:   "checkup",
		Short: "Check the site's health; print nothing when all is well",
		Long: `Looks at the certificate, at the way of every address, and at the pages, and compares
with the last scan. When all is well it prints nothing and ends with 0; else it prints
a text that can be mailed as it is, or JSON, and ends with 1, whatever failed: whether
the site is down comes first. Notes and accepted faults are no news.

--install-timer prints what makes this machine run it every morning: a line for cron,
which mails the text, or two units for systemd.

` + exitCodes,
		Example: `  trimlantern checkup --quiet
  trimlantern checkup --quiet --pages 100 --expires-within 14d
  trimlantern checkup --install-timer cron`,
		Args: noArgs,
		RunE: with(a.open, func(c *cobra.Command, _ []string, j *work.Job) error {
			if timer != "" {
				return shown(a, (*report.Text).Timer)(checkup.TimerFor(j, timer))
			}
			return shown(a, (*report.Text).Checkup)(checkup.Run(c.Context(), j, soon, o))
		}),
	}
	a.network(c)
	c.Flags().IntVar(&o.Pages, "pages", 10000, "read at most this many `DOCUMENTS`")
	c.Flags().IntVar(&o.Sample, "sample", 0, "read only this many `PAGES`, different ones each time until all were read")
	lookFlags(c, &o)
	c.Flags().DurationVar(&o.Pause, "pause", 0, "wait between two requests, like `200ms`")
	c.Flags().Var(days{&soon}, "expires-within", "a certificate that ends within this `TIME` needs attention, like 14d (default: 21d, or a quarter of a shorter life)")
	words(c, c.Flags(), &timer, "install-timer", "print what runs it every morning: `cron|systemd`", checkup.Timers...)
	return c
}
