package cli

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/core/address"
	"trimlantern/outside/sitefile"
	"trimlantern/outside/system"
	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/setup"
)

func (a *app) initCommand() *cobra.Command {
	var o setup.Options
	var databaseURL string
	move := false
	c := &cobra.Command{
		Use:   "init [--site https://HOST] [FOLDER]",
		Short: "Write the site file: which site, which database, which files",
		Long: `Writes trimlantern.yaml. Below FOLDER it looks for the system's own
configuration and takes database, user, password and table prefix from it, or
for an SQLite database; or the flags say it. Without --site the database says the
address; sister sites are found there too. The password is never written: the site
file says where it is kept. Running init again corrects the site file; decisions stay.

--database dump:FILE takes an exported database, packed or not: it is looked at like a
live one, and apply makes a new dump or a patch of it. --system FILE.yaml describes a
system of your own, also one whose content is files.

The site file and the logbook, with all old values, are kept in a folder of the site
below your data folder ($XDG_DATA_HOME/trimlantern/HOST), where no web server can hand
them out. --here keeps them in the current folder, --config FILE wherever you say.

` + exitCodes,
		Example: `  trimlantern init /var/www/ternrock
  trimlantern init --site https://ternrock.example --also www.ternrock.example /var/www/ternrock
  trimlantern init --site https://ternrock.example --database sqlite:site.db --prefix tr_ --files theme
  trimlantern init --site https://ternrock.example --database dump:museum.sql.gz
  trimlantern init --site https://ternrock.example --database mysql://keeper@localhost/museum \
      --password-env MUSEUM_PASSWORD --prefix wp_
  trimlantern init --site https://ternrock.example --password-file secret \
      --database 'postgres://keeper@db.ternrock.example/museum?tls=verify'`,
		Args: atMost(1, "one FOLDER"),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				o.Folder = args[0]
			}
			for _, place := range [][2]string{{"FOLDER", o.Folder}, {"--database", databaseURL}} {
				if err := here(place[0], place[1]); err != nil {
					return err
				}
			}
			if move {
				return shown(a, (*report.Text).Moved)(work.Move(a.config, a.home))
			}
			if databaseURL != "" {
				if err := parseDatabase(databaseURL, &o.Database); err != nil {
					return err
				}
			}
			if c.Flags().Changed("site") && strings.TrimSpace(a.site) == "" {
				return address.ErrEmpty
			}
			o.Site, o.Also, o.Sisters, o.Path, o.Home = a.site, a.also, a.sisters, a.config, a.home
			if o.Here && o.Path != "" {
				return fmt.Errorf("--here and --config say two places for the site file; write one of them")
			}
			o.Network = sitefile.Network{Resolve: a.resolve, CA: a.ca}
			return shown(a, (*report.Text).Inited)(setup.Init(c.Context(), o, a.progress()))
		},
	}
	a.address(c)
	a.network(c)
	f := c.Flags()
	f.BoolVar(&o.Here, "here", false, "keep site file and logbook in the current folder; not in one that a web server serves")
	f.BoolVar(&move, "move", false, "move the site file that is in use, with its logbook, into your data folder")
	f.StringVar(&databaseURL, "database", "", "the database: `sqlite:FILE`, dump:FILE (an exported one), mysql://USER@HOST/NAME or postgres://USER@HOST/NAME; ?socket=PATH, tls=off|encrypt|verify, tls-ca=FILE, schema=NAME")
	f.StringVar(&o.Database.Config, "system-config", "", "take the database from the system's own configuration `FILE`; with --database only what it holds of the addresses")
	f.StringVar(&o.Database.Prefix, "prefix", "", "what the names of the site's tables begin with")
	f.StringVar(&o.Database.PasswordEnv, "password-env", "", "the password is in this environment `VARIABLE`")
	f.StringVar(&o.Database.PasswordFile, "password-file", "", "the password is in this `FILE`")
	f.StringVar(&o.Database.Charset, "charset", "", "how the system's own software connects (default utf8mb4)")
	f.StringVar(&o.System, "system", "", "the kind of system: "+strings.Join(system.Names(), ", ")+", or a FILE.yaml of your own")
	f.IntSliceVar(&o.Sites, "sites", nil, "of several sites in one database only these `NUMBERS`")
	f.StringArrayVar(&o.Files, "files", nil, "a `FOLDER` with themes or plugins (repeatable)")
	check(c.RegisterFlagCompletionFunc("system", cobra.FixedCompletions(system.Names(), cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// parseDatabase reads the address of a database. A password in it is refused:
// everybody on the machine could read it.
func parseDatabase(raw string, d *sitefile.Database) error {
	for _, kind := range []string{"sqlite", work.DumpKind} {
		if file, ok := strings.CutPrefix(raw, kind+":"); ok && file != "" {
			d.Kind, d.File = kind, file
			return nil
		}
	}
	u, err := url.Parse(raw)
	kinds := map[string]string{"mysql": "mysql", "mariadb": "mysql", "postgres": "postgres", "postgresql": "postgres"}
	if err != nil || kinds[u.Scheme] == "" || strings.Trim(u.Path, "/") == "" {
		if err == nil && kinds[u.Scheme] != "" {
			return &work.Fault{Code: work.Misuse, What: "--database cannot be read: it names a server, and no database on it", Do: "write its name at the end: --database " + u.Scheme + "://" + cmp.Or(u.User.Username(), "USER") + "@" + cmp.Or(u.Host, "HOST") + "/NAME"}
		}
		return &work.Fault{Code: work.Misuse, What: "--database cannot be read", Do: databaseMeant(raw)}
	}
	for k := range u.Query() {
		if !slices.Contains([]string{"socket", "tls", "tls-ca", "schema", "charset"}, k) {
			return fmt.Errorf("--database: %q is not known behind the question mark; known are socket, tls, tls-ca, schema and charset", k)
		}
	}
	if _, ok := u.User.Password(); ok {
		return fmt.Errorf("--database must not hold the password, since everybody on the machine can read it there; use --password-env or --password-file")
	}
	q := u.Query()
	d.Kind, d.Host, d.User, d.Name, d.Socket = kinds[u.Scheme], u.Hostname(), u.User.Username(), strings.Trim(u.Path, "/"), q.Get("socket")
	d.TLS, d.TLSCA, d.Schema = q.Get("tls"), q.Get("tls-ca"), q.Get("schema")
	if c := q.Get("charset"); c != "" {
		d.Charset = c
	}
	if p := u.Port(); p != "" {
		if d.Port, err = strconv.Atoi(p); err != nil {
			return fmt.Errorf("--database: %q is no port", p)
		}
	}
	return nil
}
