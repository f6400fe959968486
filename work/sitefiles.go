package work

import (
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"trimlantern/outside/disk"
	"trimlantern/outside/files"
)

// SiteFiles are the folders in which a run may change files, each opened when it is first needed.
type SiteFiles struct {
	Folders []string // absolute
	Single  []string // files outside of them, absolute
	open    map[string]*disk.Tree

	Copies     string // the folder of copies of other hosts' things, absolute; "": none
	CopiesRoot string // at or above it, and there
}

// DeclaredFiles are the folders under files in the site file.
func (j *Job) DeclaredFiles() *SiteFiles {
	s := &SiteFiles{open: map[string]*disk.Tree{}}
	for _, dir := range j.File.Files {
		s.Folders = append(s.Folders, filepath.Clean(j.File.Abs(dir)))
	}
	if s.CopiesRoot = j.copiesRoot(); s.CopiesRoot != "" {
		s.Copies = filepath.Clean(j.File.Abs(j.File.Copies.Folder))
	}
	return s
}

// ErrUndeclared says that a file lies in none of the folders.
var ErrUndeclared = errors.New("in none of the folders that the site file names")

// Of returns the folder that holds a file, and the file's name in it. It fails with
// errUndeclared where none does.
func (s *SiteFiles) Of(file string) (*disk.Tree, string, error) {
	folders := s.Folders
	if slices.Contains(s.Single, file) {
		folders = append(slices.Clone(folders), filepath.Dir(file))
	}
	if _, ok := disk.Inside(s.Copies, file); ok && s.Copies != "" {
		folders = append([]string{s.CopiesRoot}, folders...)
	}
	for _, dir := range folders {
		name, ok := disk.Inside(dir, file)
		if !ok {
			continue
		}
		if t := s.open[dir]; t != nil {
			return t, name, nil
		}
		t, err := disk.OpenTree(dir)
		if err != nil {
			return nil, "", err
		}
		s.open[dir] = t
		return t, name, nil
	}
	return nil, "", ErrUndeclared
}

// Close lets go of the folders.
func (s *SiteFiles) Close() {
	for _, t := range s.open {
		t.Close()
	}
}

// Untrusted says in a user's words that a file or folder was refused, or returns nil.
func Untrusted(err error) error {
	var u *disk.Untrusted
	if !errors.As(err, &u) {
		return nil
	}
	return BadUse(nil, u.Error()+": it is not used", u.Do)
}

// WhyNot says in few words why a file of the site cannot be read or replaced.
func WhyNot(err error) string {
	switch {
	case errors.Is(err, disk.ErrLink):
		return "it is a symbolic link, or reached through one"
	case errors.Is(err, disk.ErrNotRegular):
		return "it is not a regular file"
	case errors.Is(err, disk.ErrTooLarge):
		return "it is too large"
	case errors.Is(err, disk.ErrOwner):
		return "its owner or group cannot be kept: run the command as the file's owner, or as root"
	}
	return "the file cannot be read"
}

// StartsOurs begins the names of files and folders that runs leave in the site's folders.
const StartsOurs = ".trimlantern-"

// IsOurs reports whether a file or folder in the site's folders was left there by a run.
func IsOurs(name string) bool { return strings.HasPrefix(name, StartsOurs) }

// WebRoot returns the folder that holds the site's system, which a web server serves; "" where nobody can tell.
func (j *Job) WebRoot() string {
	switch f := j.File; {
	case f.SystemFolder != "":
		return f.Abs(f.SystemFolder)
	case f.Configuration() != "":
		return filepath.Dir(f.Configuration())
	default:
		return f.Folder
	}
}

// copiesRoot returns the nearest folder above that of the copies that is there: undo removes theirs too.
func (j *Job) copiesRoot() string {
	if j.File.Copies.Folder == "" {
		return ""
	}
	for dir := filepath.Dir(filepath.Clean(j.File.Abs(j.File.Copies.Folder))); ; dir = filepath.Dir(dir) {
		if err := FolderThere(dir); err == nil || !errors.Is(err, fs.ErrNotExist) || dir == filepath.Dir(dir) {
			return dir
		}
	}
}

// FolderThere says why a folder cannot be opened; nil where it can.
func FolderThere(dir string) error {
	tree, err := disk.OpenTree(dir)
	if err == nil {
		tree.Close()
	}
	return err
}

// Prune removes the folders of a copy that was removed, where nothing else is in them.
func (s *SiteFiles) Prune(tree *disk.Tree, file, name string) {
	for {
		file, name = filepath.Dir(file), path.Dir(name)
		_, below := disk.Inside(s.Copies, file)
		if s.Copies == "" || name == "." || !below && file != s.Copies || tree.Remove(name) != nil {
			return
		}
	}
}

// Named names files that were not read as a sheet does.
func (j *Job) Named(list []files.Skipped) []files.Skipped {
	for i := range list {
		list[i].Path = j.Relative(list[i].Path)
	}
	return list
}

// Relative returns how a sheet names a file.
func (j *Job) Relative(name string) string {
	rel, err := filepath.Rel(j.File.Dir, name)
	if err != nil {
		rel = name
	}
	return filepath.ToSlash(rel)
}
