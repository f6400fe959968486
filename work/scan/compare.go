package scan

import (
	"slices"

	"trimlantern/work"
	"trimlantern/work/findings"
)

// compareWith reads the scan to compare with; nil where none is asked for.
func compareWith(j *work.Job, id string) (*findings.Scan, error) {
	if id == "" {
		return nil, nil
	}
	if j.Book == nil {
		return nil, work.BadUse(nil, "--compare needs a logbook", "run the scan without it")
	}
	ids, err := j.Book.Scans()
	if err != nil {
		return nil, work.BookFault(err)
	}
	if id == "last" {
		if len(ids) == 0 {
			return nil, nil // the first has nothing before it
		}
		id = ids[len(ids)-1]
	}
	if !slices.Contains(ids, id) {
		return nil, work.BadUse(nil, "there is no scan "+id, "trimlantern history lists them")
	}
	return findings.Read(j, id)
}

// compare holds the scan against an earlier one. What was found then and is not found now is gone only
// where each page that held it was looked at again.
func (s *scanning) compare(before *findings.Scan) (*findings.Comparison, error) {
	c := &findings.Comparison{With: before.ID, Time: before.Time, New: []findings.Culprit{}, Gone: []findings.Culprit{}, Still: []findings.Culprit{}, Unseen: []findings.Culprit{}, Then: before.Classes}
	then := map[culpritID]bool{}
	for _, one := range before.Culprits {
		then[culpritID{one.URL, one.Class}] = true
	}
	for _, one := range s.out.Culprits {
		if then[culpritID{one.URL, one.Class}] {
			c.Still = append(c.Still, one)
		} else {
			c.New = append(c.New, one)
		}
	}
	unseen := map[culpritID]bool{}
	err := before.EachPage(func(p findings.ScannedPage) error {
		if s.looked(p) {
			return nil
		}
		for _, f := range p.Findings {
			unseen[culpritID{f.URL, f.Class}] = true
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, one := range before.Culprits {
		id := culpritID{one.URL, one.Class}
		_, now := s.at[id]
		switch {
		case now:
		case unseen[id]:
			c.Unseen = append(c.Unseen, one)
		default:
			c.Gone = append(c.Gone, one)
		}
	}
	return c, nil
}

// looked reports whether a document of an earlier scan was looked at again, in the same way.
func (s *scanning) looked(p findings.ScannedPage) bool {
	if p.Kind == "browser" {
		return s.browsed[p.URL]
	}
	if s.ledger.Of(p.URL).Asked() {
		return true
	}
	// A part that was not asked for, because no page loads it any more.
	return p.Kind != "" && s.ledger.Of(p.URL) == "" && s.out.Complete()
}
