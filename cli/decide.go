package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"trimlantern/report"
)

func (a *app) decideCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "decide",
		Short: "Record a decision in the site file",
		Long: `Records what you decide about a fault that ready or redirect test names. The site file
keeps it, with your reason, for whoever looks after the site next.

` + exitCodes,
		Example: `  trimlantern decide accept 3 --because "the host's panel redirects forms with 301"`,
		Args:    noArgs,
		RunE:    func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(a.decideAccept())
	return c
}

func (a *app) decideAccept() *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:   "accept NUMBER",
		Short: "Accept a fault: it stays visible and no longer counts",
		Long: `Accepts the fault with this number, for the addresses that it names now. It stays
visible, with your reason, and no longer counts in ready, redirect test, status and
checkup. Where the same fault turns up at another address, it counts again. A fault
that stops visitors, marked [-], cannot be accepted.

` + exitCodes,
		Example: `  trimlantern decide accept 3 --because "the host's panel redirects forms with 301"`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) != 1 {
				return fmt.Errorf("decide accept needs one number, as trimlantern ready or redirect test shows it")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			n, err := strconv.Atoi(args[0])
			if err != nil || n < 1 {
				return fmt.Errorf("%q is no number of a fault", args[0])
			}
			j, err := a.open()
			if err != nil {
				return err
			}
			d, err := j.Accept(n, because)
			if err != nil {
				return err
			}
			return a.show(d, func(t *report.Text) { t.Decision(d) })
		},
	}
	c.Flags().StringVar(&because, "because", "", "the `REASON`; the site file keeps it")
	return c
}
