package sitefile

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"trimlantern/outside/disk"
)

// HomeVariable is the environment variable that names the home.
const HomeVariable = "TRIMLANTERN_HOME"

// Home returns the folder in which each site has a folder of its own: the one given, or what
// TRIMLANTERN_HOME says, or trimlantern in the user's data folder (XDG Base Directory
// Specification: $XDG_DATA_HOME, or ~/.local/share). No web server serves it.
func Home(given string) (string, error) {
	if given == "" {
		given = os.Getenv(HomeVariable)
	}
	if given != "" {
		return filepath.Abs(given)
	}
	if data := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(data) {
		return filepath.Join(data, "trimlantern"), nil
	}
	user, err := os.UserHomeDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(user, ".local", "share", "trimlantern"), nil
}

// InHome returns where the site file of a site lies in a home. site is its address:
// https://HOST, perhaps with a port and a path.
func InHome(home, site string) string {
	name := strings.NewReplacer("/", "_", ":", "_").Replace(strings.Trim(strings.TrimPrefix(site, "https://"), "/"))
	return filepath.Join(home, name, Name)
}

// AllInHome returns the site files in a home, in order of name. A home that is not there holds none;
// one that others can write is refused with a *disk.Untrusted.
func AllInHome(home string) ([]string, error) {
	err := disk.TrustedFolder(home)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(home)
	var all []string
	for _, e := range entries {
		path := filepath.Join(home, e.Name(), Name)
		if _, err := os.Lstat(path); err == nil {
			all = append(all, path)
		}
	}
	return all, err
}

// webMarks are files that stand in a folder which a web server serves.
var webMarks = []string{".htaccess", ".user.ini", "index.php", "index.html", "index.htm", "web.config", "wp-config.php"}

// webNames are what such folders are commonly called.
var webNames = map[string]bool{"public_html": true, "htdocs": true, "wwwroot": true}

// InWebRoot reports whether a folder looks as if a web server hands out what is in it, and why:
// a folder that does so may be the one given, or above it.
func InWebRoot(dir string) (why string, yes bool) {
	for at := dir; ; at = filepath.Dir(at) {
		if webNames[strings.ToLower(filepath.Base(at))] {
			return "a folder called " + filepath.Base(at), true
		}
		for _, mark := range webMarks {
			if _, err := os.Lstat(filepath.Join(at, mark)); err == nil {
				return mark + " in " + at, true
			}
		}
		if filepath.Dir(at) == at {
			return "", false
		}
	}
}
