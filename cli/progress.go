package cli

import (
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"

	"trimlantern/report"
	"trimlantern/work"
)

// progress returns how long work is shown: a bar on a terminal, a line now and
// then elsewhere, nothing when quiet.
func (a *app) progress() work.Progress {
	switch {
	case a.quiet:
		return silent{}
	case isTerminal(a.errs) && a.log == "":
		return &bar{w: a.errs}
	}
	return &lines{w: a.errs, last: time.Now()}
}

type silent struct{}

func (silent) At(string, int64, int64) {}
func (silent) End()                    {}

// lines writes a line every ten seconds.
type lines struct {
	w     io.Writer
	last  time.Time
	total int64 // of the step that is going on, which began so, from so many
	from  int64
	began time.Time
}

func (l *lines) At(what string, done, total int64) {
	if total != l.total || l.began.IsZero() {
		l.total, l.from, l.began = total, done, time.Now()
	}
	if time.Since(l.last) < 10*time.Second {
		return
	}
	l.last = time.Now()
	switch {
	case total > 0:
		fmt.Fprintf(l.w, "%s: %d of %d%s\n", report.Clean(what), done, total, rate(done-l.from, total-l.from, time.Since(l.began)))
	case done > 0:
		fmt.Fprintf(l.w, "%s: %d\n", report.Clean(what), done)
	default:
		fmt.Fprintln(l.w, report.Clean(what))
	}
}

func (*lines) End() {}

// rate says how fast a job goes on and how long it will take, once that can be
// told.
func rate(done, total int64, since time.Duration) string {
	if done <= 0 || since < 2*time.Second {
		return ""
	}
	perSecond := float64(done) / since.Seconds()
	left := time.Duration(float64(total-done) / perSecond * float64(time.Second))
	return fmt.Sprintf(", %.0f a second, %s left", perSecond, left.Round(time.Second))
}

// bar is a bar with rate and time left.
type bar struct {
	w     io.Writer
	b     *progressbar.ProgressBar
	gate  *gate // what b writes through
	total int64
}

// gate lets a bar write until it is shut: one that only spins goes on drawing by
// itself.
type gate struct {
	mu   sync.Mutex
	w    io.Writer
	shut bool
}

func (g *gate) Write(b []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.shut {
		return len(b), nil
	}
	return g.w.Write(b)
}

// close shuts the gate and empties the line.
func (g *gate) close() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.shut = true
	fmt.Fprint(g.w, "\r\x1b[2K")
}

func (b *bar) At(what string, done, total int64) {
	if b.b == nil || b.total != total {
		b.End()
		b.gate = &gate{w: b.w}
		options := []progressbar.Option{progressbar.OptionSetWriter(b.gate), progressbar.OptionClearOnFinish(), progressbar.OptionSetWidth(12),
			progressbar.OptionThrottle(100 * time.Millisecond), progressbar.OptionSpinnerType(14)}
		max := total
		if max > 0 {
			options = append(options, progressbar.OptionShowCount(), progressbar.OptionSetElapsedTime(false))
		} else {
			max = -1 // nobody knows how much it is: it spins
		}
		b.b = progressbar.NewOptions64(max, options...)
		b.total = total
	}
	words := fmt.Sprintf("%.30s", report.Clean(what))
	if total == 0 && done > 0 {
		words = fmt.Sprintf("%s: %d", words, done)
	}
	b.b.Describe(words)
	_ = b.b.Set64(done) // a bar that cannot be drawn stops nothing
}

func (b *bar) End() {
	if b.b != nil {
		b.gate.close()
		b.b = nil
	}
}
