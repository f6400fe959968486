//go:build real

package real

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two at once: the second says who holds the lock, also from another logbook.
func TestTwoAtOnce(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		s.fill(2000)
		s.init()
		require.NoError(t, os.Mkdir(filepath.Join(s.dir, "other"), 0o755))
		s.tool(0, "init", "--config", "other/trimlantern.yaml", "--site", "https://"+host, "--database", s.url, "--prefix", "m_")
		s.preview("--config", "other/trimlantern.yaml")
		p := s.preview()
		c := exec.Command(s.program, "apply", "--offline", "--rate", "2500")
		c.Dir = s.dir
		require.NoError(t, c.Start())
		time.Sleep(500 * time.Millisecond)
		code, said := s.try("apply", "--offline")
		assert.Equal(t, 3, code, said)
		assert.Contains(t, said, fmt.Sprintf("another run is at work on this site: trimlantern apply, process %d, since ", c.Process.Pid))
		code, said = s.try("apply", "--offline", "--config", "other/trimlantern.yaml")
		assert.Equal(t, 3, code, said)
		assert.Contains(t, said, "another run holds the lock on this database")
		_ = c.Wait() // its exit code is looked at
		assert.Equal(t, 0, c.ProcessState.ExitCode())
		assert.Contains(t, s.tool(1, "status"), strings.TrimSpace(fmt.Sprintf("%d cells changed, 0 skipped", p.Cells)))
	})
}

// The connection is protected as the site file says, and a user who may only read
// can preview.
func TestAccess(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"InnoDB", "PostgreSQL"} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			cert, key := b.certificate()
			var s *store
			port := freePort(t)
			if name == "InnoDB" {
				b.mariaFlags = []string{"--ssl-cert=" + cert, "--ssl-key=" + key, "--port=" + port}
				s = mariaStore(b, "InnoDB")
				s.sql("CREATE USER reader@'127.0.0.1' IDENTIFIED BY 'a secret' REQUIRE SSL; GRANT SELECT ON museum.* TO reader@'127.0.0.1';")
			} else {
				b.postgresFlags = func(dir string) string {
					for from, to := range map[string]string{cert: "cert.pem", key: "key.pem"} {
						text, err := os.ReadFile(from)
						require.NoError(t, err)
						require.NoError(t, os.WriteFile(filepath.Join(dir, to), text, 0o600))
						if os.Getuid() == 0 {
							require.NoError(t, os.Chown(filepath.Join(dir, to), 65534, 65534))
						}
					}
					hba := "local all keeper trust\nhostssl all reader 127.0.0.1/32 scram-sha-256\n"
					require.NoError(t, os.WriteFile(filepath.Join(dir, "d", "pg_hba.conf"), []byte(hba), 0o644))
					return fmt.Sprintf("-c listen_addresses=127.0.0.1 -c port=%s -c ssl=on -c ssl_cert_file=%[2]s/cert.pem -c ssl_key_file=%[2]s/key.pem", port, dir)
				}
				b.postgresPort = port
				s = postgresStore(b)
				s.sql("CREATE USER reader PASSWORD 'a secret'; GRANT pg_read_all_data TO reader;")
			}
			s.fill(40)
			before := s.dump()
			require.NoError(t, os.WriteFile(filepath.Join(b.dir, "secret"), []byte("a secret\n"), 0o600))
			kind, _, _ := strings.Cut(s.url, ":")
			for n, c := range []struct {
				tls  string
				code int
				say  string
			}{
				{"", 0, ""}, {"?tls=encrypt", 0, ""}, {"?tls=off", 3, ""}, {"?tls=verify", 3, "no TLS that can be trusted"},
				{"?tls=verify&tls-ca=" + cert, 0, ""}, {"?tls=perhaps", 2, "is not known"}, {"?tls=verify&tls-ca=nothing.pem", 3, "nothing.pem"},
			} {
				code, said := s.try("init", "--config", fmt.Sprintf("tls%d.yaml", n), "--site", "https://"+host, "--database", fmt.Sprintf("%s://reader@%s:%s/museum%s", kind, "127.0.0.1", port, c.tls),
					"--prefix", "m_", "--password-file", "secret")
				assert.Equal(t, c.code, code, "%s\n%s", c.tls, said)
				assert.Contains(t, said, c.say, c.tls)
				assert.NotContains(t, said, "a secret")
			}
			p := s.preview("--config", "tls0.yaml")
			assert.Equal(t, s.cells(40)-10, p.Cells, "a user who may only read can preview")
			code, said := s.try("apply", "--offline", "--config", "tls0.yaml")
			assert.Equal(t, 3, code, said)
			assert.Contains(t, said, "may not do that")
			assert.NotContains(t, said, "a secret")
			sameDump(t, before, s.dump())
		})
	}
}
