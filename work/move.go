package work

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"trimlantern/outside/disk"
	"trimlantern/outside/logbook"
	"trimlantern/outside/sitefile"
)

// Moved is what Move did.
type Moved struct {
	From string `json:"from"` // the site file
	Path string `json:"path"` // where it is now, with the logbook beside it
}

// Code is the exit code that it comes to.
func (*Moved) Code() int { return Clean }

// Move moves a site file with its logbook into the site's folder in home. path is as in Open.
func Move(path, home string) (*Moved, error) {
	j, err := Open(path, home, nil)
	if err != nil {
		return nil, err
	}
	if home, err = sitefile.Home(home); err != nil {
		return nil, Failed(err, "cannot determine your data folder", "name one: --home FOLDER")
	}
	out := &Moved{From: j.File.Path, Path: sitefile.InHome(home, j.Site.String())}
	if _, err := os.Lstat(out.Path); err == nil {
		return nil, BadUse(nil, out.Path+" already exists", "move one of the two away")
	}
	release, err := j.Book.Lock("move")
	if err != nil {
		return nil, LockFault(err)
	}
	defer release()
	err = disk.PrivateFolder(filepath.Dir(out.Path))
	if refused := Untrusted(err); refused != nil {
		return nil, refused
	}
	if err == nil {
		err = copyFolder(j.Book.Path(), logbook.FolderOf(out.Path))
	}
	if err == nil {
		f := *j.File
		f.Folder = f.Dir
		err = f.Write(out.Path)
		if err == nil {
			err = logbook.Open(out.Path).KeepSiteFile(f.Text())
		}
	}
	if err != nil {
		return nil, Failed(err, "the site file cannot be moved", "free some disk space and make the folder "+filepath.Dir(out.Path)+" writable; the old site file is still in use")
	}
	// The new one counts from here on; what cannot be removed is said.
	if err := errors.Join(os.Remove(j.File.Path), os.RemoveAll(j.Book.Path())); err != nil {
		return nil, Failed(err, "everything was copied to "+filepath.Dir(out.Path)+", but the old files cannot be removed", "remove "+j.File.Path+" and "+j.Book.Path()+" by hand")
	}
	return out, nil
}

// copyFolder copies the files of a logbook. What is no regular file is none of it.
func copyFolder(from, to string) error {
	if err := disk.PrivateFolder(to); err != nil {
		return err
	}
	entries, err := os.ReadDir(from)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !e.Type().IsRegular() || e.Name() == "lock" {
			continue
		}
		if err := copyFile(filepath.Join(from, e.Name()), filepath.Join(to, e.Name())); err != nil {
			return err
		}
	}
	return nil
}

func copyFile(from, to string) error {
	in, err := disk.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := disk.Create(to, 0o600)
	if err != nil {
		return err
	}
	defer out.Discard()
	if _, err := io.Copy(out, in); err != nil {
		return err
	}
	return out.Commit()
}

// Exposed says why a web server could hand out the site file and the logbook, or returns "".
func (j *Job) Exposed() string {
	if j.File.Path == "" {
		return ""
	}
	why, _ := sitefile.InWebRoot(filepath.Dir(j.File.Path))
	return why
}

// PrivatePlace refuses to keep a private key where a web server could hand it out.
func (j *Job) PrivatePlace(folder string) error {
	dir, err := filepath.Abs(folder)
	if err != nil {
		return Failed(err, "cannot determine the current folder", "change to a folder that exists")
	}
	if why, yes := sitefile.InWebRoot(dir); yes {
		safe := "another folder"
		if j.File.Path != "" {
			safe = filepath.Dir(j.File.Path)
		}
		return BadUse(nil, fmt.Sprintf("%s is served by a web server (%s), which could hand out the private key", dir, why), "name a folder that no web server serves: "+safe)
	}
	return nil
}
