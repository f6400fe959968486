package system

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
)

// Connection is what a system's own configuration says of its database.
type Connection struct {
	File, User, Password, Host, Socket, Database, Charset, Prefix string
	Port                                                          int
	Locks                                                         map[string]Lock // by the address's name

	settings map[string]Setting // all that the file sets: never shown
}

// Lock is an address that the configuration holds against the database.
type Lock struct {
	Constant string
	Setting
}

// Unclear says that the configuration sets something in a way that only running it would tell.
type Unclear struct {
	Name string
	Setting
}

func (e *Unclear) Error() string {
	return fmt.Sprintf("%s, line %d: %s is %s", e.File, e.Line, e.Name, e.How.Words())
}

// Connect reads a system's configuration file the way the system description says. What only running it would tell is
// an *Unclear, and never guessed.
func (c *ConfigFile) Connect(file string) (*Connection, error) {
	set, err := c.read(file)
	if err != nil {
		return nil, err
	}
	for _, name := range settingsIn(c.Database) {
		if _, ok := set[name]; !ok {
			if in, ok := set[dark]; ok {
				return nil, &Unclear{name, in}
			}
			return nil, fmt.Errorf("%s sets no %s: is it the system's configuration?", file, name)
		}
	}
	var at [6]Setting
	for i, written := range []string{c.Database, c.Host, c.User, c.Password, c.Prefix, c.Port} {
		for _, name := range settingsIn(written) {
			if s, ok := set[name]; ok && s.How != Literally {
				return nil, &Unclear{name, s}
			}
		}
		at[i] = joined(set, written)
	}
	conn := &Connection{File: file, Database: at[0].Value, User: at[2].Value, Password: at[3].Value, Prefix: at[4].Value,
		Charset: set[c.Charset].Value, Locks: c.locks(set), settings: set}
	if c.Kind == "sqlite" {
		if path := filepath.FromSlash(conn.Database); !filepath.IsAbs(path) {
			path = filepath.Join(filepath.Dir(file), path)
			conn.Database = path
		}
	}
	return conn, conn.at(at[1], at[5])
}

// settingsIn returns the names of the settings that a value of the system description is made of: one name, or a text
// with names in braces.
func settingsIn(written string) (names []string) {
	if !strings.Contains(written, "{") {
		return []string{written}
	}
	for _, part := range strings.Split(written, "{")[1:] {
		name, _, _ := strings.Cut(part, "}")
		names = append(names, name)
	}
	return names
}

// joined is the value that the settings make, at the place of the last of them.
func joined(set map[string]Setting, written string) (s Setting) {
	if !strings.Contains(written, "{") {
		return set[written]
	}
	value, rest, _ := strings.Cut(written, "{")
	for rest != "" {
		var name, behind string
		name, rest, _ = strings.Cut(rest, "}")
		s = set[name]
		behind, rest, _ = strings.Cut(rest, "{")
		value += s.Value + behind
	}
	s.Value = value
	return s
}

// Locks reads which addresses the configuration holds, by the address's name; also where it does not say
// where the database is.
func (c *ConfigFile) LocksOf(file string) (map[string]Lock, error) {
	set, err := c.read(file)
	if err != nil {
		return nil, err
	}
	return c.locks(set), nil
}

func (c *ConfigFile) read(file string) (map[string]Setting, error) {
	if c.Format == "env" {
		return ReadEnv(file)
	}
	return ReadPHP(file, c.End)
}

func (c *ConfigFile) locks(set map[string]Setting) map[string]Lock {
	locks := map[string]Lock{}
	for name, constant := range c.Locks {
		if s, ok := set[constant]; ok && (s.Value != "" || s.How != Literally) {
			locks[name] = Lock{constant, s}
		} else if hidden, some := set[dark]; some && !ok {
			hidden.Value, hidden.How = "", Possibly
			locks[name] = Lock{constant, hidden}
		}
	}
	return locks
}

// at takes where the database is apart: host, host:port, host:/socket, :/socket, an IPv6 address with or
// without brackets, or the folder of a socket.
func (conn *Connection) at(host, port Setting) (err error) {
	conn.Host = host.Value
	rest := ""
	switch h := host.Value; {
	case strings.HasPrefix(h, "["): // [::1]:3306
		inside, after, _ := strings.Cut(h[1:], "]")
		conn.Host, rest = inside, strings.TrimPrefix(after, ":")
	case strings.Count(h, ":") > 1 && !strings.Contains(h, ":/"): // ::1
	default:
		conn.Host, rest, _ = strings.Cut(h, ":")
	}
	if number, socket, ok := strings.Cut(rest, ":"); ok { // host:port:/socket
		rest = number
		if strings.HasPrefix(socket, "/") {
			rest = socket
		}
	}
	switch {
	case strings.HasPrefix(rest, "/"):
		conn.Host, conn.Socket = "", rest
	case rest != "":
		if conn.Port, err = strconv.Atoi(rest); err != nil {
			return fmt.Errorf("%s, line %d: %q is no port", host.File, host.Line, rest)
		}
	}
	if port.Value != "" && conn.Port == 0 {
		if conn.Port, err = strconv.Atoi(port.Value); err != nil {
			return fmt.Errorf("%s, line %d: %q is no port", port.File, port.Line, port.Value)
		}
	}
	if strings.HasPrefix(conn.Host, "/") { // PostgreSQL names the folder of the socket
		conn.Host, conn.Socket = "", conn.Host
	}
	return nil
}
