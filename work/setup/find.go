package setup

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"trimlantern/outside/database"
	"trimlantern/outside/disk"
	"trimlantern/outside/system"
	"trimlantern/work"
)

// maxFindDepth is how deep below the folder the system's configuration is
// looked for.
const maxFindDepth = 4

// found are what lies below a folder that may be a site's.
type found struct {
	configs []string // configurations of known systems
	systems []string // folders that a known system itself is in
	sqlite  []string // SQLite databases
}

// find looks below the folder for a system's own configuration or an SQLite
// database, where the flags do not say.
func (in *initing) find() error {
	d := &in.file.Database
	if d.Kind != "" { // what else the configuration says is asked once the system is known
		in.config, d.Config = d.Config, ""
		return nil
	}
	configs := map[string]*system.System{}
	systems, err := work.SystemsNamed(in.o.System)
	if err != nil {
		return work.UnknownSystem(err)
	}
	for _, l := range systems {
		if l.Config != nil {
			configs[l.Config.File] = l
		}
	}
	if d.Config != "" { // named by a flag
		for file, l := range configs { // by its name, or else the only one there is
			if file == filepath.Base(d.Config) || len(configs) == 1 {
				return in.take(d.Config, "", l)
			}
		}
		return work.BadUse(nil, "no system description knows a configuration file called "+filepath.Base(d.Config), "name the system too: --system wordpress")
	}
	if in.o.Folder == "" {
		return work.BadUse(nil, "nothing says where the site's database is",
			"name the folder of the site: trimlantern init --site https://HOST FOLDER; or the database: --database sqlite:FILE or mysql://USER@HOST/NAME or postgres://USER@HOST/NAME")
	}
	have, err := lookBelow(in.o.Folder, configs)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return work.BadUse(nil, "there is no folder "+in.o.Folder, "name the folder that the site's files are in")
	case err != nil:
		return work.Failed(err, "looking through "+in.o.Folder, "make the folder readable")
	}
	config, system := have.choose(configs)
	switch {
	case config != "":
		for _, other := range have.configs {
			if other != config {
				in.out.Used = append(in.out.Used, "not used: "+in.relative(other)+", which lies beside no system")
			}
		}
		return in.take(config, system, configs[filepath.Base(config)])
	case len(have.configs) > 1 || len(have.configs) == 0 && len(have.sqlite) > 1:
		return work.BadUse(nil, "there is more than one site below "+in.o.Folder+": "+strings.Join(append(have.configs, have.sqlite...), ", "), "name the folder of one of them")
	case len(have.sqlite) == 1:
		d.Kind, d.File = "sqlite", in.relative(have.sqlite[0])
		in.out.Used = append(in.out.Used, "database: the SQLite file "+d.File)
		return nil
	}
	return work.BadUse(nil, "there is no configuration of a known system and no SQLite database below "+in.o.Folder,
		"name the database: --database sqlite:FILE or mysql://USER@HOST/NAME or postgres://USER@HOST/NAME")
}

// beside looks for the configuration of the system whose database was named: it may hold the site's addresses, and it says
// where the files are. What it says of a database is not read.
func (in *initing) beside(l *system.System) error {
	if l.Config == nil || in.file.Database.Config != "" || in.file.Database.Kind == database.NoneKind {
		return nil
	}
	configs := map[string]*system.System{l.Config.File: l}
	path, base := in.config, ""
	switch {
	case path != "":
	case in.o.Folder != "":
		have, err := lookBelow(in.o.Folder, configs)
		if err != nil {
			return work.BadUse(err, "the folder "+in.o.Folder+" cannot be searched", "name a folder that is there and that you may read")
		}
		if path, base = have.choose(configs); path == "" {
			for _, other := range have.configs {
				in.out.Used = append(in.out.Used, "not used: "+in.relative(other)+"; name it with --system-config if it is the site's")
			}
			return nil
		}
	default:
		if path = in.above(l.Config.File); path == "" {
			return nil
		}
	}
	if base == "" {
		base = filepath.Dir(path)
	}
	if _, err := l.Config.LocksOf(path); err != nil {
		in.out.Used = append(in.out.Used, "not used: "+in.relative(path)+", which cannot be read: "+err.Error()+"; addresses that it may hold are not known")
		return nil
	}
	in.file.SystemConfig = in.relative(path)
	in.out.Used = append(in.out.Used, "the system's configuration: "+in.file.SystemConfig+", for what it holds of the addresses")
	return in.surroundings(path, base, l)
}

// above looks for a configuration in the current folder, and in the folders that hold the named files.
func (in *initing) above(name string) string {
	dirs := []string{in.dir}
	for _, f := range in.file.Files {
		for dir := in.file.Abs(f); len(dirs) < 20 && dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
			dirs = append(dirs, dir)
		}
	}
	for _, dir := range dirs {
		if info, err := os.Stat(filepath.Join(dir, name)); name != "" && err == nil && info.Mode().IsRegular() {
			return filepath.Join(dir, name)
		}
	}
	return ""
}

// lookBelow looks through a folder. The folder itself may be a link.
func lookBelow(folder string, configs map[string]*system.System) (have found, err error) {
	top, err := filepath.EvalSymlinks(folder)
	if err != nil {
		return have, err
	}
	if top, err = filepath.Abs(top); err != nil {
		return have, err
	}
	err = filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil && path == top:
			return err
		case err != nil:
			return nil // a folder we may not read holds nothing for us
		case e.IsDir() && strings.Count(strings.TrimPrefix(path, top), string(filepath.Separator)) > maxFindDepth:
			return fs.SkipDir
		case e.IsDir():
			return nil
		case configs[e.Name()] != nil:
			have.configs = append(have.configs, path)
		case isSystem(e.Name(), configs):
			have.systems = append(have.systems, filepath.Dir(path))
		case e.Type().IsRegular() && slices.Contains([]string{".db", ".sqlite", ".sqlite3"}, strings.ToLower(filepath.Ext(path))) && database.IsSQLite(path):
			have.sqlite = append(have.sqlite, path)
		}
		return nil
	})
	return have, err
}

func isSystem(name string, configs map[string]*system.System) bool {
	for _, l := range configs {
		if l.Config.End != "" && l.Config.End == name {
			return true
		}
	}
	return false
}

// choose returns the configuration of the one system that is there, and the system's folder. A system reads
// the configuration in its own folder, or else the one in the folder above, where that holds no system.
func (have found) choose(configs map[string]*system.System) (config, system string) {
	var pairs [][2]string
	for _, dir := range have.systems {
		for name, l := range configs {
			own, above := filepath.Join(dir, name), filepath.Join(filepath.Dir(dir), name)
			switch {
			case l.Config.End == "":
			case slices.Contains(have.configs, own):
				pairs = append(pairs, [2]string{own, dir})
			case !slices.Contains(have.systems, filepath.Dir(dir)):
				if info, err := os.Stat(above); err == nil && info.Mode().IsRegular() {
					pairs = append(pairs, [2]string{above, dir})
				}
			}
		}
	}
	switch {
	case len(pairs) == 1:
		return pairs[0][0], pairs[0][1]
	case len(pairs) == 0 && len(have.configs) == 1:
		return have.configs[0], filepath.Dir(have.configs[0])
	}
	return "", ""
}

// takeFiles takes a site without a database, whose configuration file is found.
func (in *initing) takeFiles(path string, l *system.System) error {
	in.file.Database.Kind, in.file.Database.File = database.NoneKind, in.relative(filepath.Dir(path))
	in.out.Used = append(in.out.Used, "no database: the content is files, beside "+in.relative(path))
	if in.file.System == "" {
		in.file.System = l.Name
	}
	if len(in.file.Files) == 0 {
		for _, f := range l.Files {
			dir := filepath.Join(filepath.Dir(path), filepath.FromSlash(f))
			if info, err := os.Stat(dir); err == nil && info.IsDir() {
				in.file.Files = append(in.file.Files, in.relative(dir))
			}
		}
	}
	for _, pattern := range l.Except {
		in.file.Choose.Except = append(in.file.Choose.Except, "file:"+pattern)
	}
	return nil
}

// take reads the system's configuration file. base is the folder of the system; "": the file's.
func (in *initing) take(path, base string, l *system.System) error {
	if base == "" {
		base = filepath.Dir(path)
	}
	d := &in.file.Database
	if l.Config.Kind == database.NoneKind {
		return in.takeFiles(path, l)
	}
	conn, err := l.Config.Connect(path)
	var unclear *system.Unclear
	drop, dropped := l.Config.DropIn(path, base)
	switch {
	case dropped: // then it does not matter where the configuration says that a server is
		d.Kind, d.File = "sqlite", in.relative(drop)
		in.out.Used = append(in.out.Used, "database: the SQLite file "+d.File+", which a drop-in of the system uses")
	case errors.As(err, &unclear):
		return work.BadUse(nil, fmt.Sprintf("%s, line %d: %s is %s, which only running it would tell", in.relative(unclear.File), unclear.Line, strings.TrimPrefix(unclear.Name, "$"), unclear.How.Words()),
			"say where the database is: --database mysql://USER@HOST/NAME (or postgres://, sqlite:FILE), --prefix PREFIX, and --password-env VARIABLE or --password-file FILE")
	case err != nil && l.Config.Kind == "sqlite":
		return work.BadUse(err, "the system's configuration cannot be read", "name the database instead: --database sqlite:FILE")
	case err != nil:
		return work.BadUse(err, "the system's configuration cannot be read", "name the database instead: --database mysql://USER@HOST/NAME or postgres://USER@HOST/NAME")
	case l.Config.Kind == "sqlite":
		d.Kind, d.File = "sqlite", in.relative(conn.Database)
		in.out.Used = append(in.out.Used, "database: the SQLite file "+d.File+", as "+in.relative(path)+" says")
	default:
		d.Kind = l.Config.Kind
		in.out.Used = append(in.out.Used, "database, user, password and prefix: "+in.relative(path))
	}
	d.Config = in.relative(path)
	if d.Prefix == "" && conn != nil {
		d.Prefix = conn.Prefix
	}
	return in.surroundings(path, base, l)
}

// surroundings takes what is known of a system by where its configuration is: the system's folder, the addresses that are
// held, the files.
func (in *initing) surroundings(path, base string, l *system.System) error {
	if in.file.System == "" {
		in.file.System = l.Name
	}
	if base != filepath.Dir(path) {
		in.file.SystemFolder = in.relative(base)
		in.out.Used = append(in.out.Used, "the system's folder: "+in.file.SystemFolder)
	}
	locks, err := l.Config.LocksOf(path)
	if err != nil {
		return work.BadUse(err, "the system's configuration cannot be read", "make it readable")
	}
	for name, lock := range locks {
		if lock.How == system.Possibly {
			in.out.Used = append(in.out.Used, fmt.Sprintf("%s address: %s in %s, line %d, is %s", name, lock.Constant, in.relative(lock.File), lock.Line, lock.How.Words()))
			continue
		}
		how := ""
		if lock.How != system.Literally {
			how = ", " + lock.How.Words()
		}
		in.out.Locked = append(in.out.Locked, fmt.Sprintf("%s address: %s in %s, line %d%s", name, lock.Constant, in.relative(lock.File), lock.Line, how))
	}
	slices.Sort(in.out.Locked)
	if len(in.file.Files) == 0 {
		for _, f := range l.Below(path, base, l.Files) {
			if info, err := os.Stat(f); err == nil && info.IsDir() {
				in.file.Files = append(in.file.Files, in.relative(f))
			}
		}
	}
	return nil
}

// SitesBelow lists the folders below one that hold a site of their own: each is the folder of a system's
// configuration, or of an SQLite database.
func SitesBelow(folder string) ([]string, error) {
	systems, err := work.SystemsNamed("")
	if err != nil {
		return nil, work.BadUse(err, "a built-in system description", "report this")
	}
	configs := map[string]*system.System{}
	for _, l := range systems {
		if l.Config != nil && l.Config.File != "" {
			configs[l.Config.File] = l
		}
	}
	have, err := lookBelow(folder, configs)
	if err != nil {
		return nil, work.BadUse(err, folder+" cannot be searched", "make it readable, or run the command as a user who may read it")
	}
	var all []string
	for _, config := range have.configs {
		if dir := filepath.Dir(config); !slices.Contains(all, dir) {
			all = append(all, dir)
		}
	}
	for _, file := range have.sqlite {
		inside := func(site string) bool { _, in := disk.Inside(site, file); return in }
		if !slices.ContainsFunc(all, inside) { // else it is something that a system keeps
			all = append(all, filepath.Dir(file))
		}
	}
	return all, nil
}
