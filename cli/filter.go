package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"trimlantern/outside/system"
	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/dumps"
)

func (a *app) filterCommand() *cobra.Command {
	o := dumps.Options{}
	var summary string
	c := &cobra.Command{
		Use:   "filter --site https://HOST [IN [OUT]]",
		Short: "Read an SQL dump, write it with secure references",
		Long: `A filter: an SQL dump (or one stored value) goes in, the same comes out with the
site's references secure and its serialized values re-sealed. It needs no site
file and no database. Dumps are read as the dump programs of MariaDB, MySQL,
PostgreSQL (plain) and SQLite and web panels write them; everything else of the
dump is copied byte for byte. References in statements that are no rows, in code
and in comments are named with their line.

- or nothing stands for the standard streams. Input packed with gzip, zstd, bzip2
or xz, in a zip or tar archive, or in UTF-16 is unpacked; an output is packed as
its name says (.gz, .zst, .bz2, .xz, .zip, .tar.gz and so on). The dump is read to
its end before anything is written, and an output file appears under its name only
when it is whole; more than 32 MB of standard input wait in a temporary file. The
summary goes to standard error.

The sister sites of a network are found in the dump. It asks no other host: what
pages load from elsewhere is left and counted. Memory stays small whatever the size
of the dump; a row that is larger than --largest-row stops it, with its place.

` + exitCodes,
		Example: `  mariadb-dump museum | trimlantern filter --site https://ternrock.example > museum-https.sql
  trimlantern filter --site https://ternrock.example --also www.ternrock.example museum.sql.gz secure.sql.gz
  trimlantern filter --site https://ternrock.example --as value < setting.txt`,
		Args: atMost(2, "IN and OUT"),
		RunE: func(c *cobra.Command, args []string) error {
			if o.Row < 1 || o.Row > 1024 {
				return fmt.Errorf("--largest-row %d: write a number of megabytes from 1 to 1024", o.Row)
			}
			args = append(args, "", "")
			o.Site, o.Also, o.Sisters, o.In, o.Out, o.Stdin, o.Stdout = a.site, a.also, a.sisters, args[0], args[1], os.Stdin, a.out
			r, err := dumps.Filter(c.Context(), o, a.progress())
			if err != nil {
				return err
			}
			return a.summarize(r, summary)
		},
	}
	a.address(c)
	words(c, c.Flags(), &o.As, "as", "what the input is: `dump|value` (default: told from the input)", "dump", "value")
	c.Flags().StringVar(&o.System, "system", "", "the kind of system: "+strings.Join(system.Names(), ", ")+", or a FILE.yaml of your own (default: told from the tables)")
	c.Flags().StringArrayVar(&o.Parts, "part", nil, "a `FILE` that goes on where IN ends, of a dump in several (repeatable)")
	words(c, c.Flags(), &o.Dialect, "dialect", "whose SQL the dump is: `mysql|postgres|sqlite` (default: told from the dump)", "mysql", "mariadb", "postgres", "sqlite")
	c.Flags().StringVar(&o.Charset, "charset", "", "the charset of the dump's text, by the database's `NAME` for it, where the dump does not say (default utf8mb4)")
	c.Flags().StringVar(&o.Tables, "tables", "", "a dump `FILE` that defines the tables, where IN has only their rows")
	c.Flags().BoolVar(&o.Rows, "rows-only", false, "change rows of tables that nothing defines: nobody knows what fits into their columns")
	c.Flags().BoolVar(&o.Code, "code", false, "change views, triggers, functions and definitions too")
	number(c.Flags(), &o.Row, "largest-row", 16, 1, 1024, "stop at a row of more than this many `MB`; a row takes up to five times its size of memory")
	c.Flags().StringVar(&summary, "summary", "", "write the summary as JSON to this `FILE`")
	check(c.RegisterFlagCompletionFunc("system", cobra.FixedCompletions(system.Names(), cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// summarize writes what filter did to standard error, since its result has
// standard output to itself.
func (a *app) summarize(r *dumps.Filtered, file string) error {
	a.code = r.Code()
	if file != "" {
		if err := writeFile(file, func(w io.Writer) error { return report.JSON(w, r) }); err != nil {
			return &work.Fault{Code: work.World, What: "the summary cannot be written", Do: "the output itself is complete; name another file", Err: err}
		}
	}
	if a.format == "json" {
		return report.JSON(a.errs, r)
	}
	if a.quiet {
		return nil
	}
	t := a.text(a.errs)
	t.Filtered(r)
	return t.Err()
}
