package run

import (
	"errors"
	"io/fs"
	"slices"

	"trimlantern/outside/disk"
	"trimlantern/work"
)

// keptIn names the folder, in a folder of cached files, to which a journal's run moves them.
func keptIn(journal string) string { return work.StartsOurs + journal }

// setAside moves all that a folder holds into a new folder in it, which no web server may serve.
func setAside(dir, kept string) error {
	tree, err := disk.OpenTree(dir)
	if err != nil {
		return err
	}
	defer tree.Close()
	entries, err := tree.List(".")
	if err != nil {
		return err
	}
	if err := tree.Mkdir(kept, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := tree.Write(kept+"/.htaccess", []byte("Require all denied\n"), disk.Looks{Mode: 0o600}); err != nil {
		return err
	}
	for _, e := range entries {
		if work.IsOurs(e.Name()) {
			continue
		}
		if err := tree.Rename(e.Name(), kept+"/"+keptName(e.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// keptName is what an entry is called while it is set aside: the .htaccess there is ours.
func keptName(name string) string {
	if name == ".htaccess" {
		return name + ".kept"
	}
	return name
}

// nameBefore undoes keptName.
func nameBefore(kept string) string {
	if kept == ".htaccess.kept" {
		return ".htaccess"
	}
	return kept
}

// bringBack undoes setAside. done is false where nothing is set aside any more; filled says
// that the folder holds new files, and nothing was done.
func bringBack(dir, kept string) (done, filled bool, err error) {
	tree, err := disk.OpenTree(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return false, false, nil
	}
	if err != nil {
		return false, false, err
	}
	defer tree.Close()
	set, err := tree.List(kept)
	if errors.Is(err, fs.ErrNotExist) {
		return false, false, nil
	}
	if err != nil {
		return false, false, err
	}
	now, err := tree.List(".")
	if err != nil {
		return false, false, err
	}
	began, err := tree.Lstat(kept + "/.htaccess")
	if errors.Is(err, fs.ErrNotExist) && len(set) == 0 { // a run was killed before it moved anything, or when all was back
		return false, false, tree.Remove(kept)
	}
	if err != nil {
		return false, false, err
	}
	for _, e := range now {
		// What is older was not set aside yet when the run ended, or is brought back already.
		if info, err := tree.Lstat(e.Name()); !work.IsOurs(e.Name()) && err == nil && info.ModTime().After(began.ModTime()) {
			return false, true, nil
		}
	}
	set = slices.DeleteFunc(set, func(e fs.DirEntry) bool { return e.Name() == ".htaccess" }) // ours
	for _, e := range set {
		name := nameBefore(e.Name())
		if err := tree.Rename(kept+"/"+e.Name(), name); err != nil {
			return false, false, err
		}
	}
	if err := tree.Remove(kept + "/.htaccess"); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, false, err
	}
	return true, false, tree.Remove(kept)
}
