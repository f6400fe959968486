package cli

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"trimlantern/core/mixed"
	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/findings"
	"trimlantern/work/scan"
)

func (a *app) scanCommand() *cobra.Command {
	o := scan.Options{}
	var list string
	var reports []string
	var timeout time.Duration
	c := &cobra.Command{
		Use:   "scan [URL]…",
		Short: "Read the pages and list what is insecure on them",
		Long: `Crawls the site over HTTPS from its front page, its site map and its feed, or from the
URLs given, and lists what a browser blocks, what it upgrades, where a form sends
insecurely, and where a page names an insecure address without loading it. What a page
loads securely is followed too: some of it sends back to HTTP. The crawl never leaves
the site's names.

Where Chromium is installed it looks at all pages with scripts, and a dozen others, and sees
what only scripts load; --browser looks at all, --no-browser leaves it out. --trace says where each culprit is stored: the row and
setting, or the file and line. --as-https answers before the switch what would break.

A site is called clean only if nothing is left open: all known addresses were asked for,
all that pages load was read, their scripts were run, the browser looked to the end, other
visitors see the same (a telephone, another language, a second visit), and no wall is in
the way, like a password or a challenge. What is open is counted and named, and the exit
code is 1; --accept-gap CLAUSE closes it (addresses, parts, scripts, browser, identity,
walls), and with --because it stays accepted. Links that do something, like filling a
cart, and links with rel=nofollow are not followed.

With --site it needs no site file; results are kept in your data folder.

` + exitCodes,
		Example: `  trimlantern scan
  trimlantern scan --trace --report scan.html
  trimlantern scan --site https://ternrock.example --as-https --pages 200
  trimlantern scan --browser --compare last --fail-on blocked
  trimlantern scan --no-browser --accept-gap scripts --because "no browser on this machine"
  trimlantern scan --depth 0 https://ternrock.example/visit/`,
		Annotations: map[string]string{"formats": strings.Join(report.ScanFormats, " ")},
		RunE: with(a.lookJob, func(c *cobra.Command, args []string, j *work.Job) error {
			j.Timeout = timeout
			debug.SetGCPercent(400) // little stays, much comes and goes
			debug.SetMemoryLimit(60 << 20)
			if err := a.reportTo(reports...); err != nil {
				return err
			}
			for _, file := range reports {
				if formatOf(file) == "" {
					return fmt.Errorf("--report %s: its name tells no format; end it with %s", file, strings.Join(report.Endings(), ", "))
				}
			}
			if list != "" {
				more, err := readList(list)
				if err != nil {
					return err
				}
				args = append(args, more...)
			}
			o.URLs = args
			r, err := scan.Run(c.Context(), j, o)
			if err != nil {
				return err
			}
			defer r.Forget()
			return a.showScan(r, reports)
		}),
	}
	a.address(c)
	a.network(c)
	scanFlags(c, &o)
	f := c.Flags()
	span(f, &timeout, "timeout", 20*time.Second, "give a server this `TIME` for one answer")
	f.BoolVar(&a.all, "all", false, "list everything that was found")
	f.StringVar(&list, "list", "", "begin at the URLs in this `FILE` too, one a line; - for standard input")
	f.StringArrayVar(&reports, "report", nil, "write the result to this `FILE` too; its ending tells the format: "+strings.Join(report.Endings(), ", ")+"; - is standard output, as HTML")
	check(c.RegisterFlagCompletionFunc("fail-on", cobra.FixedCompletions(strings.Split(classNames()+", none", ", "), cobra.ShellCompDirectiveNoFileComp)))
	check(c.RegisterFlagCompletionFunc("compare", a.complete(findings.IDs)))
	return c
}

// scanFlags adds the flags that bound a scan and say what it looks at.
func scanFlags(c *cobra.Command, o *scan.Options) {
	f := c.Flags()
	number(f, &o.Pages, "pages", 10000, 1, 10000000, "read at most this many `PAGES`")
	number(f, &o.Depth, "depth", 50, 0, 100000, "follow at most this many `LINKS` from the start")
	number(f, &o.Parallel, "parallel", 4, 1, 64, "wait for this many `ANSWERS` at once")
	span(f, &o.Pause, "pause", 0, "wait this `TIME` between two requests, like 200ms")
	span(f, &o.Time, "for", 0, "stop after this `TIME`, like 30m")
	f.BoolVar(&o.Robots, "robots", false, "honour robots.txt")
	f.StringArrayVar(&o.Except, "except", nil, "exclude addresses whose path matches `PATTERN`, like /calendar/* (repeatable)")
	f.StringSliceVar(&o.Follow, "follow", nil, "follow these `LINKS` too: nofollow, acting (log out, delete, dashboard)")
	number(f, &o.Sample, "sample", 0, 0, 10000000, "read only this many `PAGES`, different ones each time")
	f.BoolVar(&o.Bare, "bare", false, "do not ask whether images and the like lead back to HTTP")
	f.BoolVar(&o.AsHTTPS, "as-https", false, "before the switch: read over HTTP, judge as if over HTTPS")
	f.BoolVar(&o.Resume, "resume", false, "go on with the scan that was interrupted")
	f.StringVar(&o.Compare, "compare", "", "say what is new and what is gone since the `SCAN` of that name, or last")
	f.StringVar(&o.FailOn, "fail-on", "", "exit with 1 only from this `CLASS` up: "+classNames()+" or none")
	f.BoolVar(&o.Trace, "trace", false, "say where each culprit is stored, in database and files")
	lookFlags(c, o)
}

// lookFlags adds the flags that say how far a scan looks with a browser, and what of its verdict may stay open.
func lookFlags(c *cobra.Command, o *scan.Options) {
	f := c.Flags()
	f.BoolVar(&o.Browser, "browser", false, "insist on a browser: fail where none can be used")
	f.BoolVar(&o.NoBrowser, "no-browser", false, "read only what the server sends")
	f.StringVar(&o.Chromium, "chromium", "", "the browser's `PATH` (default: $TRIMLANTERN_CHROMIUM, or the one that is installed)")
	f.StringVar(&o.BrowserUser, "browser-user", "", "run the browser as this `USER`: as root its sandbox does not work")
	number(f, &o.Tabs, "tabs", 4, 1, 32, "how many `WINDOWS` the browser opens at once")
	number(f, &o.Looks, "looks", 500, 0, 10000000, "look at no more than this many `PAGES` with the browser")
	f.StringSliceVar(&o.Accept, "accept-gap", nil, "let this `CLAUSE` of the verdict stay open: addresses, parts, scripts, browser, identity, walls, or the cause of a gap")
	f.StringVar(&o.Because, "because", "", "the `REASON`, with which --accept-gap is kept in the site file")
}

func classNames() string {
	var names []string
	for _, c := range mixed.Classes {
		names = append(names, string(c))
	}
	return strings.Join(names, ", ")
}

// readList reads URLs, one a line.
func readList(file string) ([]string, error) {
	in := io.Reader(os.Stdin)
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return nil, fmt.Errorf("--list: %w", err)
		}
		defer f.Close()
		in = f
	}
	var out []string
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		if line := strings.TrimSpace(lines.Text()); line != "" && !strings.HasPrefix(line, "#") {
			out = append(out, line)
		}
	}
	return out, lines.Err()
}

// formatOf returns the format of a report by the name of its file.
func formatOf(file string) string {
	if file == stdout {
		return "html"
	}
	return report.FormatOf(file)
}

// showScan writes a scan to standard output and into the files that were asked for.
func (a *app) showScan(r *findings.Scan, reports []string) error {
	a.code = r.Code()
	fault := func(err error) error {
		if hungUp(err) {
			return nil
		}
		return &work.Fault{Code: work.World, What: "the result cannot be written", Do: "the scan itself is in the logbook; name another file", Err: err}
	}
	for _, file := range reports {
		if err := a.writeReport(file, func(w io.Writer) error { return report.ScanAs(w, formatOf(file), r) }); err != nil {
			return fault(err)
		}
	}
	var err error
	if a.format == "text" {
		t := a.text(a.out)
		t.Scan(r)
		err = t.Err()
	} else {
		w := bufio.NewWriter(a.out)
		if err = report.ScanAs(w, a.format, r); err == nil {
			err = w.Flush()
		}
	}
	if err != nil {
		return fault(err)
	}
	return nil
}
