package work

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"trimlantern/outside/disk"
)

// Key names an item from one work list to the next.
func (i Item) Key() string { return i.key }

// Name is what decisions know an item by.
func (i Item) Name() string {
	if i.URL != "" && i.Finding == insecureAddress {
		return i.URL
	}
	return strconv.Itoa(i.Number)
}

// Unfinished returns the sheet of a run that was interrupted; "" where there is none.
func (j *Job) Unfinished() (string, error) {
	runs, err := j.Runs()
	if err != nil {
		return "", err
	}
	for _, r := range runs {
		if r.Mark == "" {
			return r.Header.Sheet, nil
		}
	}
	return "", nil
}

// SinceBackup reports whether the site was changed since the last backup, as far as the logbook knows, or the
// backup is more than a day old.
func (j *Job) SinceBackup() (bool, error) {
	last, err := j.LastBackup()
	if err != nil || last == nil {
		return true, err
	}
	changed, err := j.LastChange()
	return changed.After(last.Time) || j.Now().Sub(last.Time) > backupFresh || last.Code() != Clean, err
}

// backupFresh is how old a backup may be before another one is worth its time.
const backupFresh = 24 * time.Hour

// RuleFiles is where redirects may be put.
type RuleFiles struct {
	Server string            // the one that answers, where it says so: "apache" or "nginx"
	Of     map[string]string // the likeliest file for each kind of rules; none: nobody can tell
}

// RuleFiles looks which server answers, and which file its rules would go into.
func (j *Job) RuleFiles(ctx context.Context) RuleFiles {
	f := RuleFiles{Of: map[string]string{}}
	if client, err := j.web(); err == nil {
		for _, scheme := range []string{"https://", "http://"} {
			res, _, err := client.Step(ctx, http.MethodGet, scheme+strings.TrimPrefix(j.Site.String(), "https://")+"/")
			if err != nil {
				continue
			}
			name := strings.ToLower(res.Header.Get("Server"))
			for _, known := range []string{"apache", "nginx"} {
				if strings.Contains(name, known) {
					f.Server = known
				}
			}
			break
		}
	}
	root := j.webRoot()
	if root != "" {
		if _, err := os.Stat(filepath.Join(root, ".htaccess")); err == nil || f.Server == "apache" {
			f.Of["apache"] = j.relativeToHere(filepath.Join(root, ".htaccess"))
		}
		if _, err := os.Stat(filepath.Join(root, "index.php")); err == nil {
			f.Of["php"] = j.relativeToHere(filepath.Join(root, "index.php"))
		}
	}
	for _, pattern := range []string{"/etc/nginx/sites-enabled/*", "/etc/nginx/conf.d/*.conf"} {
		all, _ := filepath.Glob(pattern) // the pattern is one
		for _, file := range all {
			b, err := disk.Read(file, maxRuleFile)
			if err == nil && strings.Contains(string(b), "server_name") && strings.Contains(string(b), j.Site.Host) {
				f.Of["nginx"] = file
			}
		}
	}
	return f
}

// relativeToHere shortens a path where it lies below the current folder.
func (j *Job) relativeToHere(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if rel, err := filepath.Rel(here, path); err == nil && filepath.IsLocal(rel) {
		return rel
	}
	return path
}
