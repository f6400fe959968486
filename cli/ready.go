package cli

import (
	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/ready"
)

func (a *app) readyCommand() *cobra.Command {
	o := ready.Options{}
	c := &cobra.Command{
		Use:   "ready",
		Short: "Is the site ready for HTTPS? Names, certificate, pages, proxy",
		Long: `Looks at everything that must be right before the switch: the DNS of all names, the
ports, the certificate for each name and address (names, dates, chain, key), whether
both schemes show the same pages on every server, a proxy in front, addresses that the
system's configuration holds. Each point is good [x], worth knowing [i], needs
attention [!], or blocks the switch [-]: with why, and what to do. Notes do not count.

--wait asks again until nothing blocks the switch. From cron the exit code is enough: 1 when
the certificate ends soon. With --site it needs no site file.

` + exitCodes,
		Example: `  trimlantern ready
  trimlantern ready --for-support
  trimlantern ready --origin 192.0.2.7
  trimlantern ready --wait 2h
  trimlantern ready --quiet --expires-within 21d`,
		Args: noArgs,
		RunE: with(a.lookJob, func(c *cobra.Command, _ []string, j *work.Job) error {
			return shown(a, (*report.Text).Ready)(ready.Check(c.Context(), j, o))
		}),
	}
	a.address(c)
	a.network(c)
	f := c.Flags()
	f.StringVar(&o.Origin, "origin", "", "ask the server behind the proxy directly at this `ADDRESS[:PORT]`")
	f.Var(days{&o.Soon}, "expires-within", "a certificate that ends within this `TIME` needs attention, like 14d (default: 21d, or a quarter of a shorter life)")
	f.Var(days{&o.Wait}, "wait", "ask again for this `TIME` until nothing blocks the switch, like 2h")
	f.StringVar(&o.Resolver, "resolver", "", "ask the name server at this `ADDRESS` about the zone (default: the system's)")
	f.BoolVar(&o.Support, "for-support", false, "print a short text for the people who run the server")
	return c
}
