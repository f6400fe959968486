// Package php asks the PHP of this machine whether it loads serialized values: a second opinion
// by the program that will have to read them.
package php

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"time"

	"trimlantern/outside/verbose"
)

// ErrMissing says that no PHP was found.
var ErrMissing = errors.New("no PHP is installed")

// Find returns the path of the program: the one given, or the one that is installed. It fails with
// ErrMissing.
func Find(given string) (string, error) {
	name := given
	if name == "" {
		name = "php"
	}
	path, err := exec.LookPath(name)
	if err != nil {
		if given != "" {
			return "", fmt.Errorf("%w at %s", ErrMissing, given)
		}
		return "", ErrMissing
	}
	return path, nil
}

// script reads pairs of values, each with its length before it in four bytes, and answers with one
// byte for each pair: bit 0, the first loads; bit 1, the second does. No class is loaded: objects
// become incomplete ones, and no code of theirs runs.
const script = `
error_reporting(0); fwrite(STDOUT, PHP_VERSION . "\n"); fflush(STDOUT);
function take($n) { $s = ''; while (strlen($s) < $n) { $p = fread(STDIN, $n - strlen($s)); if ($p === false || $p === '') exit; $s .= $p; } return $s; }
function loads($s) { return $s === 'b:0;' || unserialize($s, ['allowed_classes' => false, 'max_depth' => 0]) !== false; }
$out = '';
while (true) {
	$head = take(4); $n = unpack('N', $head)[1];
	if ($n === 0xffffffff) { fwrite(STDOUT, $out); fflush(STDOUT); $out = ''; continue; }
	$a = take($n); $b = take(unpack('N', take(4))[1]);
	$out .= chr((loads($a) ? 1 : 0) | (loads($b) ? 2 : 0));
	if (strlen($out) > 255) { fwrite(STDOUT, $out); fflush(STDOUT); $out = ''; }
}`

// isVersion tells PHP's version from what other programs say.
var isVersion = regexp.MustCompile(`^\d+\.\d+[\w.+~-]*\n$`)

// Answer is what PHP says of a value before and after a change.
type Answer struct {
	Before, After bool // it loads
}

// Judge is a running PHP.
type Judge struct {
	Version string // as the program says it

	cmd *exec.Cmd
	in  *bufio.Writer
	raw io.WriteCloser
	out *bufio.Reader
	end sync.Once
}

// Start starts the program at path. As root it runs as nobody: what it reads is hostile.
func Start(path string) (*Judge, error) {
	// Without the machine's settings: they may forbid functions, or load what is not needed.
	c := exec.Command(path, "-n", "-d", "memory_limit=1024M", "-r", script)
	c.Dir, c.Env = os.TempDir(), []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}
	leave(c)
	in, err := c.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, err
	}
	err = c.Start()
	verbose.Took(context.Background(), time.Now(), "program started", err, "program", path)
	if err != nil {
		return nil, fmt.Errorf("%s does not start: %w", path, err)
	}
	j := &Judge{cmd: c, in: bufio.NewWriterSize(in, 1<<18), raw: in, out: bufio.NewReaderSize(out, 1<<12)}
	version, err := j.out.ReadString('\n')
	if err != nil || !isVersion.MatchString(version) {
		j.Close()
		return nil, fmt.Errorf("%s does not answer: it is no PHP for the command line", path)
	}
	j.Version = strings.TrimSpace(version)
	return j, nil
}

// Ask sends a value as it is before and after a change. The answers come in the order of asking.
func (j *Judge) Ask(before, after []byte) error {
	for _, b := range [][]byte{before, after} {
		var head [4]byte
		binary.BigEndian.PutUint32(head[:], uint32(len(b)))
		if _, err := j.in.Write(head[:]); err != nil {
			return err
		}
		if _, err := j.in.Write(b); err != nil {
			return err
		}
	}
	return nil
}

// Flush has all that was asked answered.
func (j *Judge) Flush() error {
	if _, err := j.in.Write([]byte{0xff, 0xff, 0xff, 0xff}); err != nil {
		return err
	}
	return j.in.Flush()
}

// Next returns the next answer; what was asked must have been flushed.
func (j *Judge) Next() (Answer, error) {
	c, err := j.out.ReadByte()
	if err != nil {
		return Answer{}, err
	}
	return Answer{Before: c&1 != 0, After: c&2 != 0}, nil
}

// Close ends the program.
func (j *Judge) Close() {
	j.end.Do(func() {
		j.raw.Close()
		_ = j.cmd.Process.Kill() // it has nothing to keep
		_ = j.cmd.Wait()
	})
}
