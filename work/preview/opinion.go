package preview

import (
	"bytes"
	"errors"

	"trimlantern/core/envelope"
	"trimlantern/outside/php"
	"trimlantern/work"
)

// NoJudge is the word for no second opinion.
const NoJudge = "none"

// Opinion is what the machine's PHP said of the serialized values that would change.
type Opinion struct {
	Version  string `json:"version,omitempty"`  // of PHP; "": nobody was asked
	Values   int    `json:"values"`             // it was asked about
	Loaded   int    `json:"loaded"`             // of them it loads after the change; not those of a class's own format
	Refused  int    `json:"refused"`            // it would not load after the change: left and named
	Unjudged int    `json:"unjudged,omitempty"` // it could not be asked about
	Why      string `json:"why,omitempty"`      // it was not asked, or not about all
}

// The bounds of what waits for an answer.
const (
	waitingValues = 512
	waitingBytes  = 8 << 20
)

// judging has PHP load values before and after they change, while the next are read. What is to be
// done with them waits in order.
type judging struct {
	php     *php.Judge // nil: there is none, or none any more
	out     *Opinion
	waiting []waiting
	bytes   int
	lengths bool // the values before are broken
}

// waiting is a change that waits for its answer, or for the answer of one before.
type waiting struct {
	asked  bool
	custom bool // it holds a class's own format, which PHP loads only with the class
	then   func(loads bool) error
}

// secondOpinion starts PHP, where there is one and the user does not forbid it.
func secondOpinion(j *work.Job, kind string) (*judging, error) {
	g := &judging{out: &Opinion{}, lengths: kind == Lengths}
	if j.Judge == NoJudge {
		g.out.Why = "turned off with --judge none"
		return g, nil
	}
	path, err := php.Find(j.Judge)
	if err == nil {
		g.php, err = php.Start(path)
	}
	switch {
	case err != nil && j.Judge != "":
		return nil, work.BadUse(err, "--judge", "name a PHP for the command line, or write --judge none")
	case errors.Is(err, php.ErrMissing):
		g.out.Why = "no PHP is installed here"
	case err != nil:
		g.out.Why = err.Error()
	default:
		g.out.Version = g.php.Version
	}
	return g, nil
}

// close ends PHP.
func (g *judging) close() {
	if g != nil && g.php != nil {
		g.php.Close()
	}
}

// later does something with a value that changes when it is known whether PHP loads it afterwards.
func (g *judging) later(before, after []byte, then func(loads bool) error) error {
	serialized := envelope.LooksSerialized(after)
	if serialized && g.php == nil {
		g.out.Unjudged++
	}
	w := waiting{then: then, asked: serialized && g.php != nil, custom: bytes.Contains(after, []byte("C:")) || bytes.Contains(after, []byte("E:"))}
	if !w.asked && len(g.waiting) == 0 {
		return then(true)
	}
	if w.asked {
		if err := g.php.Ask(before, after); err != nil {
			g.gone()
			w.asked = false
			g.out.Unjudged++
		}
	}
	g.waiting = append(g.waiting, w)
	if g.bytes += len(before) + len(after); len(g.waiting) >= waitingValues || g.bytes >= waitingBytes {
		return g.drain()
	}
	return nil
}

// gone notes that PHP has ended.
func (g *judging) gone() {
	if g.php != nil {
		g.php.Close()
		g.php = nil
		g.out.Why = "PHP ended in the middle"
	}
}

// drain waits for all answers and does what waited for them.
func (g *judging) drain() error {
	if g == nil || len(g.waiting) == 0 {
		return nil
	}
	if g.php != nil && g.php.Flush() != nil {
		g.gone()
	}
	for _, w := range g.waiting {
		loads := true
		if w.asked {
			var a php.Answer
			err := errors.ErrUnsupported
			if g.php != nil {
				a, err = g.php.Next()
			}
			switch {
			case err != nil:
				g.gone()
				g.out.Unjudged++
			default:
				g.out.Values++
				if a.After {
					g.out.Loaded++
				}
				loads = a.After || !a.Before && (!g.lengths || w.custom)
			}
			if !loads {
				g.out.Refused++
			}
		}
		if err := w.then(loads); err != nil {
			return err
		}
	}
	g.waiting, g.bytes = g.waiting[:0], 0
	return nil
}
