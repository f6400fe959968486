package preview

import (
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/outside/files"
	"trimlantern/work"
)

// maxLines is how many changed lines a preview shows, over all files.
const maxLines = 400

// Files looks through the code that writes pages, as through a table.
func (s *Survey) Files() error {
	if s.Out.Kind == Lengths {
		return nil // files hold no serialized values
	}
	var err error
	if s.Out.Folders, err = s.job.CacheFolders(); err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, dir := range s.job.File.Files {
		s.job.Progress.At("reading files in "+dir, 0, 0)
		skipped, err := files.Walk(s.job.File.Abs(dir), s.job.System.Kinds, func(name string, info fs.FileInfo, b []byte) error {
			if seen[name] || !rewrite.MayHold(b) {
				return nil
			}
			seen[name] = true // one folder may be named that lies in another
			return s.file(name, info, b)
		})
		s.Out.Skipped = append(s.Out.Skipped, s.job.Named(skipped)...)
		var f *work.Fault
		switch {
		case errors.As(err, &f):
			return f
		case errors.Is(err, fs.ErrNotExist):
			return work.BadUse(nil, "the folder "+dir+" named under files in the site file is not there", "fix files in the site file")
		case err != nil:
			return work.Failed(err, "reading files in "+dir, "check the folder, then run the same command again")
		}
	}
	return nil
}

// file decides over one file.
func (s *Survey) file(name string, info fs.FileInfo, b []byte) error {
	rel := s.job.Relative(name)
	var found []rewrite.Finding
	before := s.rules.Rewritten
	s.rules.Rewritten = func(f rewrite.Finding) {
		if found = append(found, f); before != nil {
			before(f)
		}
	}
	rules := s.rules
	if s.decided != nil {
		rules = s.decided.file(rel)
	}
	res := rules.File(rel, b)
	s.rules.Rewritten = before
	whole := s.keepFile(name, rel, info, b)
	left := res.Left
	if whole != "" {
		for _, f := range found {
			f.Reason = whole
			left = append(left, f)
		}
		slices.SortStableFunc(left, func(a, b rewrite.Finding) int { return a.Offset - b.Offset })
	}
	for _, f := range left {
		if err := s.left(change.Left{Reason: f.Reason, File: rel, Line: files.Line(b, f.Offset), Host: f.Host, URL: f.URL, Count: 1}); err != nil {
			return err
		}
	}
	if whole != "" || len(res.Edits) == 0 {
		return nil
	}
	after, err := rewrite.Apply(b, res.Edits)
	if err != nil {
		return err
	}
	for _, h := range res.Hosts {
		s.Out.Hosts[h.Host] += h.Count
	}
	s.Out.FileRefs += res.References
	s.Out.Files = append(s.Out.Files, FileChange{Path: rel, References: res.References, Lines: s.lines(b, after, res.Edits)})
	if s.sheet == nil {
		return nil
	}
	err = s.sheet.Source(change.Source{Path: rel, Before: change.Hash(b), After: change.Hash(after), Size: len(b), Edits: change.Edits(res.Edits), References: res.References, Hosts: res.Hosts})
	if err != nil {
		return work.Failed(err, "the change sheet cannot be written", "free some disk space")
	}
	return nil
}

// keepFile says why a file stays as it is, or "".
func (s *Survey) keepFile(name, rel string, info fs.FileInfo, b []byte) rewrite.Reason {
	for _, p := range s.choice.ExceptFiles() {
		for _, n := range []string{rel, path.Base(rel)} {
			if ok, err := path.Match(p, n); p == "*" || ok && err == nil {
				return rewrite.NotChosen
			}
		}
	}
	if slices.ContainsFunc(s.Out.Folders, func(f work.CacheFolder) bool { return strings.HasPrefix(name, f.Path+string(filepath.Separator)) }) {
		return rewrite.Cached
	}
	if files.Generated(rel, b) {
		return rewrite.Generated
	}
	if info.Mode()&0o222 == 0 {
		return rewrite.ReadOnly
	}
	return ""
}

// lines returns the changed lines, each once, as far as there is room for them.
func (s *Survey) lines(before, after []byte, edits []rewrite.Edit) (out []LineChange) {
	grown, last := 0, 0
	for _, e := range edits {
		if s.samples["lines"] >= maxLines {
			return out
		}
		if n := files.Line(before, e.Offset); n != last {
			last = n
			s.samples["lines"]++
			out = append(out, LineChange{n, files.Text(before, e.Offset), files.Text(after, e.Offset+grown)})
		}
		grown += len(e.Inserted) - len(e.Removed)
	}
	return out
}
