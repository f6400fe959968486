package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/core/rules"
	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/redirect"
)

func (a *app) redirectCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "redirect",
		Short: "The redirect to HTTPS: show, install, remove and test it",
		Long: `All of the site's addresses must redirect to the secure one, at
once, path and query kept. show prints the rules for a server, install puts them into a
file and takes them back if they harm, remove takes them out, test follows every address.

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
	if !slices.Contains(rules.Servers, name) {
		return fmt.Errorf("%q is no server that rules are written for; write one of %s", name, strings.Join(rules.Servers, ", "))
	}
	return nil
}

func (a *app) ruleFlags(c *cobra.Command, r *rules.Rule) {
	c.Flags().BoolVar(&r.Proxy, "proxy", false, "TLS ends at a proxy in front, which says so in a header (X-Forwarded-Proto, Forwarded …)")
	c.Flags().StringArrayVar(&r.Says, "proxy-header", nil, "the proxy says so in the header of this `NAME` (repeatable): https or http, also inside of JSON, on or off, 443 or 80")
	c.PreRun = func(*cobra.Command, []string) { r.Proxy = r.Proxy || len(r.Says) > 0 }
	c.Flags().StringArrayVar(&r.Paths, "path", nil, "redirect only below this `PATH` (repeatable; default: the whole site)")
	c.Flags().BoolVar(&r.Safety, "safety-net", false, "let browsers upgrade what is left insecure (Content-Security-Policy)")
	c.ValidArgsFunction = func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) == 0 {
			return rules.Servers, cobra.ShellCompDirectiveNoFileComp
		}
		return nil, cobra.ShellCompDirectiveDefault
	}
}

func (a *app) redirectShow() *cobra.Command {
	var r rules.Rule
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
		Args: exactly(1, "the server: apache, nginx or php"),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := server(args[0]); err != nil {
				return err
			}
			j, err := a.lookJob()
			if err != nil {
				return err
			}
			r.Server = args[0]
			rules, err := redirect.RulesFor(j, r, hsts)
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
	var r rules.Rule
	var o redirect.InstallOptions
	c := &cobra.Command{
		Use:   "install apache|nginx|php FILE",
		Short: "Put the rules into a file, test them, and take them back if they do harm",
		Long: `Puts the rules into FILE, between two marking lines: into .htaccess before all
others; into the first PHP file that runs; into each nginx server block of the site.

First it looks whether HTTPS shows the same pages as HTTP, and whether the file holds
a redirect that clashes; then the rules would harm visitors, and nothing is changed.
Afterwards it follows every address. If any answers worse than before, or the rules
have no effect, the file is put back at once, byte for byte, with the reason. If the
command is killed in between, loses its terminal or takes longer than ten minutes, a
second process puts the file back; if the machine goes down, the next command of any
kind does. --after is repeated then. The previous file is kept in the logbook:
trimlantern undo puts it back later too.

` + exitCodes,
		Example: `  trimlantern redirect install apache /var/www/ternrock/.htaccess
  trimlantern redirect install php /var/www/ternrock/index.php --proxy
  trimlantern redirect install nginx /etc/nginx/sites-enabled/ternrock --after "nginx -s reload"`,
		Args: exactly(2, "the server and the file: apache|nginx|php FILE"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := server(args[0]); err != nil {
				return err
			}
			j, err := a.open()
			if err != nil {
				return err
			}
			r.Server = args[0]
			out, err := redirect.Install(c.Context(), j, r, args[1], o)
			if err != nil {
				return err
			}
			return a.show(out, func(t *report.Text) { t.RedirectFile(out, false) })
		},
	}
	a.ruleFlags(c, &r)
	a.network(c)
	c.Flags().BoolVar(&o.HSTS, "hsts", false, "tell browsers to remember (Strict-Transport-Security)")
	c.Flags().StringVar(&o.After, "after", "", "run this `COMMAND` so that the server reads the file")
	c.Flags().BoolVar(&o.Anyway, "anyway", false, "install without looking first and without the test")
	return c
}

func (a *app) redirectRemove() *cobra.Command {
	var o redirect.InstallOptions
	c := &cobra.Command{
		Use:   "remove FILE",
		Short: "Take the rules out of a file",
		Long: `Takes the marked rules out of FILE; everything else of it stays, byte for byte.

` + exitCodes,
		Example: `  trimlantern redirect remove /var/www/ternrock/.htaccess
  trimlantern redirect remove /etc/nginx/sites-enabled/ternrock --after "nginx -s reload"`,
		Args: exactly(1, "the file"),
		RunE: with(a.open, func(c *cobra.Command, args []string, j *work.Job) error {
			out, err := redirect.Remove(c.Context(), j, args[0], o)
			if err != nil {
				return err
			}
			return a.show(out, func(t *report.Text) { t.RedirectFile(out, true) })
		}),
	}
	c.Flags().StringVar(&o.After, "after", "", "run this `COMMAND` so that the server reads the file")
	return c
}

func (a *app) redirectTest() *cobra.Command {
	var o redirect.Options
	c := &cobra.Command{
		Use:   "test [URL]…",
		Short: "Follow every address a visitor may type",
		Long: `Asks for every address of the site: both schemes, all names and their servers, the
front page, login and feed, a page of each folder that the last scan read, a deep path
with query and percent signs, something sent with POST, and a file for a certificate
authority. Each fault is named once, with the addresses that have it. What the system
or the host does by itself is a note ([i]) and no fault; a fault that has to stay can
be accepted (trimlantern decide).

With --site it needs no site file.

` + exitCodes,
		Example: `  trimlantern redirect test
  trimlantern redirect test http://ternrock.example/visit/?from=map
  trimlantern redirect test --site https://ternrock.example --also www.ternrock.example`,
		RunE: with(a.lookJob, func(c *cobra.Command, args []string, j *work.Job) error {
			o.URLs = args
			return shown(a, (*report.Text).RedirectTest)(redirect.Test(c.Context(), j, o))
		}),
	}
	a.address(c)
	a.network(c)
	c.Flags().BoolVar(&a.all, "all", false, "show every address")
	c.Flags().StringArrayVar(&o.Paths, "path", nil, "only what is below this `PATH` is to be redirected (repeatable)")
	return c
}
