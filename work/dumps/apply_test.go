package dumps

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/work"
	"trimlantern/work/preview"
)

// damaging is a progress that does something to the new dump before it is read again.
type damaging struct {
	dir string
	do  func(name string) error
	t   *testing.T
}

func (d *damaging) At(what string, _, _ int64) {
	if what != "checking" || d.do == nil {
		return
	}
	written, err := filepath.Glob(filepath.Join(d.dir, ".trimlantern-*.part"))
	require.NoError(d.t, err)
	require.Len(d.t, written, 1)
	require.NoError(d.t, d.do(written[0]))
	d.do = nil
}

func (d *damaging) End() {}

const museum = `-- MariaDB dump
CREATE TABLE ` + "`pages` (`id` int NOT NULL, `body` text, PRIMARY KEY (`id`)" + `) DEFAULT CHARSET=utf8mb4;
INSERT INTO pages VALUES (1,'<img src="http://ternrock.example/lamp.png">'),(2,'the tower'),(3,'a:1:{i:0;s:24:"http://ternrock.example/";}');
`

// A new dump that is damaged between writing and reading never gets its name: what had it stays.
func TestDamagedDump(t *testing.T) {
	edit := func(from, to string) func(string) error {
		return func(name string) error {
			b, err := os.ReadFile(name)
			require.NoError(t, err)
			require.Contains(t, string(b), from)
			return os.WriteFile(name, bytes.Replace(b, []byte(from), []byte(to), 1), 0o600)
		}
	}
	for what, do := range map[string]func(string) error{
		"nothing":                  nil,
		"a changed cell":           edit("https://ternrock.example/lamp", "httpz://ternrock.example/lamp"),
		"a letter of another cell": edit("the tower", "the power"),
		"what is no cell":          edit("-- MariaDB", "-- mariaDB"),
		"its end":                  func(name string) error { return os.Truncate(name, 300) },
		"all of it":                func(name string) error { return os.Truncate(name, 0) },
		"more behind it":           edit("}');", "}'); "),
		"gone":                     os.Remove,
	} {
		t.Run(what, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "museum.sql"), []byte(museum), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "trimlantern.yaml"), []byte("site: https://ternrock.example\ndatabase: {kind: dump, file: museum.sql}\n"), 0o600))
			j, err := work.Open(filepath.Join(dir, "trimlantern.yaml"), "", &damaging{dir: dir, do: do, t: t})
			require.NoError(t, err)
			j.Now, j.Offline = time.Now, true
			_, err = preview.Run(context.Background(), j)
			require.NoError(t, err)
			out := filepath.Join(dir, "new.sql")
			require.NoError(t, os.WriteFile(out, []byte("as before"), 0o640))
			applied, err := Apply(context.Background(), j, ApplyOptions{Write: out})
			is, readErr := os.ReadFile(out)
			require.NoError(t, readErr)
			left, _ := filepath.Glob(filepath.Join(dir, "*.part"))
			assert.Empty(t, left)
			if do == nil {
				require.NoError(t, err)
				assert.Equal(t, 2, applied.Proven)
				assert.Contains(t, string(is), `s:25:"https://ternrock.example/"`)
				return
			}
			var fault *work.Fault
			require.ErrorAs(t, err, &fault)
			assert.Equal(t, work.World, fault.Code)
			assert.Contains(t, fault.What, "is not as it was written")
			assert.Equal(t, "as before", string(is))
		})
	}
}
