package fetch

import (
	"context"
	"hash/maphash"
	"sync"
	"time"
)

// Crawl bounds a crawl.
type Crawl struct {
	Parallel int           // how many answers are waited for at once
	Pages    int           // how many pages at the most
	Others   int           // how many other things at the most; 0: ten times as many
	Depth    int           // how many links from the start at the most
	Pause    time.Duration // between two requests, over all
	Time     time.Duration // for all; 0: no bound
}

// Job is one thing to fetch.
type Job struct {
	URL   string `json:"u"`
	As    string `json:"as,omitempty"`   // "" for a page, else what it was loaded for
	Brief bool   `json:"head,omitempty"` // only where it leads counts, not what it holds
	Depth int    `json:"d,omitempty"`

	// What is loaded is named with who does it, in case it leads somewhere insecure.
	From   string `json:"on,omitempty"`
	Root   string `json:"of,omitempty"` // the page that it belongs to, through whichever frames and scripts
	By     string `json:"by,omitempty"`
	Masked bool   `json:"masked,omitempty"`
}

// Frontier is what a crawl has seen and what it has still to fetch. Of what was seen
// only a hash is kept, and of what waits only the ends are in memory, so that it stays
// small. Close it.
type Frontier struct {
	bounds        Crawl
	seed          maphash.Seed
	seen          map[uint64]struct{}
	queue         queue
	pages, others int
}

// NewFrontier makes an empty one.
func NewFrontier(b Crawl) *Frontier {
	if b.Others == 0 {
		b.Others = 10 * b.Pages
	}
	return &Frontier{bounds: b, seed: maphash.MakeSeed(), seen: map[uint64]struct{}{}}
}

func (f *Frontier) id(j Job) uint64 {
	var h maphash.Hash
	h.SetSeed(f.seed)
	h.WriteString(j.URL) // a Hash takes everything
	if j.Brief {
		h.WriteByte(0) // what was only touched may still have to be read
	}
	return h.Sum64()
}

// Added is what became of a job that a frontier was given.
type Added uint8

// The outcomes of Add.
const (
	Queued     Added = iota // it waits to be fetched
	Known                   // it waits already, or was fetched
	PastPages               // there are as many pages already as may be
	PastDepth               // it is more links away from the start than may be
	PastOthers              // there are as many other things already as may be
)

// Add takes up a job, if it is new and within the bounds.
func (f *Frontier) Add(j Job) Added {
	added := f.Done(j)
	if added == Queued {
		f.queue.push(j)
	}
	return added
}

// Done takes up a job that was done before, as Add does, and leaves it at that.
func (f *Frontier) Done(j Job) Added {
	id := f.id(j)
	if _, ok := f.seen[id]; ok {
		return Known
	}
	count, most, past := &f.pages, f.bounds.Pages, PastPages
	if j.As != "" || j.Brief {
		count, most, past = &f.others, f.bounds.Others, PastOthers
	}
	switch {
	case j.Depth > f.bounds.Depth:
		return PastDepth // another way to it may be shorter
	case *count >= most:
		return past
	}
	f.seen[id] = struct{}{}
	*count++
	return Queued
}

// Rest gives up what still waits, and tells of each job.
func (f *Frontier) Rest(visit func(Job)) error {
	for f.queue.waiting > 0 {
		j, err := f.queue.pop()
		if err != nil {
			return err
		}
		visit(j)
	}
	return nil
}

// Waiting returns how many jobs are left.
func (f *Frontier) Waiting() int { return f.queue.waiting }

// Close gives up what is left.
func (f *Frontier) Close() { f.queue.close() }

// Work fetches one thing and reads it. It may be called from several goroutines.
type Work[T any] func(ctx context.Context, j Job) T

// Visit is told of each result, one call at a time, and adds to the frontier.
type Visit[T any] func(j Job, result T) error

// Run works off a frontier until nothing is left, the time is up, ctx ends or visit fails. What was
// begun is always visited; what was not still waits.
func Run[T any](ctx context.Context, f *Frontier, work Work[T], visit Visit[T]) error {
	type done struct {
		job    Job
		result T
	}
	var late <-chan time.Time
	if f.bounds.Time > 0 {
		timer := time.NewTimer(f.bounds.Time)
		defer timer.Stop()
		late = timer.C
	}
	n := max(f.bounds.Parallel, 1)
	jobs, results := make(chan Job, n), make(chan done, n)
	var workers sync.WaitGroup
	for range n {
		workers.Go(func() {
			for j := range jobs {
				results <- done{j, work(ctx, j)}
			}
		})
	}
	defer workers.Wait()
	defer close(jobs)
	var failed error
	over := false
	for flying := 0; ; {
		more := f.queue.waiting > 0 && ctx.Err() == nil && failed == nil && !over
		if flying == 0 && !more {
			break
		}
		for more && flying < n {
			if f.bounds.Pause > 0 {
				select {
				case <-time.After(f.bounds.Pause):
				case <-ctx.Done():
				}
			}
			j, err := f.queue.pop()
			if err != nil {
				failed = err
				break
			}
			jobs <- j
			flying++
			more = f.queue.waiting > 0 && ctx.Err() == nil
			if f.bounds.Pause > 0 {
				break
			}
		}
		if flying == 0 {
			continue
		}
		select {
		case d := <-results:
			flying--
			if err := visit(d.job, d.result); err != nil && failed == nil {
				failed = err
			}
		case <-late:
			over = true
		}
	}
	if failed != nil {
		return failed
	}
	return ctx.Err()
}
