// Package fleet asks the same question of many sites at once: side by side, with bounds, and so that one site that
// fails stops no other.
package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"trimlantern/outside/disk"
	"trimlantern/outside/sitefile"
	"trimlantern/work"
	"trimlantern/work/setup"
)

// Result is what a job comes to.
type Result interface{ Code() int }

// Outcome is what one site came to.
type Outcome struct {
	Site   string    `json:"site"`            // its address, or the name of its folder where the site file cannot be read
	File   string    `json:"file"`            // its site file; of fleet init the folder where none was made
	Code   int       `json:"code"`            // as of the command on this site alone
	Error  string    `json:"error,omitempty"` // why the command did not do its work
	Do     string    `json:"do,omitempty"`    // what to do about it
	Began  time.Time `json:"began"`
	Took   float64   `json:"seconds"`
	Result Result    `json:"result,omitempty"`
}

// Fleet is what all sites came to.
type Fleet struct {
	Command  string    `json:"command"`
	Time     time.Time `json:"time"`
	Outcomes []Outcome `json:"outcomes"` // in order of site
	Resumed  int       `json:"resumed"`  // sites of which an interrupted run had the outcome already
	Left     int       `json:"left"`     // sites that an interruption left out
}

// Code is the exit code: that of the worst site; but 2, which says that nothing was changed, only if it is that of all.
func (f *Fleet) Code() int {
	worst := 0
	if f.Left > 0 {
		worst = work.World
	}
	misuse := 0
	for _, o := range f.Outcomes {
		if o.Code == work.Misuse {
			misuse++
		}
		worst = max(worst, o.Code)
	}
	if worst == work.Misuse && misuse < len(f.Outcomes) { // at the other sites something may have been changed
		return work.Remain
	}
	return worst
}

// Options bound a run.
type Options struct {
	Home     string   // where the sites are kept
	Only     []string // patterns of addresses; none: all sites
	Parallel int      // sites at once
	Resume   bool     // go on with the run that was interrupted
}

// Member is one site.
type Member struct{ Host, File string }

// Members lists the sites that are kept in a home, in order of address.
func Members(o Options) ([]Member, error) {
	home, err := sitefile.Home(o.Home)
	if err != nil {
		return nil, &work.Fault{Code: work.World, What: "cannot determine the folder where sites are kept", Do: "name it: --home FOLDER", Err: err}
	}
	all, err := sitefile.AllInHome(home)
	if err != nil {
		return nil, &work.Fault{Code: work.Misuse, What: "the sites in " + home + " cannot be listed", Do: "name another folder: --home FOLDER", Err: err}
	}
	var members []Member
	for _, file := range all {
		m := Member{Host: filepath.Base(filepath.Dir(file)), File: file}
		fits := len(o.Only) == 0
		for _, p := range o.Only {
			ok, err := path.Match(p, m.Host)
			if err != nil {
				return nil, &work.Fault{Code: work.Misuse, What: "--only " + p + " cannot be read", Do: "write an address; * and ? are wildcards"}
			}
			fits = fits || ok
		}
		if fits {
			members = append(members, m)
		}
	}
	if len(members) == 0 {
		return nil, &work.Fault{Code: work.Misuse, What: "there is no such site in " + home, Do: "find the sites of this machine first: trimlantern fleet init FOLDER"}
	}
	return members, nil
}

// state is what a run keeps, so that it can go on.
type state struct {
	Command string            `json:"command"`
	Done    map[string]record `json:"done"` // by site file
}

type record struct {
	Outcome Outcome         `json:"outcome"`
	Result  json.RawMessage `json:"result,omitempty"`
}

// Run has do done for each site, some at once, and hands each outcome to each as it comes. decode reads back the result
// of an interrupted run.
func Run(ctx context.Context, command string, o Options, do func(ctx context.Context, m Member) (Result, error), decode func([]byte) Result, each func(Outcome)) (*Fleet, error) {
	members, err := Members(o)
	if err != nil {
		return nil, err
	}
	file := filepath.Join(filepath.Dir(filepath.Dir(members[0].File)), "fleet-"+command+".json")
	kept := state{Command: command, Done: map[string]record{}}
	if o.Resume {
		if b, err := disk.ReadTrusted(file, 256<<20); err == nil {
			if json.Unmarshal(b, &kept) != nil || kept.Done == nil {
				kept = state{Command: command, Done: map[string]record{}} // it is begun anew
			}
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, &work.Fault{Code: work.Misuse, What: "what the interrupted run kept cannot be read", Do: "run it without --resume", Err: err}
		}
	}
	f := &Fleet{Command: command, Time: time.Now().UTC(), Outcomes: []Outcome{}}
	var mu sync.Mutex
	take := func(out Outcome, result json.RawMessage) error {
		mu.Lock()
		defer mu.Unlock()
		f.Outcomes = append(f.Outcomes, out)
		each(out)
		out.Result = nil
		kept.Done[out.File] = record{out, result}
		b, err := json.Marshal(kept)
		if err == nil {
			err = write(file, b)
		}
		if err != nil {
			return &work.Fault{Code: work.World, What: "the run cannot be recorded", Do: "make " + filepath.Dir(file) + " writable, with room on the disk", Err: err}
		}
		return nil
	}
	var waiting []Member
	for _, m := range members { // before anybody else writes there
		had, ok := kept.Done[m.File]
		if !ok {
			waiting = append(waiting, m)
			continue
		}
		out := had.Outcome
		if len(had.Result) > 0 {
			out.Result = decode(had.Result)
		}
		f.Resumed++
		f.Outcomes = append(f.Outcomes, out)
		each(out)
	}
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(max(1, o.Parallel))
	for _, m := range waiting {
		group.Go(func() error {
			if gctx.Err() != nil {
				return nil
			}
			out := one(gctx, m, do)
			if gctx.Err() != nil {
				return nil // interrupted in the middle: it is done again
			}
			var result json.RawMessage
			if out.Result != nil {
				result, _ = json.Marshal(out.Result) // what cannot be kept is asked again
			}
			return take(out, result)
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	f.Left = len(members) - len(f.Outcomes)
	slices.SortFunc(f.Outcomes, func(a, b Outcome) int { return strings.Compare(a.Site, b.Site) })
	if f.Left == 0 {
		_ = os.Remove(file) // there is nothing to go on with
	}
	return f, nil
}

// one does the command for one site. Whatever it does, it stops no other.
func one(ctx context.Context, m Member, do func(ctx context.Context, m Member) (Result, error)) (out Outcome) {
	out = Outcome{Site: m.Host, File: m.File, Began: time.Now().UTC().Truncate(time.Second)}
	began := time.Now()
	defer func() {
		if r := recover(); r != nil {
			out.Code, out.Error, out.Do = work.World, fmt.Sprint("a fault of this program: ", r), "report it, with the output of the command on this site alone"
		}
		out.Took = time.Since(began).Round(100 * time.Millisecond).Seconds()
	}()
	result, err := do(ctx, m)
	if err != nil {
		var f *work.Fault
		if out.Code, out.Error = work.World, err.Error(); errors.As(err, &f) {
			out.Code, out.Error, out.Do = f.Code, f.Error(), f.Do
		}
		return out
	}
	out.Code, out.Result = result.Code(), result
	return out
}

// write replaces a file, whole or not at all.
func write(file string, b []byte) error {
	p, err := disk.Create(file, 0o600)
	if err != nil {
		return err
	}
	defer p.Discard()
	if _, err := p.Write(b); err != nil {
		return err
	}
	return p.Commit()
}

// Find lists the folders below some others that look like a site of their own: web roots by their names and by what
// lies in them. A file is a list of folders, one a line.
func Find(paths []string) ([]string, error) {
	var all []string
	for _, p := range paths {
		info, err := os.Stat(p)
		if err != nil {
			return nil, &work.Fault{Code: work.Misuse, What: "there is no " + p, Do: "name a folder with web roots below it, or a file that lists them"}
		}
		if !info.IsDir() {
			b, err := disk.Read(p, 1<<20)
			if err != nil {
				return nil, &work.Fault{Code: work.Misuse, What: p + " cannot be read", Do: "write one folder a line", Err: err}
			}
			for line := range strings.Lines(string(b)) {
				if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
					all = append(all, line)
				}
			}
			continue
		}
		found, err := setup.SitesBelow(p)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	slices.Sort(all)
	all = slices.Compact(all)
	if len(all) == 0 {
		return nil, &work.Fault{Code: work.Misuse, What: "no site was found below " + strings.Join(paths, ", "), Do: "name the folder that holds the web roots, or a file that lists them; or each alone: trimlantern init FOLDER"}
	}
	return all, nil
}
