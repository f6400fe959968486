//go:build real

package real

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A backup of each database system is read back, and brings back what was lost, by the system's own client.
func TestBackupRestores(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		s.fill(400)
		s.init()
		before := s.dump()
		var made struct {
			File, Archive string
			Tables        int
			Rows          int
			Differs, Left []any
			Without       []string
		}
		require.NoError(t, json.Unmarshal([]byte(s.tool(0, "backup", "--quiet", "--format", "json")), &made))
		assert.Empty(t, made.Differs)
		assert.Greater(t, made.Tables, 5)
		assert.Greater(t, made.Rows, 700)
		s.sql("DROP VIEW m_view; DROP TABLE m_int; DELETE FROM m_url;")
		require.NotEqual(t, before, s.dump())
		info, err := os.Stat(made.File)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		switch s.name {
		case "SQLite":
			s.run(s.dir, "cp", made.File, filepath.Join(s.dir, "site.db"))
		case "PostgreSQL":
			s.sql("DROP TABLE m_pair, m_bytes, m_unique, m_url, m_slug, m_short, m_json, m_parts, m_child, m_keyless CASCADE; DROP DOMAIN address;")
			s.sql(unpacked(t, made.File))
		default:
			s.sql(unpacked(t, made.File))
		}
		assert.Equal(t, before, s.dump())
		secrets, err := filepath.Glob(filepath.Join(filepath.Dir(made.File), "secret-*"))
		require.NoError(t, err)
		assert.Empty(t, secrets)
	})
}

func unpacked(t *testing.T, file string) string {
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	z, err := zstd.NewReader(nil)
	require.NoError(t, err)
	defer z.Close()
	b, err = z.DecodeAll(b, nil)
	require.NoError(t, err)
	return string(b)
}

// The system on MariaDB, with a user whose password is odd and who may not dump everything; and its files.
func TestBackupOfSystem(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.startMariaDB()
	password := `o'd"d\ #;=[x] ` + "`$(x)"
	run := func(in string) {
		c := exec.Command("mariadb", "--no-defaults", "--socket="+b.socket, "-uroot", "--default-character-set=utf8mb4", "museum", "-e", in)
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	run("CREATE TABLE tr_options (option_id INT PRIMARY KEY, option_name VARCHAR(191), option_value LONGTEXT) CHARSET utf8mb4; INSERT INTO tr_options VALUES (1, 'home', 'http://ternrock.example'), (2, 'x', 'é😀');")
	run("CREATE USER 'warden'@'localhost' IDENTIFIED BY 'o''d\"d\\\\ #;=[x] `$(x)'; GRANT SELECT, LOCK TABLES, SHOW VIEW ON museum.* TO 'warden'@'localhost';")
	files := filepath.Join(b.dir, "theme")
	require.NoError(t, os.MkdirAll(filepath.Join(files, "img"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(files, "style.css"), []byte("a{}"), 0o640))
	require.NoError(t, os.WriteFile(filepath.Join(files, "img", "lens.svg"), make([]byte, 3<<20), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "pw"), []byte(password), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "trimlantern.yaml"), []byte("site: https://ternrock.example\nsystem: generic\ndatabase: {kind: mysql, socket: "+b.socket+", user: warden, password-file: pw, name: museum, prefix: tr_}\nfiles: [theme]\n"), 0o600))
	var made struct {
		File, Archive string
		Rows, Files   int
		Without, Left []string
	}
	require.NoError(t, json.Unmarshal([]byte(b.tool(0, "backup", "--quiet", "--format", "json")), &made))
	assert.Equal(t, 2, made.Rows)
	assert.Equal(t, 2, made.Files)
	assert.Equal(t, []string{"procedures: the database user may not dump them", "events: the database user may not dump them"}, made.Without)
	out := filepath.Join(b.dir, "restored")
	require.NoError(t, os.Mkdir(out, 0o755))
	b.run(b.dir, "tar", "--zstd", "-xpf", made.Archive, "-C", out)
	info, err := os.Stat(filepath.Join(out, files, "style.css"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())

	// A dump program that loses rows, or whose output is cut off: that is no backup.
	own, err := exec.LookPath("mariadb-dump")
	require.NoError(t, err)
	fake := filepath.Join(b.dir, "bin")
	require.NoError(t, os.Mkdir(fake, 0o755))
	faking := func(through string) (int, string) {
		require.NoError(t, os.WriteFile(filepath.Join(fake, "mariadb-dump"), []byte("#!/bin/bash\nset -o pipefail\n"+own+" \"$@\" | "+through+"\n"), 0o755))
		c := exec.Command(b.program, "backup", "--quiet")
		c.Dir, c.Env = b.dir, append(b.environment(), "PATH="+fake+":"+os.Getenv("PATH"))
		said, _ := c.CombinedOutput() // its exit code is looked at
		return c.ProcessState.ExitCode(), string(said)
	}
	code, said := faking("sed '/^(1,/d'")
	assert.Equal(t, 1, code, said)
	assert.Contains(t, said, "do not have as many rows in the backup")
	assert.NotContains(t, said, "Read back:")
	code, said = faking("head -n -3")
	assert.Equal(t, 3, code, said)
	assert.Contains(t, said, "its end is missing")
	code, said = faking("false")
	assert.Equal(t, 3, code, said)

	// What cannot be in it is named.
	require.NoError(t, os.Symlink("style.css", filepath.Join(files, "link.css")))
	require.NoError(t, json.Unmarshal([]byte(b.tool(1, "backup", "--quiet", "--format", "json")), &made))
	require.Len(t, made.Left, 1)
	assert.Contains(t, made.Left[0], "link.css")
}
