package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"trimlantern/outside/sitefile"
	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/cert"
	"trimlantern/work/checkup"
	"trimlantern/work/findings"
	"trimlantern/work/fleet"
	"trimlantern/work/preview"
	"trimlantern/work/ready"
	"trimlantern/work/run"
	"trimlantern/work/scan"
	"trimlantern/work/setup"
	"trimlantern/work/status"
)

// fleetJob is one question that is asked of many sites.
type fleetJob struct {
	name, short, long string
	network           bool
	do                func(ctx context.Context, j *work.Job, o fleetFlags) (fleet.Result, error)
	empty             func() fleet.Result // to read a result back into
}

// fleetFlags are the flags of the fleet's commands.
type fleetFlags struct {
	fleet.Options
	report string
	scan   scan.Options
	soon   time.Duration
	anyway bool
}

var fleetJobs = []fleetJob{
	{"status", "Where each site is on its road", "Shows the road of each site in one line, with the next step.", false,
		func(ctx context.Context, j *work.Job, _ fleetFlags) (fleet.Result, error) { return status.Of(ctx, j) }, func() fleet.Result { return &status.Status{} }},
	{"ready", "Which sites are ready for HTTPS", "Looks at names, certificate and both schemes of each site.", true,
		func(ctx context.Context, j *work.Job, _ fleetFlags) (fleet.Result, error) {
			return ready.Check(ctx, j, ready.Options{})
		}, func() fleet.Result { return &ready.Result{} }},
	{"preview", "What would change on each site", "Writes a change sheet for each site. Nothing is changed.", true,
		func(ctx context.Context, j *work.Job, _ fleetFlags) (fleet.Result, error) { return preview.Run(ctx, j) }, func() fleet.Result { return &preview.Result{} }},
	{"apply", "Carry out the newest change sheet of each site", "Carries out the newest change sheet of each site, as trimlantern apply does: a site for which HTTPS does not work yet is refused. trimlantern undo in the folder of a site takes it back.", true,
		func(ctx context.Context, j *work.Job, o fleetFlags) (fleet.Result, error) {
			return run.Apply(ctx, j, run.Options{Gate: passing(j, o.anyway)})
		}, func() fleet.Result { return &run.Applied{} }},
	{"scan", "What is insecure on the pages of each site", "Reads the pages of each site over HTTPS.", true,
		func(ctx context.Context, j *work.Job, o fleetFlags) (fleet.Result, error) {
			return scan.Run(ctx, j, o.scan)
		}, func() fleet.Result { return &findings.Scan{} }},
	{"checkup", "Check the health of each site", "Checks certificate, redirects and pages of each site. With --quiet it prints nothing when all are well, and else one text that can be mailed.", true,
		func(ctx context.Context, j *work.Job, o fleetFlags) (fleet.Result, error) {
			return checkup.Run(ctx, j, checkup.Options{Soon: o.soon, Look: o.scan})
		}, func() fleet.Result { return &checkup.Result{} }},
	{"renew", "Renew the certificates that are due", "Renews what cert obtain obtained for each site, where it is due.", true,
		func(ctx context.Context, j *work.Job, _ fleetFlags) (fleet.Result, error) {
			return cert.Renew(ctx, j, cert.ObtainOptions{})
		}, func() fleet.Result { return &cert.Obtained{} }},
}

func (a *app) fleetCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "fleet",
		Short: "Ask the same of many sites at once: one table, one report",
		Long: `Asks the same of all sites that are kept in your data folder (or --home), some at once.
One site that fails stops no other. The exit code is that of the worst site.
--format json writes one object a line, as the sites come; --report FILE.html an overview.`,
		Example: `  trimlantern fleet init /var/www
  trimlantern fleet status
  trimlantern fleet checkup --quiet
  trimlantern fleet scan --only '*.example' --report sites.html`,
		Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	c.AddCommand(a.fleetInit())
	for _, job := range fleetJobs {
		c.AddCommand(a.fleetCommandOf(job))
	}
	return c
}

func (a *app) fleetCommandOf(job fleetJob) *cobra.Command {
	var o fleetFlags
	c := &cobra.Command{
		Use:     job.name,
		Short:   job.short,
		Long:    job.long,
		Example: "  trimlantern fleet " + job.name + "\n  trimlantern fleet " + job.name + " --only 'tern*.example' --format json",
		Args:    noArgs,
		RunE:    func(c *cobra.Command, _ []string) error { return a.runFleet(c.Context(), job, o) },
	}
	if job.network {
		a.network(c)
	}
	f := c.Flags()
	f.StringArrayVar(&o.Only, "only", nil, "only sites whose address fits `PATTERN` (repeatable); * and ? are wildcards")
	number(f, &o.Parallel, "parallel", 4, 1, 64, "ask this many `SITES` at once")
	f.BoolVar(&o.Resume, "resume", false, "go on with the run that was interrupted")
	f.StringVar(&o.report, "report", "", "write an overview to this HTML `FILE` too; - is standard output")
	if job.name == "scan" || job.name == "checkup" {
		o.scan = scan.Options{Depth: 50, Parallel: 2}
		number(f, &o.scan.Pages, "pages", 10000, 1, 10000000, "read at most this many `PAGES` of a site")
		lookFlags(c, &o.scan)
	}
	if job.name == "apply" {
		f.BoolVar(&o.anyway, "anyway", false, "change sites although HTTPS does not work for them yet")
	}
	if job.name == "checkup" {
		f.Var(days{&o.soon}, "expires-within", "a certificate that ends within this `TIME` needs attention, like 14d")
	}
	return c
}

// runFleet asks all sites.
func (a *app) runFleet(ctx context.Context, job fleetJob, o fleetFlags) error {
	o.Home = a.home
	if err := a.reportTo(o.report); err != nil {
		return err
	}
	asked, err := fleet.Members(o.Options)
	if err != nil {
		return err
	}
	p := a.progress()
	n := 0
	do := func(ctx context.Context, m fleet.Member) (fleet.Result, error) {
		j, err := work.Open(m.File, a.home, silent{})
		if err != nil {
			return nil, err
		}
		j.Resolve, j.CA, j.Secrets = a.resolve, a.ca, a.secrets
		j.Guard = a.guard(j)
		a.settled(j)
		return job.do(ctx, j, o)
	}
	each := func(out fleet.Outcome) {
		n++
		p.At("last: "+out.Site, int64(n), int64(len(asked)))
	}
	if a.format == "json" {
		var mu sync.Mutex
		lines := report.Lines{W: a.out}
		if err := lines.Head("fleet "+job.name, "", ""); err != nil {
			return err
		}
		each = func(out fleet.Outcome) {
			mu.Lock()
			defer mu.Unlock()
			_ = lines.PutAny(out) // whoever reads it may have seen enough
		}
	}
	decode := func(b []byte) fleet.Result {
		r := job.empty()
		if json.Unmarshal(b, r) != nil {
			return nil
		}
		return r
	}
	f, err := fleet.Run(ctx, job.name, o.Options, do, decode, each)
	p.End()
	if err != nil {
		return err
	}
	return a.showFleet(ctx, f, o.report)
}

// showFleet shows what all sites came to.
func (a *app) showFleet(ctx context.Context, f *fleet.Fleet, file string) error {
	if file != "" {
		if err := a.writeReport(file, func(w io.Writer) error { return report.FleetHTML(w, f) }); err != nil {
			return &work.Fault{Code: work.World, What: "the overview cannot be written", Do: "name another file: --report FILE", Err: err}
		}
	}
	a.code = f.Code()
	if a.format != "json" && !(a.quiet && f.Command == "checkup" && f.Code() == work.Clean) {
		t := a.text(a.out)
		t.Fleet(f)
		if err := t.Err(); err != nil && !hungUp(err) {
			return &work.Fault{Code: work.World, What: "the result cannot be written", Do: "the work itself is done", Err: err}
		}
	}
	if ctx.Err() != nil {
		return &work.Fault{Code: work.World, What: fmt.Sprintf("interrupted; %d sites are left", f.Left), Do: "go on: trimlantern fleet " + f.Command + " --resume"}
	}
	return nil
}

// faultOf takes an error apart.
func faultOf(err error) (code int, what, do string) {
	var f *work.Fault
	if errors.As(err, &f) {
		return f.Code, f.Error(), f.Do
	}
	return work.World, err.Error(), ""
}

func (a *app) fleetInit() *cobra.Command {
	var o fleetFlags
	c := &cobra.Command{
		Use:   "init FOLDER|LIST…",
		Short: "Find the sites below folders, and write their site files",
		Long: `Looks for systems below each FOLDER, or takes the folders that a file LIST names, one
a line, and writes a site file for each. A site file that is there stays as it is.`,
		Example: `  trimlantern fleet init /var/www
  trimlantern fleet init sites.txt`,
		Args: atLeast(1, "a folder, or a file that lists folders"),
		RunE: func(c *cobra.Command, args []string) error {
			folders, err := fleet.Find(args)
			if err != nil {
				return err
			}
			f := &fleet.Fleet{Command: "init", Time: time.Now().UTC(), Outcomes: []fleet.Outcome{}}
			p := a.progress()
			for i, folder := range folders {
				p.At("looking at "+folder, int64(i), int64(len(folders)))
				out := fleet.Outcome{Site: folder, File: folder, Began: time.Now().UTC().Truncate(time.Second)}
				if known := work.SiteFileOf(folder, a.home); known != "" {
					if j, err := work.Open(known, a.home, silent{}); err == nil {
						out.Site, out.File, out.Result = j.Site.String(), known, setup.Known(j)
						f.Outcomes = append(f.Outcomes, out)
						continue
					}
				}
				r, err := setup.Init(c.Context(), setup.Options{Folder: folder, Home: a.home, Network: sitefile.Network{Resolve: a.resolve, CA: a.ca}}, silent{})
				if err != nil {
					out.Code, out.Error, out.Do = faultOf(err)
				} else {
					out.Site, out.File, out.Result = r.Site, r.Path, r
				}
				f.Outcomes = append(f.Outcomes, out)
				if c.Context().Err() != nil {
					f.Left = len(folders) - len(f.Outcomes)
					break
				}
			}
			p.End()
			if a.format == "json" {
				lines := report.Lines{W: a.out}
				if err := lines.Head("fleet init", "", ""); err != nil {
					return err
				}
				for _, out := range f.Outcomes {
					if err := lines.PutAny(out); err != nil {
						return err
					}
				}
			}
			return a.showFleet(c.Context(), f, o.report)
		},
	}
	a.network(c)
	c.Flags().StringVar(&o.report, "report", "", "write an overview to this HTML `FILE` too; - is standard output")
	return c
}
