//go:build real

package real

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// store is one database system, with its own programs as judges.
type store struct {
	*bench
	name   string
	engine string                  // MariaDB: of the tables
	url    string                  // for --database
	sql    func(sql string) string // runs SQL with the system's own client
	dump   func() string           // by the system's own program, its lines in order
	shapes string                  // tables of all shapes; %s is the engine
	stop   func()                  // kills the server
	start  func()                  // and starts it again
}

// stores are all systems; each test gets servers of its own.
var stores = []struct {
	name string
	make func(b *bench) *store
}{
	{"SQLite", sqliteStore},
	{"InnoDB", func(b *bench) *store { return mariaStore(b, "InnoDB") }},
	{"MyISAM", func(b *bench) *store { return mariaStore(b, "MyISAM") }},
	{"PostgreSQL", postgresStore},
}

// newBench is a private world without servers.
func newBench(t *testing.T) *bench {
	b := &bench{t: t, dir: t.TempDir()}
	b.socket, b.program = filepath.Join(b.dir, "db.sock"), built
	return b
}

// eachStore runs a test on every system.
func eachStore(t *testing.T, test func(t *testing.T, s *store)) {
	for _, s := range stores {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			test(t, s.make(newBench(t)))
		})
	}
}

func sorted(dump []byte) string {
	lines := strings.Split(string(dump), "\n")
	slices.Sort(lines)                                                 // rows that were changed move
	return strings.Join(slices.DeleteFunc(lines, func(l string) bool { // what differs from dump to dump
		return strings.HasPrefix(l, `\restrict`) || strings.HasPrefix(l, `\unrestrict`) || strings.HasPrefix(l, "SELECT pg_catalog.setval(")
	}), "\n")
}

func sqliteStore(b *bench) *store {
	file := filepath.Join(b.dir, "site.db")
	sql := func(in string) string {
		c := exec.Command("sqlite3", "-bail", file)
		c.Stdin = strings.NewReader(in)
		out, err := c.CombinedOutput()
		require.NoError(b.t, err, tail(out))
		return string(out)
	}
	return &store{bench: b, name: "SQLite", url: "sqlite:" + file, sql: sql,
		dump: func() string { return sorted([]byte(sql(".dump"))) },
		shapes: `
CREATE TABLE m_int (id INTEGER PRIMARY KEY, v TEXT, t TEXT DEFAULT '2020-01-01 00:00:00');
CREATE TABLE m_pair (a TEXT, b INT, v TEXT, PRIMARY KEY (a, b));
CREATE TABLE m_bytes (k BLOB PRIMARY KEY, v BLOB);
CREATE TABLE m_unique (k TEXT NOT NULL UNIQUE, v TEXT);
CREATE TABLE m_url (u TEXT PRIMARY KEY, v TEXT) WITHOUT ROWID;
CREATE TABLE m_slug (id INTEGER PRIMARY KEY, u TEXT UNIQUE);
CREATE VIEW m_view AS SELECT v FROM m_int;
`}
}

func mariaStore(b *bench, engine string) *store {
	s := &store{bench: b, name: engine, engine: engine, url: "mysql://root@/museum?socket=" + b.socket}
	b.startMariaDB()
	s.sql = func(in string) string {
		c := exec.Command("mariadb", "--no-defaults", "--socket="+b.socket, "-uroot", "-N", "--default-character-set=utf8mb4", "--binary-mode", "museum")
		c.Stdin = strings.NewReader(in)
		out, err := c.CombinedOutput()
		require.NoError(b.t, err, tail(out))
		return string(out)
	}
	s.dump = func() string {
		return sorted(b.run(b.dir, "mariadb-dump", "--no-defaults", "--socket="+b.socket, "-uroot", "--skip-dump-date", "--skip-extended-insert", "--hex-blob", "museum"))
	}
	s.shapes = `
CREATE TABLE m_int (id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, v LONGTEXT, t TIMESTAMP DEFAULT '2020-01-01 00:00:00' ON UPDATE CURRENT_TIMESTAMP) ENGINE=%[1]s;
CREATE TABLE m_pair (a VARCHAR(40), b INT, v TEXT, PRIMARY KEY (a, b)) ENGINE=%[1]s CHARSET utf8mb4;
CREATE TABLE m_bytes (k VARBINARY(16) PRIMARY KEY, v BLOB) ENGINE=%[1]s;
CREATE TABLE m_unique (k VARCHAR(40) NOT NULL, v TEXT, UNIQUE KEY (k)) ENGINE=%[1]s CHARSET latin1;
CREATE TABLE m_url (u VARCHAR(190) PRIMARY KEY, v TEXT) ENGINE=%[1]s;
CREATE TABLE m_slug (id INT PRIMARY KEY, u VARCHAR(190) UNIQUE) ENGINE=%[1]s;
CREATE TABLE m_keyless (v TEXT) ENGINE=%[1]s;
CREATE TABLE m_short (id INT PRIMARY KEY, v VARCHAR(30), d DATETIME, g VARCHAR(60) AS (CONCAT(v, '!'))) ENGINE=%[1]s;
CREATE TABLE m_json (id INT PRIMARY KEY, j JSON, b BIT(3), e ENUM('http://ternrock.example')) ENGINE=%[1]s;
CREATE VIEW m_view AS SELECT v FROM m_int;
SET sql_mode = '';
INSERT INTO m_keyless VALUES ('http://ternrock.example/'), ('nothing');
INSERT INTO m_short (id, v, d) VALUES (1, 'http://ternrock.example/123456', '0000-00-00'), (2, 'http://ternrock.example/1', '0000-00-00'), (3, NULL, NULL);
INSERT INTO m_json VALUES (1, '{"u":"http:\\/\\/ternrock.example\\/"}', 5, 1);
`
	pidFile := filepath.Join(b.dir, "db.pid")
	s.stop = func() {
		pid, err := os.ReadFile(pidFile)
		require.NoError(b.t, err)
		b.run(b.dir, "kill", "-KILL", strings.TrimSpace(string(pid)))
		require.NoError(b.t, os.Remove(pidFile))
	}
	s.start = func() { b.launchMariaDB() }
	return s
}

func postgresStore(b *bench) *store {
	bins, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	require.NoError(b.t, err)
	require.NotEmpty(b.t, bins, "PostgreSQL's programs")
	bin := bins[len(bins)-1]
	// The server refuses to run as root: it gets a folder and a user of its own.
	var as *syscall.SysProcAttr
	data := filepath.Join(b.dir, "pg")
	require.NoError(b.t, os.Mkdir(data, 0o700))
	if os.Getuid() == 0 {
		for d := b.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
			require.NoError(b.t, os.Chmod(d, 0o755))
		}
		require.NoError(b.t, os.Chown(data, 65534, 65534))
		as = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	pg := func(in, name string, args ...string) []byte {
		b.t.Helper()
		c := exec.Command(filepath.Join(bin, name), args...)
		c.SysProcAttr, c.Dir, c.Stdin = as, data, strings.NewReader(in)
		var out, errs bytes.Buffer
		c.Stdout, c.Stderr = &out, &errs
		require.NoError(b.t, c.Run(), "%s %v\n%s", name, args, tail(errs.Bytes()))
		return out.Bytes()
	}
	flags, port := "-c listen_addresses=''", "5432"
	start := func() {
		pg("", "pg_ctl", "-D", data+"/d", "-w", "-l", data+"/log", "-o", flags+" -c unix_socket_permissions=0777 -k "+data, "start")
	}
	pg("", "initdb", "-D", data+"/d", "-U", "keeper", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	if b.postgresFlags != nil {
		flags, port = b.postgresFlags(data), b.postgresPort
	}
	require.NoError(b.t, os.Chmod(data, 0o755))
	start()
	b.t.Cleanup(func() {
		c := exec.Command(filepath.Join(bin, "pg_ctl"), "-D", data+"/d", "-m", "immediate", "stop")
		c.SysProcAttr, c.Dir = as, data
		_ = c.Run() // a test may have stopped it
	})
	psql := func(database, in string) string {
		return string(pg(in, "psql", "-h", data, "-p", port, "-U", "keeper", "-d", database, "-v", "ON_ERROR_STOP=1", "-qAt"))
	}
	psql("postgres", "CREATE DATABASE museum;")
	return &store{bench: b, name: "PostgreSQL", url: "postgres://keeper@/museum?socket=" + data,
		sql:   func(in string) string { return psql("museum", in) },
		dump:  func() string { return sorted(pg("", "pg_dump", "-h", data, "-p", port, "-U", "keeper", "museum")) },
		start: start, stop: func() { pg("", "pg_ctl", "-D", data+"/d", "-m", "immediate", "stop") },
		shapes: `
CREATE TABLE m_int (id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY, v TEXT, t TIMESTAMP DEFAULT '2020-01-01 00:00:00');
CREATE TABLE m_pair (a VARCHAR(40), b INT, v TEXT, PRIMARY KEY (a, b));
CREATE TABLE m_bytes (k BYTEA PRIMARY KEY, v BYTEA);
CREATE TABLE m_unique (k CHARACTER VARYING(40) NOT NULL UNIQUE, v TEXT);
CREATE TABLE m_url (u TEXT PRIMARY KEY, v TEXT);
CREATE TABLE m_slug (id INT PRIMARY KEY, u TEXT UNIQUE);
CREATE TABLE m_keyless (v TEXT);
CREATE TABLE m_short (id INT PRIMARY KEY, v VARCHAR(30), g TEXT GENERATED ALWAYS AS (v || '!') STORED);
CREATE DOMAIN address AS TEXT CHECK (VALUE LIKE 'http%%');
CREATE TABLE m_json (id UUID PRIMARY KEY, j JSON, jb JSONB, l TEXT[], x XML, a ADDRESS, c CHAR(40));
CREATE TABLE m_parts (id INT, v TEXT, PRIMARY KEY (id)) PARTITION BY RANGE (id);
CREATE TABLE m_parts_1 PARTITION OF m_parts FOR VALUES FROM (0) TO (10);
CREATE TABLE m_child (n INT PRIMARY KEY) INHERITS (m_keyless);
CREATE VIEW m_view AS SELECT v FROM m_int;
INSERT INTO m_keyless VALUES ('http://ternrock.example/'), ('nothing');
INSERT INTO m_short (id, v) VALUES (1, 'http://ternrock.example/123456'), (2, 'http://ternrock.example/1'), (3, NULL);
INSERT INTO m_json VALUES ('c0ffee00-0000-4000-8000-000000000001', '{"u":"http:\/\/ternrock.example\/"}', '{"http://ternrock.example/k": 1, "aaaaaaaaaaaaaaaaaaaaaaaaaaa": ["http://ternrock.example/v"]}',
	ARRAY['http://ternrock.example/"l"'], '<a href="http://ternrock.example/"/>', 'http://ternrock.example/a', 'http://ternrock.example/c');
INSERT INTO m_parts VALUES (3, 'http://ternrock.example/part');
INSERT INTO m_child VALUES ('http://ternrock.example/child', 1);
`}
}

// fill makes the tables of all shapes, with n rows of the first.
func (s *store) fill(n int) {
	var script strings.Builder
	if s.engine != "" {
		fmt.Fprintf(&script, s.shapes, s.engine)
	} else {
		script.WriteString(strings.ReplaceAll(s.shapes, "%%", "%"))
	}
	script.WriteString("BEGIN;\n")
	hex := func(b string) string {
		return map[string]string{"PostgreSQL": fmt.Sprintf(`'\x%x'`, b), "SQLite": fmt.Sprintf("x'%x'", b)}[s.name]
	}
	for i := range n {
		v := fmt.Sprintf(`a:1:{s:3:"url";s:%d:"http://ternrock.example/%d";}`, 24+len(fmt.Sprint(i)), i)
		fmt.Fprintf(&script, "INSERT INTO m_int (v) VALUES ('%s');\n", v)
		if i%4 > 0 {
			continue
		}
		fmt.Fprintf(&script, "INSERT INTO m_pair VALUES ('k%d''ä', %d, 'http://www.ternrock.example/%d');\n", i%7, i, i)
		key, value := fmt.Sprintf("%08x\xff\x00", i)[4:], "x\x00http://ternrock.example/"
		if s.engine != "" {
			fmt.Fprintf(&script, "INSERT INTO m_bytes VALUES (0x%x, 0x%x);\n", key, value)
		} else {
			fmt.Fprintf(&script, "INSERT INTO m_bytes VALUES (%s, %s);\n", hex(key), hex(value))
		}
		fmt.Fprintf(&script, "INSERT INTO m_unique VALUES ('ü%d', 'é http://ternrock.example/');\n", i)
		fmt.Fprintf(&script, "INSERT INTO m_url VALUES ('http://ternrock.example/u%d', 'to http://ternrock.example/%d');\n", i, i)
		fmt.Fprintf(&script, "INSERT INTO m_slug VALUES (%d, 'http://ternrock.example/s%d');\n", i, i)
		if i%40 == 0 { // its secure form is there already; and two that become one
			fmt.Fprintf(&script, "INSERT INTO m_slug VALUES (%d, 'https://ternrock.example/s%d');\n", i+1, i)
			fmt.Fprintf(&script, "INSERT INTO m_slug VALUES (%d, 'http://ternrock.example/t%d'), (%d, 'http://ternrock.example:80/t%d');\n", i+2, i, i+3, i)
		}
	}
	script.WriteString("COMMIT;\n")
	s.sql(script.String())
}

// wipe removes all tables again.
func (s *store) wipe() {
	switch s.name {
	case "SQLite":
		for _, table := range strings.Fields("int pair bytes unique url slug") {
			s.sql("DROP TABLE m_" + table + ";")
		}
		s.sql("DROP VIEW m_view;")
	case "PostgreSQL":
		s.sql("DROP VIEW m_view; DROP TABLE m_int, m_pair, m_bytes, m_unique, m_url, m_slug, m_keyless, m_short, m_json, m_parts, m_child; DROP DOMAIN address;")
	default:
		s.sql("DROP DATABASE museum; CREATE DATABASE museum CHARACTER SET utf8mb4;")
	}
}

// cells is how many cells of n rows of fill are to be changed.
func (s *store) cells(n int) int {
	quarter, fortieth := (n+3)/4, (n+39)/40
	cells := n + 6*quarter - fortieth + fortieth // two of m_url; of m_slug one is taken, and one of two more
	return cells + map[string]int{"SQLite": 0, "InnoDB": 2, "MyISAM": 2, "PostgreSQL": 2 + 1 + 1 + 5 - 1}[s.name]
}

// preview makes a sheet and returns its counts.
func (s *store) preview(args ...string) (p struct {
	Sheet      string
	Cells      int
	References int
	Left       map[string]int
	Tables     []struct {
		Table      string
		Cells      int
		References int
	}
}) {
	s.t.Helper()
	out := s.tool(0, append([]string{"preview", "--offline", "--format", "json"}, args...)...)
	require.NoError(s.t, json.Unmarshal([]byte(out), &p))
	return p
}

func (s *store) init() {
	s.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, "--database", s.url, "--prefix", "m_")
}

// try runs the program and returns what it came to.
func (b *bench) try(args ...string) (code int, out string) {
	c := exec.Command(b.program, args...)
	c.Env = b.environment()
	c.Dir = b.dir
	said, _ := c.CombinedOutput() // its exit code is looked at
	return c.ProcessState.ExitCode(), string(said)
}

// killedAfter runs the program and kills it after a time. It returns how the run
// ended, or -1 where it was killed.
func (b *bench) killedAfter(d time.Duration, args ...string) (code int, said string) {
	c := exec.Command(b.program, args...)
	c.Env = b.environment()
	c.Dir = b.dir
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	require.NoError(b.t, c.Start())
	kill := time.AfterFunc(d, func() { _ = c.Process.Signal(syscall.SIGKILL) }) // too late: it has ended
	defer kill.Stop()
	_ = c.Wait() // its state is looked at
	if !c.ProcessState.Exited() {
		return -1, ""
	}
	return c.ProcessState.ExitCode(), out.String()
}
