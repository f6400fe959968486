package cli

import (
	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/decide"
)

func (a *app) decideCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "decide",
		Short: "Decide what preview, scan, ready or redirect test leaves to a person",
		Long: `Records what you decide about an item that trimlantern show lists: by its number, or
by the URL or the host. The site file keeps the decision for whoever looks after the
site next. Nothing of the site changes before the next apply.

` + exitCodes,
		Example: `  trimlantern decide adopt 7
  trimlantern decide replace http://old.example/map.png https://ternrock.example/map.png
  trimlantern decide leave partner.example
  trimlantern decide accept 3 --because "the host's panel redirects forms with 301"
  trimlantern decide forget partner.example`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(a.decideAccept(), a.decideAdopt(), a.decideReplace(), a.decideEdit(), a.decideRelative(), a.decideForget())
	for _, h := range []struct{ what, short, long string }{
		{"secure", "You know that a host serves HTTPS", "References that pages load from this host become secure, without asking it."},
		{"insecure", "You know that a host serves no HTTPS", "What pages load from this host is left and named, without asking it."},
		{"leave", "Leave everything of a host as it is", "References to this host are left, and no longer count. Where browsers block what pages load from it, scan still says so."},
	} {
		c.AddCommand(a.decideHost(h.what, h.short, h.long))
	}
	return c
}

// needs checks how many arguments there are, and says which.
func needs(n int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != n {
			return &work.Fault{Code: work.Misuse, What: nameOf(c) + " needs " + what, Do: "trimlantern show lists what waits for a decision"}
		}
		return nil
	}
}

// deciding makes the body of a command that records a decision.
func (a *app) deciding(decide func(j *work.Job, args []string) (*decide.Decision, error)) func(*cobra.Command, []string) error {
	return func(_ *cobra.Command, args []string) error {
		j, err := a.open()
		if err != nil {
			return err
		}
		d, err := decide(j, args)
		if err != nil {
			return err
		}
		return a.show(d, func(t *report.Text) { t.Decision(d) })
	}
}

func (a *app) decideHost(what, short, long string) *cobra.Command {
	return &cobra.Command{
		Use:     what + " HOST",
		Short:   short,
		Long:    long + " HOST may be a URL or a number of show too.\n\n" + exitCodes,
		Example: "  trimlantern decide " + what + " partner.example",
		Args:    needs(1, "one host"),
		RunE: a.deciding(func(j *work.Job, args []string) (*decide.Decision, error) {
			return decide.Host(j, args[0], what)
		}),
	}
}

func (a *app) decideAccept() *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:   "accept NUMBER|URL",
		Short: "Accept a finding: it stays visible and no longer counts",
		Long: `Accepts the finding with this number, for the addresses or the place that it names
now. It stays visible, with your reason, and no longer counts in preview, scan, ready,
redirect test, status and checkup. Where the same fault turns up elsewhere, it counts
again. A fault that stops visitors, marked [-], cannot be accepted.

` + exitCodes,
		Example: `  trimlantern decide accept 3 --because "the host's panel redirects forms with 301"`,
		Args:    needs(1, "one number, as trimlantern show, ready or redirect test shows it, or one URL"),
		RunE: a.deciding(func(j *work.Job, args []string) (*decide.Decision, error) {
			return decide.Accept(j, args[0], because)
		}),
	}
	c.Flags().StringVar(&because, "because", "", "the `REASON`; the site file keeps it")
	return c
}

func (a *app) decideReplace() *cobra.Command {
	return &cobra.Command{
		Use:   "replace NUMBER|URL NEW-URL",
		Short: "Put another address in the place of one, everywhere",
		Long: `The next preview puts NEW-URL, which must be an HTTPS address, wherever exactly this
insecure URL is stored: in pages, settings, serialized values and files. apply carries
it out and undo takes it back, like every other change.

` + exitCodes,
		Example: `  trimlantern decide replace 7 https://ternrock.example/media/tides.svg
  trimlantern decide replace http://old.example/map.png https://ternrock.example/map.png`,
		Args: needs(2, "two: the URL as it is stored (or its number), and the one that takes its place"),
		RunE: a.deciding(func(j *work.Job, args []string) (*decide.Decision, error) {
			return decide.Replace(j, args[0], args[1])
		}),
	}
}

func (a *app) decideEdit() *cobra.Command {
	var from string
	c := &cobra.Command{
		Use:   "edit NUMBER",
		Short: "Edit a stored text yourself",
		Long: `Opens the text that an item is about in your editor (VISUAL or EDITOR), decoded:
without the lengths, escapes and encodings around it. A value that cannot be read is
opened as it is stored. Places that hold the same text are edited with it; other texts
of the item are opened one after the other, as many as show names, and what cannot be
edited is named. The next preview shows the change and seals it in what encloses
it; apply carries it out, and undo takes it back. If somebody changes the text
meanwhile, it is left and named.

` + exitCodes,
		Example: `  trimlantern decide edit 7
  trimlantern decide edit 7 --text new.txt`,
		Args: needs(1, "one number"),
		RunE: with(a.open, func(c *cobra.Command, args []string, j *work.Job) error {
			edit := a.editor
			if from != "" {
				edit = func([]byte) ([]byte, error) { return a.textFrom(from) }
			}
			return shown(a, (*report.Text).Decision)(decide.Edit(c.Context(), j, args[0], from != "", edit))
		}),
	}
	c.Flags().StringVar(&from, "text", "", "take the new text from this `FILE`, or - for standard input, and open no editor")
	return c
}

func (a *app) decideRelative() *cobra.Command {
	return &cobra.Command{
		Use:   "relative PLACE",
		Short: "Write the site's own addresses at a place from the path on",
		Long: `The next preview writes the site's own insecure addresses at this place without scheme
and host, /media/lens.png, where a page's HTML or CSS reads them; a browser adds the
page's own. Everywhere else, in scripts, canonical addresses, feeds and fields that hold
an address alone, they stay whole and become secure.

PLACE is TABLE, TABLE.COLUMN, setting:NAME or file:FILE; * and ? are wildcards. Tables
whose rows are pages are refused: their text goes into feeds and mails too.

` + exitCodes,
		Example: `  trimlantern decide relative setting:footer_text
  trimlantern decide relative 'file:*.php'`,
		Args: needs(1, "one place: TABLE, TABLE.COLUMN, setting:NAME or file:FILE"),
		RunE: with(a.open, func(c *cobra.Command, args []string, j *work.Job) error {
			return shown(a, (*report.Text).Decision)(decide.Relative(c.Context(), j, args[0]))
		}),
	}
}

func (a *app) decideForget() *cobra.Command {
	return &cobra.Command{
		Use:   "forget HOST|URL|PLACE|FINDING",
		Short: "Take back what was decided",
		Long: `Takes decisions out of the site file again: about a host, a URL that was replaced,
copied or accepted, a place, an edited text by its number, or an accepted finding by its
name. What apply changed meanwhile
stays: trimlantern undo takes that back.

` + exitCodes,
		Example: `  trimlantern decide forget partner.example
  trimlantern decide forget http://old.example/map.png`,
		Args: needs(1, "one host, URL, place or finding"),
		RunE: a.deciding(func(j *work.Job, args []string) (*decide.Decision, error) { return decide.Forget(j, args[0]) }),
	}
}

func (a *app) decideAdopt() *cobra.Command {
	var o decide.AdoptOptions
	c := &cobra.Command{
		Use:   "adopt NUMBER|URL|HOST",
		Short: "Keep a copy on your own site of what a host serves over HTTP alone",
		Long: `Fetches a copy of a picture, font, style sheet, video or sound, and of what a style
sheet pulls in; with a host, of all that waits for a decision. Type, content and size
are checked. The copies wait in the logbook: preview shows where the site will point to
them, apply puts them into the site's folder and checks that they are served before
anything points to them, and undo takes all of it away again.

Without --into they lie below kept/ in the folder of the site's system. Make sure that
you may copy them. Scripts run on your pages and came over an insecure connection: read
them before you add --scripts.

` + exitCodes,
		Example: `  trimlantern decide adopt 7
  trimlantern decide adopt charts.tideoffice.example
  trimlantern decide adopt 7 --into /var/www/ternrock/media/kept --at https://ternrock.example/media/kept`,
		Args: needs(1, "one number, URL or host"),
		RunE: with(a.open, func(c *cobra.Command, args []string, j *work.Job) error {
			o.What = args[0]
			return shown(a, (*report.Text).Adopted)(decide.Adopt(c.Context(), j, o))
		}),
	}
	a.network(c)
	c.Flags().StringVar(&o.Into, "into", "", "the `FOLDER` for copies; the web server must serve it")
	c.Flags().StringVar(&o.At, "at", "", "the HTTPS address at which it does: `https://HOST/PATH`")
	c.Flags().BoolVar(&o.Scripts, "scripts", false, "copy scripts too")
	return c
}
