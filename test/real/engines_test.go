//go:build real

package real

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Tables and servers that are not as most are: everything is put back or named, and the words fit.
func TestOddKeysAndEngines(t *testing.T) {
	t.Parallel()
	s := mariaStore(newBench(t), "InnoDB")
	s.sql(`
CREATE TABLE m_zparent (u VARCHAR(120) PRIMARY KEY, v TEXT) ENGINE=InnoDB;
CREATE TABLE m_child (id INT PRIMARY KEY, u VARCHAR(120), FOREIGN KEY (u) REFERENCES m_zparent (u) ON UPDATE CASCADE) ENGINE=InnoDB;
CREATE TABLE m_zzchild (id INT PRIMARY KEY, u VARCHAR(120), FOREIGN KEY (u) REFERENCES m_zparent (u) ON UPDATE CASCADE) ENGINE=InnoDB;
INSERT INTO m_zparent VALUES ('http://ternrock.example/a', 'x'), ('http://ternrock.example/b', 'http://ternrock.example/');
INSERT INTO m_child VALUES (1, 'http://ternrock.example/a'), (2, 'http://ternrock.example/b'), (3, NULL);
INSERT INTO m_zzchild VALUES (1, 'http://ternrock.example/a'), (2, 'http://ternrock.example/b');
CREATE TABLE m_aria (id INT PRIMARY KEY, v TEXT) ENGINE=Aria;
CREATE TABLE m_log (n INT);
CREATE TRIGGER m_seen BEFORE UPDATE ON m_aria FOR EACH ROW INSERT INTO m_log VALUES (NEW.id);
INSERT INTO m_aria VALUES (1, 'http://ternrock.example/'), (2, 'http://ternrock.example/2');
CREATE TABLE m_float (k FLOAT PRIMARY KEY, v TEXT);
INSERT INTO m_float VALUES (0.1, 'http://ternrock.example/f'), (1e10, 'http://ternrock.example/g');
CREATE TABLE m_bit (k BIT(12) PRIMARY KEY, v TEXT);
INSERT INTO m_bit VALUES (5, 'http://ternrock.example/h'), (300, 'http://ternrock.example/i');
CREATE TABLE m_double (k DOUBLE PRIMARY KEY, v TEXT);
INSERT INTO m_double VALUES (0.1, 'http://ternrock.example/f'), (1e300, 'http://ternrock.example/g'), (1/3, 'http://ternrock.example/h');
`)
	values := func() string {
		return s.sql("SELECT * FROM m_zparent; SELECT * FROM m_child; SELECT * FROM m_zzchild; SELECT * FROM m_aria; SELECT k + 0, v FROM m_float; SELECT k + 0, v FROM m_bit; SELECT * FROM m_double;")
	}
	before := values()
	s.init()
	p := s.preview()
	assert.Equal(t, 4, p.Left["no-key"], "keys that do not find their row again are named: %v", p.Left)
	assert.Equal(t, 12, p.Cells)
	code, said := s.try("apply", "--offline")
	require.Contains(t, []int{0, 1}, code, said)
	assert.NotContains(t, said, "the row is gone")
	assert.NotContains(t, said, "refused")
	after := values()
	assert.Equal(t, 4, strings.Count(after, "http://ternrock.example/"), "what has no key stays: %s", after)
	code, said = s.try("undo")
	assert.Equal(t, 0, code, said)
	assert.Equal(t, before, values(), said)
	assert.NotContains(t, said, "refused")
}

func TestReadOnlyServer(t *testing.T) {
	t.Parallel()
	eachStore(t, func(t *testing.T, s *store) {
		if s.name != "InnoDB" && s.name != "PostgreSQL" {
			t.Log("nothing to do: this one has no such setting")
			return
		}
		s.fill(40)
		s.init()
		s.preview()
		before := s.dump()
		if s.name == "InnoDB" {
			s.sql("CREATE USER writer@localhost; GRANT ALL ON museum.* TO writer@localhost; SET GLOBAL read_only = 1;") // root may write all the same
			s.editSiteFile("user: root", "user: writer")
		} else {
			s.sql("ALTER DATABASE museum SET default_transaction_read_only = on;")
		}
		code, said := s.try("apply", "--offline")
		assert.Equal(t, 3, code, said)
		assert.Contains(t, said, "the server takes no changes: it is read-only")
		assert.Contains(t, said, "name the server that takes changes")
		sameDump(t, before, s.dump())
	})
}

// editSiteFile changes the site file.
func (b *bench) editSiteFile(from, to string) {
	path := filepath.Join(b.dir, "trimlantern.yaml")
	text, err := os.ReadFile(path)
	require.NoError(b.t, err)
	require.Contains(b.t, string(text), from)
	require.NoError(b.t, os.WriteFile(path, []byte(strings.ReplaceAll(string(text), from, to)), 0o600))
}
