package database

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/jackc/pgx/v5"
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

// To another machine no password goes in the clear, unless the user says that the way is safe.
func TestPasswordInTheClear(t *testing.T) {
	for _, c := range []struct {
		host, tls string
		guarded   bool
	}{
		{"db.ternrock.example", "", true}, {"192.0.2.7", "", true}, {"db.ternrock.example", "off", false}, {"db.ternrock.example", "verify", false},
		{"localhost", "", false}, {"127.0.0.1", "", false}, {"::1", "", false},
	} {
		p, err := postgresConfig(Config{Kind: "postgres", Host: c.host, TLS: c.tls, Password: "lamp-oil"})
		require.NoError(t, err)
		assert.Equal(t, c.guarded, p.RequireAuth != "", c)
	}
	port, told := asking(t)
	c := Config{Kind: "postgres", Host: "127.0.0.1", Port: port, User: "keeper", Name: "museum", Password: "lamp-oil"}
	p, err := postgresConfig(Config{Host: "db.ternrock.example", Password: c.Password})
	require.NoError(t, err)
	p.Host, p.Port = c.Host, uint16(port)
	_, err = pgx.ConnectConfig(context.Background(), p)
	assert.ErrorIs(t, postgresFailure(err), ErrClear)
	assert.Empty(t, told())
}
