package words

import (
	"fmt"

	"trimlantern/core/coverage"
)

// clauses is the one table of what it means that a clause of a verdict is open, besides how much was read.
var clauses = map[coverage.Clause]string{
	coverage.Scripts:  "scripts were not run on %s",
	coverage.Browser:  "the browser did not look at %s",
	coverage.Identity: "other visitors may see something else on %s",
	coverage.Walls:    "something is in the way of %s",
}

// Open says which clauses of a verdict are open besides how much was read: ", scripts were not run on 12 pages"; "" where
// none is.
func Open(c coverage.Summary) (out string) {
	for _, one := range c.Clauses {
		if says := clauses[one.Clause]; says != "" && one.Open > 0 {
			out += ", " + fmt.Sprintf(says, Count(one.Open, "page"))
		}
	}
	return out
}
