package cli

import (
	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/checkup"
	"trimlantern/work/scan"
)

func (a *app) checkupCommand() *cobra.Command {
	o := checkup.Options{Look: scan.Options{Depth: 50, Parallel: 4}}
	timer := ""
	c := &cobra.Command{
		Use:   "checkup",
		Short: "Check the site's health; print nothing when all is well",
		Long: `Looks at the certificate, at the way of every address, and at the pages, and compares
with the last scan. When all is well it prints nothing and ends with 0; else it prints
a text that can be mailed as it is, or JSON, and ends with 1, whatever failed: whether
the site is down comes first. Notes and accepted faults are no news.

It remembers what each page looks like, without dates, tokens and news, and says when
a page is empty, shows an error, another page or the page of a server or a host, or is
gone, and when scripts, frames or forms lead to a host that no page led to before. What
changed for good is said once; a fault is said as long as it lasts. What fails is asked
for again, several times in half a minute, before it has failed.

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
			return shown(a, (*report.Text).Checkup)(checkup.Run(c.Context(), j, o))
		}),
	}
	a.network(c)
	number(c.Flags(), &o.Look.Pages, "pages", 10000, 1, 10000000, "read at most this many `DOCUMENTS`")
	number(c.Flags(), &o.Look.Sample, "sample", 0, 0, 10000000, "read only this many `PAGES`, different ones each time until all were read")
	lookFlags(c, &o.Look)
	span(c.Flags(), &o.Look.Pause, "pause", 0, "wait between two requests, like `200ms`")
	c.Flags().Var(days{&o.Soon}, "expires-within", "a certificate that ends within this `TIME` needs attention, like 14d (default: 21d, or a quarter of a shorter life)")
	c.Flags().BoolVar(&o.Learn, "learn", false, "what the site looks like now is right, whatever it looked like before")
	words(c, c.Flags(), &timer, "install-timer", "print what runs it every morning: `cron|systemd`", checkup.Timers...)
	return c
}
