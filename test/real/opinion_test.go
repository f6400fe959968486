//go:build real

package real

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// PHP is asked about every serialized value that would change; what it would not load afterwards is
// left and named, in its place, and all else is changed.
func TestSecondOpinion(t *testing.T) {
	t.Parallel()
	s := sqliteStore(newBench(t))
	var script strings.Builder
	script.WriteString("CREATE TABLE m_meta (id INTEGER PRIMARY KEY, v TEXT); BEGIN;\n")
	const rows = 3000
	for i := range rows {
		url := fmt.Sprintf("http://ternrock.example/%d", i)
		v := fmt.Sprintf(`a:1:{s:3:"url";s:%d:"%s";}`, len(url), url)
		switch i % 5 {
		case 1:
			v = url // is not asked about
		case 2:
			v = fmt.Sprintf(`O:5:"Lamps":1:{s:3:"url";s:%d:"%s";}`, len(url), url) // of a class that is not there
		}
		fmt.Fprintf(&script, "INSERT INTO m_meta VALUES (%d, '%s');\n", i+1, v)
	}
	script.WriteString("COMMIT;\n")
	s.sql(script.String())
	s.init()
	type opinion struct {
		Version                 string
		Values, Loaded, Refused int
		Unjudged                int
		Why                     string
	}
	preview := func(args ...string) (p struct {
		Cells   int
		Left    map[string]int
		Opinion opinion
	}) {
		out := s.tool(0, append([]string{"preview", "--offline", "--format", "json"}, args...)...)
		require.NoError(t, json.Unmarshal([]byte(out), &p))
		return p
	}
	p := preview()
	assert.Equal(t, rows, p.Cells)
	version := p.Opinion.Version
	assert.NotEmpty(t, version)
	assert.Equal(t, opinion{Version: version, Values: rows / 5 * 4, Loaded: rows / 5 * 4}, p.Opinion)
	p = preview("--judge", "none")
	assert.Equal(t, opinion{Unjudged: rows / 5 * 4, Why: "turned off with --judge none"}, p.Opinion)
	assert.Equal(t, rows, p.Cells)

	// A judge who does not like some of them, and one who goes in the middle.
	stand := func(name, sed string) string {
		path := filepath.Join(s.dir, name)
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\nscript=$(printf '%s' \"$5\" | sed '"+sed+"')\nexec php \"$1\" \"$2\" \"$3\" \"$4\" \"$script\"\n"), 0o755))
		for d := s.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
			require.NoError(t, os.Chmod(d, 0o755))
		}
		return path
	}
	// "…/7": 7, 17, 27 and so on, which are serialized or not.
	critic := stand("critic", `s!loads(.b) ? 2!(strpos($b, "7" . chr(34)) === false \&\& loads($b)) ? 2!`)
	p = preview("--judge", critic)
	want := 0
	for i := range rows {
		if i%5 != 1 && i%10 == 7 {
			want++
		}
	}
	assert.Equal(t, map[string]int{"unloadable": want}, p.Left)
	assert.Equal(t, want, p.Opinion.Refused)
	assert.Equal(t, rows-want, p.Cells)
	s.tool(0, "apply", "--offline")
	assert.Equal(t, fmt.Sprint(want), strings.TrimSpace(s.sql("SELECT COUNT(*) FROM m_meta WHERE v LIKE '%http://%'")))
	s.tool(0, "undo")
	leaver := stand("leaver", `s!loads(.b) ? 2!(strpos($b, "/1234" . chr(34)) === false ? loads($b) : exit(1)) ? 2!`)
	p = preview("--judge", leaver)
	assert.Equal(t, rows, p.Cells)
	assert.Equal(t, "PHP ended in the middle", p.Opinion.Why)
	assert.Positive(t, p.Opinion.Unjudged)
	assert.Equal(t, rows/5*4, p.Opinion.Unjudged+p.Opinion.Values)
	assert.Contains(t, s.tool(0, "preview", "--offline", "--judge", leaver), "not tried with PHP: PHP ended in the middle")
	code, said := s.try("preview", "--offline", "--judge", "/nowhere/php")
	assert.Equal(t, 2, code)
	assert.Contains(t, said, "no PHP is installed at /nowhere/php")
}
