package work

import (
	"fmt"
	"slices"
	"strings"

	"trimlantern/outside/system"
)

// Locked is an address that the system's configuration holds against the database.
type Locked struct {
	Name  string // of the address: "public" or "core"
	Title string // in words
	system.Lock

	secure string // what it is to be
	env    bool   // the file has NAME=value lines
}

// Insecure reports whether the lock keeps the site on HTTP, as far as that can be read.
func (l Locked) Insecure() bool { return hasPrefixFold(l.Value, "http:") }

// Unknown reports whether only running the configuration would tell what the address is.
func (l Locked) Unknown() bool { return l.How != system.Literally && l.Value == "" }

// Words says where and how the address is locked.
func (l Locked) Words() string {
	how := "locked"
	if l.How != system.Literally {
		how = l.How.Words()
		if l.Value != "" {
			how += fmt.Sprintf(" that begins with %q", l.Value)
		}
	}
	return fmt.Sprintf("the %s is %s: %s in %s, line %d", l.Title, how, l.Constant, l.File, l.Lock.Line)
}

// Secure returns the line that the file is to have in its place.
func (l Locked) Secure() string {
	if l.env {
		return l.Constant + "=" + l.secure
	}
	if l.How == system.Computed && hasPrefixFold(l.Value, "http://") {
		return fmt.Sprintf("begin the value of %s with https:// in place of http://", l.Constant)
	}
	return fmt.Sprintf("define( '%s', '%s' );", l.Constant, l.secure)
}

func hasPrefixFold(s, prefix string) bool {
	return len(s) >= len(prefix) && strings.EqualFold(s[:len(prefix)], prefix)
}

// Locks returns the addresses that the system's configuration holds, as it is now.
func (j *Job) Locks() ([]Locked, error) {
	if j.System == nil || j.System.Config == nil || j.File.Configuration() == "" {
		return nil, nil
	}
	held, err := j.System.Config.LocksOf(j.File.Configuration())
	if err != nil {
		return nil, err
	}
	var out []Locked
	for _, a := range j.System.Addresses {
		lock, ok := held[a.Name]
		if !ok {
			continue
		}
		secure := j.Site.String()
		if rest, ok := strings.CutPrefix(lock.Value, "http://"); ok && lock.How != system.Computed {
			secure = "https://" + rest
		}
		out = append(out, Locked{a.Name, a.Title, lock, secure, j.System.Config.Format == "env"})
	}
	slices.SortFunc(out, func(a, b Locked) int { return strings.Compare(a.Constant, b.Constant) })
	return out, nil
}
