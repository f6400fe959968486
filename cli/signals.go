package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"
	"time"

	"trimlantern/outside/logbook"
	"trimlantern/work"
)

// patience is how long a command may take to end in order after a signal, unless it is changing a site: then the step that
// has begun is finished.
const patience = 2 * time.Second

// interruptible returns a context that the first signal ends. A second signal ends the program at once. So does the first
// after a while, if the program waits for something that a context does not end, like opening a pipe without a writer.
func interruptible(errs io.Writer) (ctx context.Context, stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	signals := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) { // nohup has it ignored
		signals = append(signals, syscall.SIGHUP)
	}
	got := make(chan os.Signal, 2)
	signal.Notify(got, signals...)
	ended := make(chan struct{})
	go func() {
		select {
		case <-got:
		case <-ended:
			return
		}
		cancel()
		for late := time.NewTicker(patience); ; {
			select {
			case <-ended:
				return
			case <-late.C:
				if logbook.Working() {
					continue
				}
			case <-got:
			}
			fmt.Fprintln(errs, "trimlantern: interrupted\nWhat to do: continue with the same command")
			os.Exit(work.World)
		}
	}()
	return ctx, func() {
		signal.Stop(got)
		close(ended)
		cancel()
	}
}
