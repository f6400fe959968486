package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/core/hops"
	"trimlantern/report"
)

func (a *app) redirectCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "redirect",
		Short: "The one redirect: show, install, remove and test it",
		Long: `All of the site's addresses must redirect to the secure one, at
once, path and query kept. show prints the rules for a server, install and remove put
them into a file and take them out, test goes the way of every address.

` + exitCodes,
		Example: `  trimlantern redirect test
  trimlantern redirect show apache
  trimlantern redirect install apache /var/www/ternrock/.htaccess`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(a.redirectShow(), a.redirectInstall(), a.redirectRemove(), a.redirectTest())
	return c
}

// server checks the name of a server.
func server(name string) error {
	if !slices.Contains(hops.Servers, name) {
		return fmt.Errorf("%q is no server that rules are written for; write one of %s", name, strings.Join(hops.Servers, ", "))
	}
	return nil
}

func (a *app) ruleFlags(c *cobra.Command, r *hops.Rule) {
	c.Flags().BoolVar(&r.Proxy, "proxy", false, "TLS ends at a proxy in front, which sends X-Forwarded-Proto")
	c.Flags().StringArrayVar(&r.Paths, "path", nil, "redirect only below this `PATH` (repeatable; default: the whole site)")
	c.Flags().BoolVar(&r.Safety, "safety-net", false, "let browsers upgrade what is left insecure (Content-Security-Policy)")
	c.ValidArgsFunction = func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 0 {
			return hops.Servers, cobra.ShellCompDirectiveNoFileComp
		}
		return nil, cobra.ShellCompDirectiveDefault
	}
}

func (a *app) redirectShow() *cobra.Command {
	var r hops.Rule
	var hsts bool
	c := &cobra.Command{
		Use:   "show apache|nginx|php",
		Short: "Print the rules for a server",
		Long: `Prints the rules that send every visitor to the secure address of the site: one
permanent redirect, 308 where the method counts, path and query letter by letter,
the folders for proofs of ownership left out.

--hsts adds HSTS in safe steps: five minutes first, a year once a scan in the logbook
is clean. With --site it needs no site file.

` + exitCodes,
		Example: `  trimlantern redirect show apache
  trimlantern redirect show nginx --proxy --hsts
  trimlantern redirect show php --site https://ternrock.example --path /shop/`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := server(args[0]); err != nil {
				return err
			}
			j, err := a.lookJob()
			if err != nil {
				return err
			}
			r.Server = args[0]
			rules, err := j.RedirectRules(r, hsts)
			if err != nil {
				return err
			}
			return a.show(rules, func(t *report.Text) { t.Rules(rules) })
		},
	}
	a.address(c)
	a.ruleFlags(c, &r)
	c.Flags().BoolVar(&hsts, "hsts", false, "tell browsers to remember (Strict-Transport-Security)")
	return c
}

func (a *app) redirectInstall() *cobra.Command {
	var r hops.Rule
	c := &cobra.Command{
		Use:   "install apache|php FILE",
		Short: "Put the rules into a file, at the place where they count",
		Long: `Puts the rules into FILE, between two marking lines: into .htaccess before all
others, into the first PHP file that runs behind its <?php. Rules that are there
already are replaced. The file of before is kept in the logbook. Another redirect in
the file is named: two at once are a known trap.

` + exitCodes,
		Example: `  trimlantern redirect install apache /var/www/ternrock/.htaccess
  trimlantern redirect install php /var/www/ternrock/index.php --proxy`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := server(args[0]); err != nil {
				return err
			}
			return a.rulesInFile(r, args[0], args[1], false)
		},
	}
	a.ruleFlags(c, &r)
	return c
}

func (a *app) redirectRemove() *cobra.Command {
	return &cobra.Command{
		Use:   "remove FILE",
		Short: "Take the rules out of a file",
		Long: `Takes the marked rules out of FILE; everything else of it stays, byte for byte.

` + exitCodes,
		Example: `  trimlantern redirect remove /var/www/ternrock/.htaccess`,
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.rulesInFile(hops.Rule{}, "", args[0], true)
		},
	}
}

func (a *app) rulesInFile(r hops.Rule, server, file string, remove bool) error {
	j, err := a.open()
	if err != nil {
		return err
	}
	r.Server = server
	out, err := j.InstallRules(r, file, remove)
	if err != nil {
		return err
	}
	return a.show(out, func(t *report.Text) { t.RedirectFile(out, remove) })
}

func (a *app) redirectTest() *cobra.Command {
	c := &cobra.Command{
		Use:   "test [URL]…",
		Short: "Follow every address a visitor may type",
		Long: `Asks for every address of the site: both schemes, all names, the front page, a deep
path with query and percent signs, something sent with POST, and a file for a
certificate authority. Shows where each lands and what is wrong on the way.

With --site it needs no site file.

` + exitCodes,
		Example: `  trimlantern redirect test
  trimlantern redirect test http://ternrock.example/visit/?from=map
  trimlantern redirect test --site https://ternrock.example --also www.ternrock.example`,
		RunE: func(c *cobra.Command, args []string) error {
			j, err := a.lookJob()
			if err != nil {
				return err
			}
			r, err := j.TestRedirects(c.Context(), args)
			if err != nil {
				return err
			}
			return a.show(r, func(t *report.Text) { t.RedirectTest(r) })
		},
	}
	a.address(c)
	a.network(c)
	return c
}
