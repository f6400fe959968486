package work

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"trimlantern/outside/disk"
)

// CacheFolder is a folder of cached files as it stands.
type CacheFolder struct {
	Path  string `json:"path"`
	Files int    `json:"files"`
	Bytes int64  `json:"bytes"`
	Safe  bool   `json:"safe"` // apply --drop-caches empties it
}

// CachePaths returns where the system description says that cached files lie.
func (j *Job) CachePaths() (out []CacheFolder) {
	root, config := j.File.Dir, j.File.Configuration()
	switch {
	case j.File.SystemFolder != "":
		root = j.File.Abs(j.File.SystemFolder)
	case config != "":
		root = filepath.Dir(config)
	}
	for _, d := range j.System.CacheFiles {
		out = append(out, CacheFolder{Path: j.System.Below(config, root, []string{d.Path})[0], Safe: d.Safe})
	}
	return out
}

// CacheFolders finds the folders of cached files that the system description names, where they
// hold anything.
func (j *Job) CacheFolders() ([]CacheFolder, error) {
	var out []CacheFolder
	for _, f := range j.CachePaths() {
		if info, err := os.Lstat(f.Path); err != nil || !info.IsDir() {
			continue // not there, or a link that leads who knows where
		}
		err := eachCached(f.Path, func(size int64) {
			f.Files++
			f.Bytes += size
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) { // it is in use, files come and go
			return nil, Failed(err, "the cached files cannot be looked at", "make "+f.Path+" readable")
		}
		if f.Files > 0 {
			out = append(out, f)
		}
	}
	return out, nil
}

// eachCached calls visit with the size of each cached file of a folder.
func eachCached(dir string, visit func(size int64)) error {
	tree, err := disk.OpenTree(dir)
	if err != nil {
		return err
	}
	defer tree.Close()
	return tree.Walk(".", func(_ string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && IsOurs(e.Name()):
			return fs.SkipDir
		case !e.Type().IsRegular():
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		visit(info.Size())
		return nil
	})
}
