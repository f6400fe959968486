package cli

import (
	"os"

	"github.com/spf13/cobra"

	"trimlantern/demo"
	"trimlantern/work"
)

func (a *app) demoCommand() *cobra.Command {
	var stay string
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run the whole road on a made-up site with its own little server",
		Long: `Lays out the site of Tern Rock Light, a made-up lighthouse museum, with an
embedded database, a theme and a web server on this machine alone, and runs the
whole road on it: every command line as you would type it, and its real output.

With --stay it lays the site out in a folder, keeps the server up, and says what
to type in another terminal.

` + exitCodes,
		Example: `  trimlantern demo
  trimlantern demo --stay ternrock`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if stay != "" {
				return worldly(demo.Stay(c.Context(), stay, a.out))
			}
			self, err := os.Executable()
			if err != nil {
				return worldly(err)
			}
			return worldly(demo.Run(c.Context(), self, a.out, a.colorOn(a.out)))
		},
	}
	c.Flags().StringVar(&stay, "stay", "", "lay the site out in this new `FOLDER` and keep the server up")
	return c
}

// worldly makes an error of the demo one that says what to do.
func worldly(err error) error {
	if err == nil {
		return nil
	}
	return &work.Fault{Code: work.World, What: "the demo", Do: "see what it says; the demo touches nothing but its own folder", Err: err}
}
