package cli

import (
	_ "embed"
	"io"

	"github.com/spf13/cobra"
)

//go:embed completion.bash
var bashCompletion string

// shells are those whose completion is printed, with how it is used.
var shells = []struct {
	name, use string
	write     func(root *cobra.Command, w io.Writer) error
}{
	{"bash", "source <(trimlantern completion bash)", func(_ *cobra.Command, w io.Writer) error {
		_, err := io.WriteString(w, bashCompletion)
		return err
	}},
	{"zsh", "source <(trimlantern completion zsh)", (*cobra.Command).GenZshCompletion},
	{"fish", "trimlantern completion fish | source", func(root *cobra.Command, w io.Writer) error { return root.GenFishCompletion(w, true) }},
	{"powershell", "trimlantern completion powershell | Out-String | Invoke-Expression", (*cobra.Command).GenPowerShellCompletionWithDesc},
}

func (a *app) completionCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "completion",
		Short: "Print what makes a shell complete commands, options and their values",
		Long: `Prints a script for the shell; make install and the packages put it in place. It completes
commands, options, and what they take: sheets, journals, scans, systems, words.`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	for _, s := range shells {
		c.AddCommand(&cobra.Command{
			Use:     s.name,
			Short:   "For " + s.name,
			Long:    "Prints the script for " + s.name + ". To try it in this shell, run the example; to keep it, put that line into what the shell reads at its start.",
			Example: "  " + s.use,
			Args:    noArgs,
			RunE: func(c *cobra.Command, _ []string) error {
				return cannotWrite(s.write(c.Root(), a.out))
			},
		})
	}
	return c
}
