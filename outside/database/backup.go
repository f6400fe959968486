package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"trimlantern/outside/disk"
	"trimlantern/outside/verbose"
)

// ErrNoProgram says that the program which dumps such a database is not on this machine.
var ErrNoProgram = errors.New("the database's own dump program is not installed")

// dumpPrograms are the programs that dump a kind of database, the best first.
var dumpPrograms = map[string][]string{"mysql": {"mariadb-dump", "mysqldump"}, "postgres": {"pg_dump"}}

// Dumped is what a dump was made by and without.
type Dumped struct {
	Program string
	Without []string // what the user's rights do not allow to dump
}

// Dump has the database's own program write all of the database as SQL to w. The password goes to it in a file
// below folder that nobody else can read, and is gone afterwards; it is never on a command line.
func Dump(ctx context.Context, c Config, folder string, w func() (io.Writer, error)) (*Dumped, error) {
	out := &Dumped{}
	if err := checkNames(c); err != nil {
		return nil, err
	}
	c, _ = guarded(c)
	for _, name := range dumpPrograms[c.Kind] {
		if path, err := exec.LookPath(name); err == nil {
			out.Program = path
			break
		}
	}
	if out.Program == "" {
		return nil, fmt.Errorf("%w: %s", ErrNoProgram, strings.Join(dumpPrograms[c.Kind], " or "))
	}
	if c.Owner != nil { // who is to read the secret, and not the backup
		private, remove, err := disk.TempFolder("dump")
		if err != nil {
			return nil, err
		}
		defer remove()
		if err := os.Chown(private, c.Owner.UID, c.Owner.GID); err != nil {
			return nil, err
		}
		folder = private
	}
	secret, err := os.CreateTemp(folder, "secret-*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(secret.Name())
	if c.Owner != nil {
		if err := secret.Chown(c.Owner.UID, c.Owner.GID); err != nil {
			secret.Close()
			return nil, err
		}
	}
	text := mysqlOptions(c)
	if c.Kind == "postgres" {
		text = postgresPass(c)
	}
	if _, err := secret.WriteString(text); err != nil {
		secret.Close()
		return nil, err
	}
	if err := secret.Close(); err != nil {
		return nil, err
	}
	if c.Kind == "postgres" {
		return out, run(ctx, c.Owner, w, postgresEnv(c, secret.Name()), out.Program, postgresArgs()...)
	}
	base := []string{"--defaults-extra-file=" + secret.Name(), "--single-transaction", "--quick", "--hex-blob", "--no-tablespaces", "--default-character-set=utf8mb4"}
	for _, more := range []struct {
		flags   []string
		without []string
	}{{[]string{"--routines", "--events", "--triggers"}, nil}, {[]string{"--triggers"}, []string{"procedures", "events"}}} {
		err = run(ctx, c.Owner, w, os.Environ(), out.Program, append(append(append([]string{}, base...), more.flags...), "--", c.Name)...)
		if out.Without = more.without; err == nil || !strings.Contains(strings.ToLower(err.Error()), "denied") && !strings.Contains(err.Error(), "insufficient privilege") {
			break
		}
	}
	return out, err
}

// run has a program write to w, anew each time, and says what it complained of.
func run(ctx context.Context, as *disk.Owner, w func() (io.Writer, error), env []string, name string, args ...string) error {
	to, err := w()
	if err != nil {
		return err
	}
	c := exec.CommandContext(ctx, name, args...)
	c.Env, c.Stdout = env, to
	if as != nil { // nothing of the caller's own settings
		c.Env = slices.DeleteFunc(slices.Clone(env), func(v string) bool { return !strings.HasPrefix(v, "PG") })
		c.Env = append(c.Env, "PATH="+os.Getenv("PATH"), "LC_ALL=C", "HOME=/")
		runAs(c, *as)
	}
	c.WaitDelay = time.Second
	var said strings.Builder
	c.Stderr = &said
	began := time.Now()
	err = c.Run()
	verbose.Took(ctx, began, "program run", err, "program", name)
	if err != nil {
		return fmt.Errorf("%s: %w: %s", filepath.Base(name), err, strings.Join(strings.Fields(said.String()), " "))
	}
	return nil
}

// mysqlOptions is a file of options as the programs of MariaDB and MySQL read it.
func mysqlOptions(c Config) string {
	quote := func(s string) string {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(s) + `"`
	}
	text := "[client]\nuser=" + quote(c.User) + "\npassword=" + quote(c.Password) + "\n"
	if c.Socket != "" {
		text += "socket=" + quote(c.Socket) + "\n"
	} else {
		text += "host=" + quote(c.Host) + "\nprotocol=tcp\n"
		if c.Port != 0 {
			text += "port=" + strconv.Itoa(c.Port) + "\n"
		}
	}
	switch c.TLS {
	case "off":
		text += "skip-ssl\n"
	case "encrypt":
		text += "ssl\n"
	case "verify":
		text += "ssl\nssl-verify-server-cert\n"
		if c.CA != "" {
			text += "ssl-ca=" + quote(c.CA) + "\n"
		}
	}
	return text
}

// postgresPass is a file of passwords as the programs of PostgreSQL read it, good for this one connection.
func postgresPass(c Config) string {
	escape := strings.NewReplacer(`\`, `\\`, `:`, `\:`).Replace
	if c.Password == "" {
		return ""
	}
	return fmt.Sprintf("*:*:%s:%s:%s\n", escape(c.Name), escape(c.User), escape(c.Password))
}

func postgresMode(c Config) string {
	switch c.TLS {
	case "off":
		return "disable"
	case "encrypt":
		return "require"
	case "verify":
		return "verify-full"
	}
	return "prefer"
}

// postgresEnv is the environment in which PostgreSQL's programs find the database. A name of a database is never an argument:
// there `host=…` or `postgresql://…` would be settings of the connection, and send the password elsewhere.
func postgresEnv(c Config, pass string) []string {
	host := c.Host
	if c.Socket != "" {
		host = c.Socket
	}
	root := c.CA
	if root == "" && c.TLS == "verify" {
		root = "system"
		if _, err := os.Stat(systemCAs); err == nil { // of versions before 16, which do not know the word
			root = systemCAs
		}
	}
	env := slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "PG") }) // a service, other options
	env = append(env, "PGPASSFILE="+pass, "PGSSLMODE="+postgresMode(c), "PGSSLROOTCERT="+root, "PGHOST="+host, "PGUSER="+c.User, "PGDATABASE="+c.Name)
	if c.Port != 0 {
		env = append(env, "PGPORT="+strconv.Itoa(c.Port))
	}
	return env
}

// systemCAs is where Debian and others keep the authorities that the system trusts.
const systemCAs = "/etc/ssl/certs/ca-certificates.crt"

func postgresArgs() []string {
	return []string{"--no-password", "--encoding=UTF8", "--load-via-partition-root"}
}

// CopySQLite writes a consistent copy of an SQLite database to a file that is not there yet.
func CopySQLite(ctx context.Context, from, to string) error {
	q := url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(10000)"}}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Path: from, RawQuery: q.Encode()}).String())
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, "VACUUM INTO ?", to)
	return err
}
