package cli

import (
	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/backup"
)

func (a *app) backupCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "backup [FOLDER]",
		Short: "Back up database and files, and read the backup back",
		Long: `Writes all of the site's database by the database's own means (mariadb-dump,
pg_dump, or SQLite's own copy) and the files of the declared folders into a
new folder below FOLDER (default: backups, beside the site file), which only
you can enter. All of it is read back: the rows are counted against the
database, each file is compared.

The journal of apply takes back what apply changed. A backup is for all else.
docs/backup.md says how it is restored.

` + exitCodes,
		Example: `  trimlantern backup
  trimlantern backup /srv/backups/ternrock
  trimlantern backup --format json`,
		Args: atMost(1, "one FOLDER"),
		RunE: with(a.open, func(c *cobra.Command, args []string, j *work.Job) error {
			return shown(a, (*report.Text).BackedUp)(backup.Run(c.Context(), j, append(args, "")[0]))
		}),
	}
}
