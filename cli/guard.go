package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/settle"
)

// A guard is a second process of this program, in a session of its own. It holds the other end of a pipe: what it reads there
// at the end of a trial lets it go; the end of the pipe alone says that the run is dead. Then it puts the change back.
const (
	guardName  = "guard"
	guardReady = "on guard\n"
	guardGoes  = "done\n"
)

// guardStarts is how long a guard may take to start.
const guardStarts = 10 * time.Second

// guard starts the guard of a job.
func (a *app) guard(j *work.Job) func(context.Context, time.Time) (func(), error) {
	return func(_ context.Context, until time.Time) (func(), error) {
		program, err := os.Executable()
		if err != nil {
			return nil, err
		}
		if strings.HasSuffix(program, ".test") {
			return nil, errors.New("this is a test")
		}
		config, err := filepath.Abs(j.File.Path)
		if err != nil {
			return nil, err
		}
		c := exec.Command(program, guardName, "--config", config, "--until", until.Format(time.RFC3339), "--of", strconv.Itoa(os.Getpid()))
		apart(c)
		in, err := c.StdinPipe()
		if err != nil {
			return nil, err
		}
		out, err := c.StdoutPipe()
		if err != nil {
			return nil, err
		}
		if err := c.Start(); err != nil {
			return nil, err
		}
		ready := make(chan error, 1)
		go func() {
			said, err := bufio.NewReader(out).ReadString('\n')
			if said != guardReady {
				err = errors.Join(errors.New("it did not start"), err)
			}
			ready <- err
		}()
		select {
		case err = <-ready:
		case <-time.After(guardStarts):
			err = errors.New("it did not start in time")
		}
		if err != nil {
			_ = c.Process.Kill() // it has nothing to do yet
			_ = c.Wait()
			return nil, err
		}
		return func() {
			_, _ = io.WriteString(in, guardGoes) // one that was killed needs no word
			in.Close()
			_ = c.Wait()
		}, nil
	}
}

// guardCommand is what a guard runs.
func (a *app) guardCommand() *cobra.Command {
	var until string
	var of int
	c := &cobra.Command{
		Use:    guardName,
		Short:  "Put a change back if the run that made it dies",
		Hidden: true,
		Args:   noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			end, err := time.Parse(time.RFC3339, until)
			if err != nil {
				return err
			}
			deaf()
			j, err := a.load()
			if err != nil {
				return err
			}
			fmt.Fprint(a.out, guardReady)
			watch(a.in, end, func() { stopRun(j, of, end) }, func() { settleDead(j) })
			return nil
		},
	}
	c.Flags().StringVar(&until, "until", "", "when the change is put back, whatever the run does: `TIME`")
	c.Flags().IntVar(&of, "of", 0, "the `PROCESS` of the run")
	return c
}

// watch waits for the word of a run, or for its end: dead is called then. late is called once the time is over.
func watch(in io.Reader, until time.Time, late, dead func()) {
	word := make(chan bool, 1)
	go func() {
		said, _ := io.ReadAll(io.LimitReader(in, int64(len(guardGoes)))) // an error is an end too
		word <- string(said) == guardGoes
	}()
	for timer := time.NewTimer(time.Until(until)); ; {
		select {
		case gone := <-word:
			if !gone {
				dead()
			}
			return
		case <-timer.C:
			late()
		}
	}
}

// settleTries is how often a guard tries to settle, a second apart: the lock of a run that dies may outlive it for a moment.
const settleTries = 60

func settleDead(j *work.Job) {
	for range settleTries {
		if t, err := j.Trial(); t == nil && err == nil {
			return
		}
		if s, err := settle.Trial(context.Background(), j); s != nil && err == nil {
			return
		}
		time.Sleep(time.Second)
	}
}

// settled ends what an earlier run left in the middle, and says so. What cannot be settled stops no command.
func (a *app) settled(j *work.Job) {
	s, err := settle.Trial(context.Background(), j)
	var f *work.Fault
	switch {
	case errors.As(err, &f):
		fmt.Fprintf(a.errs, "trimlantern: a change of the server was cut off and could not be put back: %s\nWhat to do: %s\n", report.Clean(f.Error()), report.Clean(f.Do))
	case err != nil:
		fmt.Fprintf(a.errs, "trimlantern: a change of the server was cut off and could not be put back: %s\nWhat to do: run this command as the user who made the change\n", report.Clean(err.Error()))
	case s == nil:
	case s.Left != "":
		fmt.Fprintf(a.errs, "trimlantern: an installation of %s was cut off before its test, and %s is left as it is: %s\nWhat to do: test the redirect (trimlantern redirect test), and take out what harms: trimlantern redirect remove %s\n",
			s.Begun.Local().Format("2006-01-02 15:04"), report.Clean(s.File), report.Clean(s.Left), report.Clean(s.File))
	case s.Back && s.Host != "":
		fmt.Fprintf(a.errs, "trimlantern: a change of the certificate of %s was cut off before its test: the files of before are back\nWhat to do: run that command again\n", report.Clean(s.Host))
	case s.Back:
		fmt.Fprintf(a.errs, "trimlantern: an installation of %s was cut off before its test: %s is as it was before\nWhat to do: install the rules again\n",
			s.Begun.Local().Format("2006-01-02 15:04"), report.Clean(s.File))
	}
}
