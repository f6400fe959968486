package system

import (
	"fmt"
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
	if _, ok := set[c.Database]; !ok {
		if in, ok := set[unknownInclude]; ok {
			return nil, &Unclear{c.Database, in}
		}
		return nil, fmt.Errorf("%s sets no %s: is it the system's configuration?", file, c.Database)
	}
	for _, name := range []string{c.Database, c.Host, c.User, c.Password, c.Prefix, c.Port} {
		if s, ok := set[name]; ok && s.How != Literally {
			return nil, &Unclear{name, s}
		}
	}
	conn := &Connection{File: file, User: set[c.User].Value, Password: set[c.Password].Value,
		Database: set[c.Database].Value, Charset: set[c.Charset].Value, Prefix: set[c.Prefix].Value, Locks: c.locks(set), settings: set}
	return conn, conn.at(set[c.Host], set[c.Port])
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
