package fetch

import (
	"context"
	"sync"
	"time"
)

// Crawl bounds a crawl.
type Crawl struct {
	Parallel int           // how many answers are waited for at once
	Pages    int           // how many documents at the most
	Depth    int           // how many links from the start at the most
	Pause    time.Duration // between two requests, over all
}

// Visit is told of each document, one call at a time. It returns which documents
// to fetch next; the crawl asks for none twice.
type Visit func(u string, depth int, r *Response, err error) (next []string)

// Run crawls from the given documents until there are none left, a bound is
// reached or ctx ends. It returns how many were left out because of the bounds.
func (c *Client) Run(ctx context.Context, b Crawl, start []string, visit Visit) (leftOut int, err error) {
	type job struct {
		u     string
		depth int
	}
	type done struct {
		job
		r   *Response
		err error
	}
	jobs, results := make(chan job), make(chan done)
	var workers sync.WaitGroup
	for range max(b.Parallel, 1) {
		workers.Go(func() {
			for j := range jobs {
				r, err := c.Get(ctx, j.u)
				results <- done{j, r, err}
			}
		})
	}
	defer workers.Wait()
	defer close(jobs)

	seen := map[string]bool{}
	var queue []job
	add := func(u string, depth int) {
		switch {
		case seen[u]:
			return
		case depth > b.Depth || len(seen) >= b.Pages:
			leftOut++
			seen[u] = true
			return
		}
		seen[u] = true
		queue = append(queue, job{u, depth})
	}
	for _, u := range start {
		add(u, 0)
	}
	for flying := 0; flying > 0 || len(queue) > 0 && ctx.Err() == nil; {
		var out chan job
		var next job
		if len(queue) > 0 && ctx.Err() == nil {
			out, next = jobs, queue[0]
		}
		select {
		case out <- next:
			queue = queue[1:]
			flying++
			if b.Pause > 0 {
				select {
				case <-time.After(b.Pause):
				case <-ctx.Done():
				}
			}
		case d := <-results:
			flying--
			for _, u := range visit(d.u, d.depth, d.r, d.err) {
				add(u, d.depth+1)
			}
		}
	}
	return leftOut, ctx.Err()
}
