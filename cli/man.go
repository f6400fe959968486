package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"trimlantern/outside/disk"
	"trimlantern/work"
)

// manCommand writes the manual pages, from what help shows.
func (a *app) manCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:    "man FOLDER",
		Short:  "Write the manual pages into a folder",
		Hidden: true,
		Args:   exactly(1, "the folder"),
		RunE: func(_ *cobra.Command, args []string) error {
			when := manDate()
			for _, c := range append([]*cobra.Command{root}, pages(root)...) {
				var b bytes.Buffer
				manPage(&b, c, when)
				name := strings.ReplaceAll(c.CommandPath(), " ", "-") + ".1"
				if err := disk.CreateNew(filepath.Join(args[0], name), b.Bytes(), 0o644); err != nil {
					return &work.Fault{Code: work.World, What: "the manual page " + name + " cannot be written", Do: "name an empty folder that you may write to", Err: err}
				}
			}
			return nil
		},
	}
}

// manDate is the date of the pages: that of SOURCE_DATE_EPOCH where it is set, so that two builds are equal.
func manDate() string {
	var seconds int64
	if _, err := fmt.Sscan(os.Getenv("SOURCE_DATE_EPOCH"), &seconds); err == nil {
		return time.Unix(seconds, 0).UTC().Format("2006-01-02")
	}
	return time.Now().UTC().Format("2006-01-02")
}

// pages are the commands that have a page.
func pages(c *cobra.Command) (all []*cobra.Command) {
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() && sub.Name() != "help" && sub.Name() != "completion" {
			all = append(append(all, sub), pages(sub)...)
		}
	}
	return all
}

// roff escapes text for troff.
func roff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(s)
	var lines []string
	for _, l := range strings.Split(s, "\n") {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			l = `\&` + l
		}
		lines = append(lines, l)
	}
	return strings.Join(lines, "\n")
}

// manPage writes one page (man(7)).
func manPage(w io.Writer, c *cobra.Command, when string) {
	name := strings.ReplaceAll(c.CommandPath(), " ", "-")
	fmt.Fprintf(w, ".TH %s 1 %s \"Trim Lantern\" \"User Commands\"\n", strings.ToUpper(roff(name)), when)
	fmt.Fprintf(w, ".SH NAME\n%s \\- %s\n", roff(name), roff(strings.TrimSuffix(c.Short, ".")))
	fmt.Fprintf(w, ".SH SYNOPSIS\n.B %s\n", roff(usage(c)))
	if long := strings.TrimSpace(strings.Replace(c.Long, exitCodes, "", 1)); long != "" {
		fmt.Fprintf(w, ".SH DESCRIPTION\n")
		for i, p := range strings.Split(flow(long), "\n\n") {
			if i > 0 {
				fmt.Fprintf(w, ".PP\n")
			}
			if strings.Contains(p, "\n  ") || strings.HasPrefix(p, "  ") {
				fmt.Fprintf(w, ".nf\n%s\n.fi\n", roff(p))
			} else {
				fmt.Fprintf(w, "%s\n", roff(p))
			}
		}
	}
	if hasOptions(c) {
		fmt.Fprintf(w, ".SH OPTIONS\n")
		manFlags(w, c.LocalNonPersistentFlags())
	}
	if c.Parent() == nil {
		fmt.Fprintf(w, ".SH COMMANDS\n")
		for _, sub := range pages(c) {
			fmt.Fprintf(w, ".TP\n.BR %s (1)\n%s\n", roff(strings.ReplaceAll(sub.CommandPath(), " ", "-")), roff(sub.Short))
		}
		fmt.Fprintf(w, ".SH OPTIONS\n")
		manFlags(w, c.PersistentFlags())
		for _, t := range topics {
			if t.text != "" {
				fmt.Fprintf(w, ".SH %s\n.nf\n%s\n.fi\n", strings.ToUpper(roff(t.short)), roff(t.text))
			}
		}
	}
	if c.Example != "" {
		fmt.Fprintf(w, ".SH EXAMPLES\n.nf\n%s\n.fi\n", roff(folded(c.Example)))
	}
	if c.Parent() != nil {
		fmt.Fprintf(w, ".SH SEE ALSO\n.BR trimlantern (1)\n")
	}
}

func manFlags(w io.Writer, flags *pflag.FlagSet) {
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		value, words := pflag.UnquoteUsage(f)
		fmt.Fprintf(w, ".TP\n.B %s\n%s\n", roff(strings.TrimSpace("--"+f.Name+" "+value)), roff(words))
	})
}
