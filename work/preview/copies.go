package preview

import (
	"errors"
	"io/fs"
	"path/filepath"

	"trimlantern/core/change"
	"trimlantern/work"
)

// MaxCopy bounds a file that is a copy.
const MaxCopy = 32 << 20

// copies adds the copies to the sheet that are not in their place.
func (s *Survey) copies() error {
	j := s.job
	if s.Out.Kind == Lengths {
		return nil
	}
	in := j.DeclaredFiles()
	defer in.Close()
	for _, r := range j.File.Replaced {
		if r.Copy == "" {
			continue
		}
		file := filepath.Join(j.File.Abs(j.File.Copies.Folder), filepath.FromSlash(r.File))
		if r.File == "" || !filepath.IsLocal(filepath.FromSlash(r.File)) || in.Copies == "" {
			return work.BadUse(nil, "replaced in the site file: "+r.From+" has a copy without a file below copies.folder", "take it back and adopt it again: trimlantern decide forget "+r.From)
		}
		tree, name, err := in.Of(file)
		if err != nil {
			return work.Failed(err, "the folder for copies cannot be opened", "make "+in.CopiesRoot+" readable")
		}
		now, _, err := tree.Read(name, MaxCopy)
		switch {
		case err == nil && change.Hash(now) == r.Copy:
			continue // in place
		case err == nil:
			return work.BadUse(nil, "the file "+j.Relative(file)+" already exists, and is not the copy of "+r.From, "move it away, or choose another folder: trimlantern decide adopt --into FOLDER")
		case !errors.Is(err, fs.ErrNotExist):
			return work.BadUse(err, "the file "+j.Relative(file)+" cannot be read: "+work.WhyNot(err), "move it away")
		}
		b, err := j.Book.Copy(r.Copy)
		if err != nil || b == nil {
			return work.BadUse(err, "the logbook no longer holds the copy of "+r.From, "fetch it again: trimlantern decide forget "+r.From+"; trimlantern decide adopt "+r.From)
		}
		s.Out.Copies = append(s.Out.Copies, change.Copy{Path: j.Relative(file), From: r.From, URL: r.To, Hash: r.Copy, Size: len(b)})
		if s.sheet == nil {
			continue
		}
		if err := s.sheet.Copy(s.Out.Copies[len(s.Out.Copies)-1]); err != nil {
			return work.Failed(err, "the change sheet cannot be written", "free some disk space")
		}
	}
	return nil
}
