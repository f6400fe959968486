package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/outside/system"
	"trimlantern/report"
	"trimlantern/work"
)

func (a *app) systemsCommand() *cobra.Command {
	var against bool
	c := &cobra.Command{
		Use:   "systems [NAME|FILE.yaml]",
		Short: "List the system descriptions, show one, or check one against the database",
		Long: `A system says what is where in one kind of content-managed system: which settings
are its addresses, which columns are permanent identifiers, which rows are caches.
Without a name the built-in ones are listed. A file of your own is read and checked;
--against-database also looks whether the site's database has what it names.

` + exitCodes,
		Example: `  trimlantern systems
  trimlantern systems wordpress
  trimlantern systems --against-database my-system.yaml`,
		Args: atMost(1, "one NAME or FILE.yaml"),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return system.Names(), cobra.ShellCompDirectiveDefault
		},
		RunE: func(c *cobra.Command, args []string) error {
			name := strings.Join(args, "")
			if !against {
				return shown(a, (*report.Text).Systems)(work.ShowSystems(name))
			}
			j, err := a.open()
			if err != nil {
				return err
			}
			return shown(a, (*report.Text).Systems)(j.CheckSystem(c.Context(), name))
		},
	}
	c.Flags().BoolVar(&against, "against-database", false, "hold it against the site's database")
	return c
}
