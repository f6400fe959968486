package cli

import (
	"time"

	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
)

func (a *app) watchCommand() *cobra.Command {
	o := work.ScanOptions{Depth: 50, Parallel: 4}
	soon := 21 * 24 * time.Hour
	c := &cobra.Command{
		Use:   "watch",
		Short: "Check the site's health; print nothing when all is well",
		Long: `Looks at the certificate, at the way of every address, and at the pages, and compares
with the last scan. When all is well it prints nothing and ends with 0; else it prints
a text that can be mailed as it is, or JSON, and ends with 1.

` + exitCodes,
		Example: `  trimlantern watch --quiet
  trimlantern watch --quiet --pages 100 --expires-within 14d
  0 6 * * *  cd /srv/ternrock && trimlantern watch --quiet   # in a crontab, which mails it`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			j, err := a.open()
			if err != nil {
				return err
			}
			r, err := j.Watch(c.Context(), soon, o)
			if err != nil {
				return err
			}
			return a.show(r, func(t *report.Text) { t.Watched(r) })
		},
	}
	a.network(c)
	c.Flags().IntVar(&o.Pages, "pages", 10000, "read at most this many `documents`")
	c.Flags().IntVar(&o.Sample, "sample", 0, "read only this many `PAGES`, different ones each time until all were read")
	c.Flags().DurationVar(&o.Pause, "pause", 0, "wait between two requests, like `200ms`")
	c.Flags().Var(days{&soon}, "expires-within", "a certificate that ends within this `TIME` needs attention, like 21d")
	return c
}
