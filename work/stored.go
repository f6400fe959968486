package work

import (
	"context"
	"slices"
	"strings"

	"trimlantern/core/coverage"
	"trimlantern/outside/database"
	"trimlantern/outside/fetch"
	"trimlantern/outside/system"
)

// byDatabase is By of a page that the database names: it may have another address for its visitors.
const byDatabase = "database"

// storedPages returns the pages that the database knows of, also those that no link and no site map leads
// to: without them nobody could say that every page was read.
func (s *scanning) storedPages(ctx context.Context) (jobs []fetch.Job, err error) {
	j := s.job
	if !j.Stored() || len(j.System.Pages) == 0 {
		return nil, nil
	}
	db, tables, err := j.Open(ctx, true)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	t := j.tracing()
	for _, table := range tables {
		site, short := j.set(table.Name)
		if !slices.ContainsFunc(j.System.Pages, func(p system.Cache) bool { return p.Table == short }) {
			continue
		}
		base := j.Site.String()
		if place, ok := j.sites[site]; ok && site > 1 {
			base = "https://" + place.Address
		}
		// Only what tells the page is read, and not its text.
		needs := j.System.Needs(short)
		table.Columns = slices.DeleteFunc(slices.Clone(table.All), func(c database.Column) bool { return !slices.Contains(needs, c.Name) })
		j.Progress.At("reading which pages there are in "+table.Name, 0, 0)
		err := t.each(ctx, db, table, database.Everything, func(r *tracedRow) {
			if r.idle || !j.System.IsPage(short, r.get) {
				return
			}
			if page := r.label.PageOf(r.get); page != "" {
				if own := s.own(base + page); own != "" {
					jobs = append(jobs, fetch.Job{URL: own, Depth: 1, By: byDatabase})
				}
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return jobs, nil
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
