package scan

import (
	"context"
	"strings"

	"trimlantern/core/coverage"
	"trimlantern/outside/fetch"
	"trimlantern/work/trace"
)

// byDatabase is By of a page that the database names: it may have another address for its visitors.
const byDatabase = "database"

// storedPages returns the pages that the database knows of, also those that no link and no site map leads
// to: without them nobody could say that every page was read.
func (s *scanning) storedPages(ctx context.Context) (jobs []fetch.Job, err error) {
	err = trace.StoredPages(ctx, s.job, func(page string) {
		if own := s.own(page); own != "" {
			jobs = append(jobs, fetch.Job{URL: own, Depth: 1, By: byDatabase})
		}
	})
	return jobs, err
}

// stored takes in the pages of the database. One that cannot be asked stands in the way of "clean".
func (s *scanning) stored(ctx context.Context) []fetch.Job {
	jobs, err := s.storedPages(ctx)
	if err != nil {
		why, _, _ := strings.Cut(err.Error(), "\n")
		s.ledger.Set(coverage.Mark{URL: "database", Kind: coverage.Part, Cause: coverage.Unlisted, Note: why})
	}
	s.out.Stored = len(jobs)
	return jobs
}
