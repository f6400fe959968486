package work

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/hops"
	"trimlantern/site/probe"
)

// RedirectTest is what a visitor meets who types any of the site's addresses.
type RedirectTest struct {
	Site     string        `json:"site"`
	Time     time.Time     `json:"time"`
	Journeys []JourneySeen `json:"journeys"`
	Do       []string      `json:"do"` // what to do, the gravest first
}

// JourneySeen is one journey and what is wrong with it.
type JourneySeen struct {
	hops.Journey
	Landing  string         `json:"landing"`
	Problems []hops.Problem `json:"problems"`
}

// Code is the exit code that the test comes to.
func (r *RedirectTest) Code() int {
	if slices.ContainsFunc(r.Journeys, func(j JourneySeen) bool { return len(j.Problems) > 0 }) {
		return Remain
	}
	return Clean
}

const redirectsFile = "redirects.json"

// TestRedirects goes the way of each address of the matrix, and of those given.
func (j *Job) TestRedirects(ctx context.Context, more []string) (*RedirectTest, error) {
	defer j.Progress.End()
	matrix := hops.Matrix(j.Site.Hosts(), j.Site.Path)
	for _, u := range more {
		if !strings.HasPrefix(u, "http://") && !strings.HasPrefix(u, "https://") {
			return nil, misuse(nil, "the address "+u+" has no scheme", "write it as a visitor's browser would: http://"+u)
		}
		matrix = append(matrix, hops.Journey{Typed: u, Method: "GET"})
	}
	out := &RedirectTest{Site: j.Site.String(), Time: j.Now()}
	for i, journey := range matrix {
		if ctx.Err() != nil {
			return nil, world(nil, "interrupted", "run the same command again")
		}
		j.Progress.At("asking "+journey.Typed, int64(i), int64(len(matrix)))
		if err := j.travel(ctx, &journey); err != nil {
			return nil, err
		}
		out.Journeys = append(out.Journeys, JourneySeen{journey, journey.Landing(), journey.Judge(j.Site.Host, j.Site.Also)})
	}
	for _, p := range hops.Order {
		if slices.ContainsFunc(out.Journeys, func(s JourneySeen) bool { return slices.Contains(s.Problems, p) }) {
			out.Do = append(out.Do, p.Do())
		}
	}
	if j.Book != nil {
		if err := j.Book.WriteJSON(redirectsFile, out); err != nil {
			return nil, world(err, "the result cannot be kept in the logbook", "make the folder of the site file writable")
		}
	}
	return out, nil
}

// maxTravel is after how many hops a visitor's browser gives up.
const maxTravel = 20

// travel follows a journey hop by hop as a browser does: 301, 302 and 303 turn what
// was sent into a question (RFC 9110 §15.4).
func (j *Job) travel(ctx context.Context, journey *hops.Journey) error {
	client, err := j.web()
	if err != nil {
		return err
	}
	method, at := journey.Method, journey.Typed
	seen := map[string]bool{}
	for range maxTravel {
		res, location, err := client.Step(ctx, method, at)
		if err != nil {
			journey.Err = probe.Failure(err)
			if len(journey.Hops) == 0 {
				return nil
			}
			journey.Hops = append(journey.Hops, hops.Hop{URL: at, Method: method})
			return nil
		}
		journey.Hops = append(journey.Hops, hops.Hop{URL: at, Method: method, Status: res.StatusCode, Location: location})
		if location == "" {
			return nil
		}
		if seen[method+at] {
			return nil
		}
		seen[method+at] = true
		if method == "POST" && res.StatusCode <= 303 {
			method = "GET"
		}
		at = location
	}
	return nil
}

// Rules are the rules for a server, as text.
type Rules struct {
	Server string `json:"server"`
	Text   string `json:"text"`
	Note   string `json:"note,omitempty"`
}

// Code is the exit code that it comes to.
func (*Rules) Code() int { return Clean }

// Rules of HSTS: browsers remember it, so it begins short.
const (
	shortHSTS = 300
	longHSTS  = 31536000
)

// RedirectRules writes the rules for a server. hsts asks for HSTS: it is long only
// where the last scan in the logbook is clean.
func (j *Job) RedirectRules(r hops.Rule, hsts bool) (*Rules, error) {
	r.Host = j.Site.Host
	out := &Rules{Server: r.Server}
	if hsts {
		r.HSTS = shortHSTS
		out.Note = "Browsers remember HSTS and there is no way back while they do: five minutes for a start. It grows to a year once a scan in the logbook is clean."
		if j.Book != nil {
			scan, err := j.lastScan()
			if err != nil {
				return nil, err
			}
			if scan != nil && scan.Code() == Clean {
				r.HSTS = longHSTS
				out.Note = "The last scan is clean, so browsers are told to remember for a year. Names below the site's are left out: with includeSubDomains each of them would need HTTPS too."
			}
		}
	}
	text, err := r.Text()
	if err != nil {
		return nil, misuse(err, "the rules cannot be written", "see trimlantern redirect show --help")
	}
	out.Text = text
	return out, nil
}

// RedirectFile is what became of a file with rules.
type RedirectFile struct {
	File    string `json:"file"`
	Changed bool   `json:"changed"`
	Kept    string `json:"kept,omitempty"`   // where the file of before lies
	Others  []int  `json:"others,omitempty"` // lines that redirect to HTTPS besides ours
}

// Code is the exit code that it comes to.
func (r *RedirectFile) Code() int {
	if len(r.Others) > 0 {
		return Remain
	}
	return Clean
}

// InstallRules puts the rules into a file, or with remove takes them out. The file
// of before is kept in the logbook; mode and owner stay.
func (j *Job) InstallRules(r hops.Rule, file string, remove bool) (*RedirectFile, error) {
	r.Host = j.Site.Host
	release, err := j.Book.Lock()
	if err != nil {
		return nil, lockFault(err)
	}
	defer release()
	before, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) && (remove || r.Server == "php") {
		return nil, misuse(nil, "there is no file "+file, "name the file that the server reads")
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, world(err, "the file cannot be read", "make it readable")
	}
	out := &RedirectFile{File: file}
	var after string
	if remove {
		after, _, err = hops.Remove(string(before))
	} else {
		after, err = r.Install(string(before))
	}
	if err != nil {
		return nil, misuse(err, file, "nothing was changed; trimlantern redirect show prints the rules")
	}
	out.Others = hops.Others(after)
	if after == string(before) {
		return out, nil
	}
	id := j.runID()
	out.Kept = filepath.Join(j.Book.Path(), id+".before-"+strings.TrimLeft(filepath.Base(file), "."))
	if err := os.WriteFile(out.Kept, before, 0o600); err != nil {
		return nil, world(err, "the file of before cannot be kept in the logbook", "make room; the file was not changed")
	}
	if err := replaceFile(file, []byte(after)); err != nil {
		return nil, world(err, "the file cannot be written", "make its folder writable; it was not changed")
	}
	out.Changed = true
	return out, nil
}

// replaceFile writes a file beside the old one and renames it, with its mode; a file
// that becomes empty goes.
func replaceFile(file string, b []byte) error {
	mode := fs.FileMode(0o644)
	if info, err := os.Stat(file); err == nil {
		mode = info.Mode().Perm()
	}
	if to, err := filepath.EvalSymlinks(file); err == nil {
		file = to // the link stays a link
	}
	if len(b) == 0 {
		return os.Remove(file)
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".trimlantern-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // renamed already where all went well
	_, err = f.Write(b)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err != nil {
		return err
	}
	keepOwner(file, f.Name())
	return os.Rename(f.Name(), file)
}
