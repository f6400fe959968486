package logbook

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
)

// ErrBusy says that another run works on the site. Its text names that run.
var ErrBusy = errors.New("another run is at work on this site")

// Three locks keep runs apart: one for a whole run that changes the site and one for a scan, which are refused to others at
// once, and one for the moment of a change of the site file or of the logbook, for which others wait.
const (
	runLock    = "lock"
	scanLock   = "lock-scan"
	changeLock = "lock-change"
	clockFile  = "clock" // the time of the last name that was given
)

// patience is how long a change waits for others.
const patience = time.Minute

// working counts the runs of this process that hold a lock.
var working atomic.Int32

// Working reports whether a run of this process may be changing a site.
func Working() bool { return working.Load() > 0 }

// Lock keeps other runs out until release is called. command says what this one is, for those that are kept out.
func (l *Logbook) Lock(command string) (release func(), err error) {
	unlock, err := l.hold(runLock, command)
	if err != nil {
		return nil, err
	}
	working.Add(1)
	return func() {
		working.Add(-1)
		unlock()
	}, nil
}

// LockScan keeps other scans of the site out until release is called.
func (l *Logbook) LockScan(command string) (release func(), err error) {
	return l.hold(scanLock, command)
}

func (l *Logbook) hold(name, command string) (release func(), err error) {
	lock, file, err := l.lockFile(name)
	if err != nil {
		return nil, err
	}
	ok, err := lock.TryLock()
	if err != nil || !ok {
		defer file.Close()
	}
	if err != nil {
		return nil, err
	}
	if !ok {
		for range 50 { // the other run may have the lock, and not have written yet who it is
			b := make([]byte, 200)
			if n, err := file.ReadAt(b, 0); n > 0 || !errors.Is(err, io.EOF) {
				return nil, fmt.Errorf("%w: %s", ErrBusy, strings.TrimSpace(string(b[:n])))
			}
			time.Sleep(10 * time.Millisecond)
		}
		return nil, ErrBusy
	}
	who := fmt.Sprintf("trimlantern %s, process %d, since %s\n", command, os.Getpid(), time.Now().Format("2006-01-02 15:04:05"))
	if err := errors.Join(file.Truncate(0), writeAt(file, who)); err != nil {
		_ = lock.Unlock() // the failed write is what counts
		file.Close()
		return nil, err
	}
	return func() { // the end of the process unlocks too
		_ = file.Truncate(0)
		_ = lock.Unlock()
		file.Close()
	}, nil
}

func writeAt(f *os.File, text string) error {
	_, err := f.WriteAt([]byte(text), 0)
	return err
}

// lockFile opens a lock's file, never through a link.
func (l *Logbook) lockFile(name string) (*flock.Flock, *os.File, error) {
	if err := l.Ensure(); err != nil {
		return nil, nil, err
	}
	folder, err := l.opened()
	if err != nil {
		return nil, nil, err
	}
	f, err := folder.OpenFile(name, os.O_RDWR|os.O_CREATE)
	if errors.Is(err, os.ErrExist) { // another run made it at this moment
		f, err = folder.OpenFile(name, os.O_RDWR)
	}
	if err != nil {
		return nil, nil, err
	}
	return flock.New(filepath.Join(folder.Path(), name), flock.SetPermissions(0o600)), f, nil
}

// Change does work while no other run changes the site file or the logbook. It waits for those that do.
func (l *Logbook) Change(work func() error) error {
	lock, file, err := l.lockFile(changeLock)
	if err != nil {
		return err
	}
	defer file.Close()
	for began := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		ok, err := lock.TryLock()
		if err != nil {
			return err
		}
		if ok {
			break
		}
		if time.Since(began) > patience {
			return ErrBusy
		}
	}
	defer func() { _ = lock.Unlock() }() // the end of the process unlocks too
	return work()
}

// NextTime returns the time by which a new run is named: now, or a millisecond after the last that was given, to whichever
// run. So no two runs have one name, and names sort by age even if the clock was ahead once.
func (l *Logbook) NextTime(now time.Time) (time.Time, error) {
	now = now.UTC().Truncate(time.Millisecond)
	err := l.Change(func() error {
		var last time.Time
		if err := l.ReadJSON(clockFile, &last); err != nil {
			last = time.Time{} // the names in the logbook count, which the caller has looked at
		}
		if !now.After(last) {
			now = last.Add(time.Millisecond)
		}
		return l.WriteJSON(clockFile, now)
	})
	return now, err
}
