package scan

import (
	"fmt"
	"hash/fnv"
	"math/rand/v2"

	"trimlantern/core/coverage"
	"trimlantern/outside/fetch"
	"trimlantern/work/findings"
)

// sampleFile keeps which pages the samples of a round had, so that they get round to all.
const sampleFile = "sample.json"

// round is what samples have read since they had read everything.
type round struct {
	Pages map[string]bool `json:"pages"` // hashes of addresses
}

func pageHash(u string) string { return fmt.Sprintf("%x", Hash(u)) }

// Hash is a number for a text, the same in each run and on each machine.
func Hash(s string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(s)) // a Hash takes everything
	return h.Sum64()
}

// choose takes the pages of a sample out of those that are known: first those that no sample had in
// this round.
func (s *scanning) choose() error {
	if err := s.knownPages(); err != nil {
		return err
	}
	had := round{Pages: map[string]bool{}}
	if s.job.Book != nil {
		if err := s.job.Book.ReadJSON(sampleFile, &had); err != nil {
			had = round{Pages: map[string]bool{}} // a broken file begins a round
		}
	}
	rand.Shuffle(len(s.pool), func(a, b int) { s.pool[a], s.pool[b] = s.pool[b], s.pool[a] })
	var fresh, seen []fetch.Job
	for _, j := range s.pool {
		if s.ledger.Of(j.URL) != coverage.Sampled {
			continue // read already
		}
		if had.Pages[pageHash(j.URL)] {
			seen = append(seen, j)
		} else {
			fresh = append(fresh, j)
		}
	}
	most := max(s.o.Sample-s.out.Read, 0)
	if len(fresh) <= most { // the round ends with this one
		had.Pages = map[string]bool{}
	}
	next := crawlLine{}
	for _, j := range append(fresh, seen...) {
		if len(next.Next) == most {
			break
		}
		if s.front.Add(j) == fetch.Queued {
			next.Next = append(next.Next, j)
			had.Pages[pageHash(j.URL)] = true
		}
	}
	if s.job.Book != nil {
		if err := s.job.Book.WriteJSON(sampleFile, had); err != nil {
			return err
		}
	}
	return s.log.put(next)
}

// knownPages adds the pages of the last whole scan to those that a sample can choose from.
func (s *scanning) knownPages() error {
	if s.job.Book == nil {
		return nil
	}
	ids, err := s.job.Book.Scans()
	if err != nil {
		return err
	}
	for i := len(ids) - 1; i >= 0; i-- {
		last, err := findings.Read(s.job, ids[i])
		if err != nil || last.Sample > 0 || last.Named > 0 {
			continue // one that cannot be read has no pages to tell of
		}
		var l crawlLine
		err = last.EachPage(func(p findings.ScannedPage) error {
			if p.Kind == "" && s.own(p.URL) == p.URL {
				s.add(&l, fetch.Job{URL: p.URL, Depth: 1})
			}
			return nil
		})
		s.take(l)
		return err
	}
	return nil
}
