package database

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asking is a server that asks whoever connects for the password, and keeps what it is told.
func asking(t *testing.T) (port int, told func() string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	passwords := make(chan string, 10)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			b := pgproto3.NewBackend(c, c)
			if _, err := b.ReceiveStartupMessage(); err == nil {
				b.Send(&pgproto3.AuthenticationCleartextPassword{})
				_ = b.Flush() // who has gone says nothing
				_ = b.SetAuthType(pgproto3.AuthTypeCleartextPassword)
				if m, err := b.Receive(); err == nil {
					if p, ok := m.(*pgproto3.PasswordMessage); ok {
						passwords <- p.Password
					}
				}
			}
			c.Close()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port, func() string {
		select {
		case p := <-passwords:
			return p
		default:
			return ""
		}
	}
}

// A password of the user's password file goes to the host, port, database and user that it stands
// beside, and to no other.
func TestPasswordFile(t *testing.T) {
	port, told := asking(t)
	file := filepath.Join(t.TempDir(), "pgpass")
	t.Setenv("PGPASSFILE", file)
	for line, want := range map[string]string{
		"127.0.0.1:" + strconv.Itoa(port) + ":museum:keeper:lamp-oil": "lamp-oil",
		"localhost:*:*:*:lamp-oil":                                    "",
		"127.0.0.1:5432:*:*:lamp-oil":                                 "",
		"127.0.0.1:*:museum:visitor:lamp-oil":                         "",
		"127.0.0.1:*:other:*:lamp-oil":                                "",
	} {
		require.NoError(t, os.WriteFile(file, []byte(line+"\n"), 0o600))
		_, err := Open(context.Background(), Config{Kind: "postgres", Host: "127.0.0.1", Port: port, User: "keeper", Name: "museum", TLS: "off"})
		assert.Error(t, err)
		assert.Equal(t, want, told(), line)
	}
}

// To another machine no password goes before verified TLS, unless the user says that the way is safe.
func TestPasswordInTheClear(t *testing.T) {
	for _, kind := range []string{"mysql", "postgres"} {
		for _, c := range []struct {
			host, tls, is string
		}{
			{"db.ternrock.example", "", "verify"}, {"192.0.2.7", "", "verify"}, {"10.1.2.3", "", "verify"}, {"db.ternrock.example", "off", "off"},
			{"db.ternrock.example", "encrypt", "encrypt"}, {"localhost", "", ""}, {"127.0.0.1", "", ""}, {"::1", "", ""},
		} {
			now, unsaid := guarded(Config{Kind: kind, Host: c.host, TLS: c.tls, Password: "lamp-oil"})
			assert.Equal(t, c.is, now.TLS, c)
			assert.Equal(t, c.is == "verify", unsaid)
		}
	}
	port, told := asking(t)
	host, err := os.Hostname() // a name of this machine that is not known to be one
	require.NoError(t, err)
	c := Config{Kind: "postgres", Host: "127.0.0.1", Port: port, User: "keeper", Name: "museum", Password: "lamp-oil", TLS: "verify"}
	_, err = Open(context.Background(), c)
	assert.ErrorIs(t, err, ErrTLS)
	assert.Empty(t, told())
	c.Host, c.TLS = host, ""
	_, err = Open(context.Background(), c)
	assert.Error(t, err)
	assert.Empty(t, told())
}

// Names that a program would take for options go nowhere.
func TestNamesLikeOptions(t *testing.T) {
	for _, c := range []Config{{Name: "-A"}, {Name: "--result-file=/etc/x"}, {User: "-x"}, {Host: "--defaults-file=x"}, {Name: "a\nb"}} {
		for _, c.Kind = range []string{"mysql", "postgres"} {
			_, err := Open(context.Background(), c)
			assert.ErrorIs(t, err, ErrName)
			_, err = Dump(context.Background(), c, t.TempDir(), nil)
			assert.ErrorIs(t, err, ErrName)
		}
	}
	c := Config{Name: "host=evil.example user=keeper", User: "keeper", Host: "localhost"}
	assert.NotContains(t, strings.Join(postgresArgs(), " "), "evil.example", "it would be read as settings of the connection")
	assert.Contains(t, postgresEnv(c, "pass"), "PGDATABASE=host=evil.example user=keeper")
}
