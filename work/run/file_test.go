package run

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/change"
	"trimlantern/outside/disk"
	"trimlantern/outside/sitefile"
	"trimlantern/work"
)

// A file goes its way once, in either direction; at each step something can stop it, and it is as before then.
func TestFileTask(t *testing.T) {
	errStop := errors.New("no room")
	for name, c := range map[string]struct {
		there    string // "": no file
		from, to string // "": no file
		journal  func(file string) error
		fate     change.Fate
		at       fileStep
		fails    error
		is       string // afterwards
	}{
		"changed":                        {there: "a", from: "a", to: "b", is: "b"},
		"made":                           {from: "", to: "b", is: "b"},
		"removed":                        {there: "a", from: "a", is: ""},
		"done already":                   {there: "b", from: "a", to: "b", fate: change.Done, is: "b"},
		"gone already":                   {from: "a", fate: change.Done, is: ""},
		"somebody's":                     {there: "c", from: "a", to: "b", fate: change.Other, is: "c"},
		"somebody removed it":            {from: "a", to: "b", fate: change.Other, is: ""},
		"somebody's where none was":      {there: "c", from: "", to: "b", fate: change.Other, is: "c"},
		"the journal cannot be written":  {there: "a", from: "a", to: "b", journal: func(string) error { return errStop }, fate: change.Other, at: journallingFile, fails: errStop, is: "a"},
		"edited while it is journalled":  {there: "a", from: "a", to: "b", journal: func(f string) error { return os.WriteFile(f, []byte("c"), 0o600) }, fate: change.Other, is: "c"},
		"removed while it is journalled": {there: "a", from: "a", to: "b", journal: os.Remove, fate: change.Other, is: ""},
		"a link by now": {there: "a", from: "a", to: "b", journal: func(f string) error {
			return errors.Join(os.Rename(f, f+".x"), os.Symlink(f+".x", f))
		}, fate: change.Other, is: "a"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			file := filepath.Join(dir, "theme", "style.css")
			require.NoError(t, os.Mkdir(filepath.Dir(file), 0o700))
			if c.there != "" {
				require.NoError(t, os.WriteFile(file, []byte(c.there), 0o640))
			}
			j := work.Job{File: &sitefile.File{Path: filepath.Join(dir, "trimlantern.yaml"), Dir: dir, Files: []string{"theme"}}}
			in := j.DeclaredFiles()
			defer in.Close()
			state := func(s string) change.State {
				if s == "" {
					return change.Gone
				}
				return change.Holds([]byte(s))
			}
			task := fileTask{path: file, from: state(c.from), to: state(c.to), most: 1 << 20,
				content: func([]byte) ([]byte, error) { return []byte(c.to), nil },
				looks:   func(fs.FileInfo) disk.Looks { return disk.Looks{Mode: 0o640} }}
			if c.journal != nil {
				task.ahead = func(now []byte, _ fs.FileInfo) error {
					assert.Equal(t, c.there, string(now))
					return c.journal(file)
				}
			}
			fate, _, fault := task.carryOut(in)
			assert.Equal(t, c.fate, fate)
			if c.fails == nil {
				assert.Nil(t, fault)
			} else if assert.NotNil(t, fault) {
				assert.Equal(t, c.at, fault.at)
				assert.ErrorIs(t, fault.err, c.fails)
			}
			b, err := os.ReadFile(file)
			if c.is == "" {
				assert.ErrorIs(t, err, fs.ErrNotExist)
			}
			assert.Equal(t, c.is, string(b))
		})
	}
}
