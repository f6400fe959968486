package alike

import (
	"slices"
	"strings"
)

// Difference is what one of two answers shows and the other one does not. A side that shows nothing in its place is "".
type Difference struct {
	Plain  string `json:"plain"`
	Secure string `json:"secure"`
}

// maxDifferences is how many differences of a page are told, longestShown how much of each, in bytes.
const (
	maxDifferences = 3
	longestShown   = 120
)

// Differences returns what a page shows over one scheme and never over the other: the first few of them. Each side was fetched
// several times, which tells what changes by itself:
//
//	the third photo of the day, 1,204 visitors, made in 0.12 s
//
// What was seen on the other side once does not count, and neither does what replaces something that changes there.
func Differences(plain, secure []Page) (all []Difference) {
	p, s := observe(plain), observe(secure)
	left, right := p.gaps(s), s.gaps(p)
	told := map[string]bool{}
	for _, at := range slices.Concat(p.order(), s.order()) {
		l, r := left[at], right[at]
		d := Difference{l.besides(r), r.besides(l)}
		if told[at] || d == (Difference{}) {
			continue
		}
		told[at] = true
		if all = append(all, d); len(all) == maxDifferences {
			break
		}
	}
	return all
}

func shorter(s string) string {
	if len(s) <= longestShown {
		return s
	}
	cut := longestShown
	for cut > 0 && s[cut]&0xc0 == 0x80 { // not inside of a character
		cut--
	}
	return s[:cut] + "…"
}

// observed is one side of a comparison: a page each time that it was fetched.
type observed struct {
	pages []Page
	times map[string]int // in how many of them a part was
}

func observe(pages []Page) *observed {
	o := &observed{pages, map[string]int{}}
	for _, p := range pages {
		once := map[string]bool{}
		for _, part := range p.parts {
			if !once[part] {
				once[part] = true
				o.times[part]++
			}
		}
	}
	return o
}

// stable reports whether a part was there each time.
func (o *observed) stable(part string) bool { return o.times[part] == len(o.pages) }

// order returns the parts as they come, after "", the beginning of the page.
func (o *observed) order() []string {
	if len(o.pages) == 0 {
		return []string{""}
	}
	return append([]string{""}, o.pages[0].parts...)
}

// gap is what one side shows between two parts that both show each time.
type gap struct {
	only   []string // each time, and never on the other side
	moving int      // how many parts that were not there each time, at most
}

// gaps returns what comes after each part that both sides show each time, up to the next.
func (o *observed) gaps(other *observed) map[string]gap {
	found := map[string]gap{}
	for i, p := range o.pages {
		last, moving := "", map[string]int{}
		for _, part := range p.parts {
			switch {
			case o.stable(part) && other.stable(part):
				last = part
			case !o.stable(part):
				moving[last]++
			case i == 0 && other.times[part] == 0:
				g := found[last]
				g.only = append(g.only, part)
				found[last] = g
			}
		}
		for at, n := range moving {
			g := found[at]
			g.moving = max(g.moving, n)
			found[at] = g
		}
	}
	return found
}

// besides is what this gap shows and the other side's does not. It is "" where the other side has as many parts that change: a
// cache may keep one of them.
func (g gap) besides(other gap) string {
	if len(g.only)+g.moving <= other.moving {
		return ""
	}
	return shorter(strings.Join(g.only, " "))
}
