package guide

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"trimlantern/outside/disk"
	"trimlantern/work"
	"trimlantern/work/backup"
	"trimlantern/work/run"
)

// unfinished returns the sheet of a run that was interrupted; "" where there is none.
func unfinished(j *work.Job) (string, error) {
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

// changedSinceBackup reports whether the site was changed since the last backup, as far as the logbook knows, or the
// backup is more than a day old.
func changedSinceBackup(j *work.Job) (bool, error) {
	last, err := backup.Last(j)
	if err != nil || last == nil {
		return true, err
	}
	changed, err := j.LastChange()
	return changed.After(last.Time) || j.Now().Sub(last.Time) > backupFresh || last.Code() != work.Clean, err
}

// backupFresh is how old a backup may be before another one is worth its time.
const backupFresh = 24 * time.Hour

// ruleFiles is where redirects may be put.
type ruleFiles struct {
	Server string            // the one that answers, where it says so: "apache" or "nginx"
	Of     map[string]string // the likeliest file for each kind of rules; none: nobody can tell
}

// findRuleFiles looks which server answers, and which file its rules would go into.
func findRuleFiles(ctx context.Context, j *work.Job) ruleFiles {
	f := ruleFiles{Of: map[string]string{}}
	if client, err := j.Web(); err == nil {
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
	root := j.WebRoot()
	if root != "" {
		if _, err := os.Stat(filepath.Join(root, ".htaccess")); err == nil || f.Server == "apache" {
			f.Of["apache"] = relativeToHere(j, filepath.Join(root, ".htaccess"))
		}
		if _, err := os.Stat(filepath.Join(root, "index.php")); err == nil {
			f.Of["php"] = relativeToHere(j, filepath.Join(root, "index.php"))
		}
	}
	for _, pattern := range []string{"/etc/nginx/sites-enabled/*", "/etc/nginx/conf.d/*.conf"} {
		all, _ := filepath.Glob(pattern) // the pattern is one
		for _, file := range all {
			b, err := disk.Read(file, run.MaxRuleFile)
			if err == nil && strings.Contains(string(b), "server_name") && strings.Contains(string(b), j.Site.Host) {
				f.Of["nginx"] = file
			}
		}
	}
	return f
}

// relativeToHere shortens a path where it lies below the current folder.
func relativeToHere(j *work.Job, path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if rel, err := filepath.Rel(here, path); err == nil && filepath.IsLocal(rel) {
		return rel
	}
	return path
}
