// Package pieces tells how likely a text builds an address that no text contains as a whole: code
// builds it from an option, a constant, a folder and a name. It scores the parts of the address that
// are close to each other, the markup around the address in the page, and signs of concatenation.
package pieces

import (
	"bytes"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Hit is one line of a text that may make an address, or a part of one.
type Hit struct {
	Offset   int  // of the first piece
	Score    int  // the higher, the likelier; at least Least
	Joined   bool // pieces of different kinds are put together here, and not only named
	HostOnly bool // nothing but the host, and perhaps the scheme, stands here
}

// Least is the score below which a line says nothing.
const Least = 14

// Wanted is an address whose origin is looked for. Make it with New.
type Wanted struct {
	tails  []string // the path, and its ends at slashes, the longest first
	file   string   // the name at its end
	stem   string   // that without its ending
	ending string   // with the dot
	dirs   []string
	hosts  []string // the host, and what is left of it without www
	query  []string
	around []string // words that stood around the address
	path   string
	any    []string // pieces of which a text must have one
}

// common are names that say little of where they come from.
var common = []string{"index", "main", "style", "styles", "script", "scripts", "image", "images", "default", "page", "http", "https", "class", "title", "width", "height", "style", "alt", "src", "href", "span", "div", "link", "meta", "rel", "content", "type", "stylesheet", "text", "wp-content", "uploads", "themes", "plugins", "assets", "media"}

// word is a word of markup that may tell one template from another.
var word = regexp.MustCompile(`[\pL\pN][\pL\pN_-]{4,40}`)

// New takes an address apart. around is the markup in which a page has it; it may be empty.
func New(u *url.URL, around string) *Wanted {
	w := &Wanted{}
	host := strings.ToLower(u.Host)
	w.path = strings.Trim(u.Path, "/")
	w.hosts = append(w.hosts, host)
	if bare, ok := strings.CutPrefix(host, "www."); ok {
		w.hosts = append(w.hosts, bare)
	}
	segments := strings.FieldsFunc(u.Path, func(c rune) bool { return c == '/' })
	for n := range segments {
		w.tails = append(w.tails, strings.Join(segments[n:], "/"))
	}
	if len(segments) > 0 {
		w.file = segments[len(segments)-1]
		w.ending = path.Ext(w.file)
		w.stem = strings.TrimSuffix(w.file, w.ending)
		w.dirs = segments[:len(segments)-1]
	}
	for name, values := range u.Query() {
		w.query = append(w.query, name)
		for _, v := range values {
			if len(v) >= 4 {
				w.query = append(w.query, v)
			}
		}
	}
	slices.Sort(w.query)
	own := strings.ToLower(u.String())
	for _, one := range word.FindAllString(around, 40) {
		if low := strings.ToLower(one); !strings.Contains(own, low) && !slices.Contains(common, low) && !slices.Contains(w.around, one) && len(w.around) < 12 {
			w.around = append(w.around, one)
		}
	}
	if len(w.file) >= 4 && w.ending != "" {
		w.any = append(w.any, w.file)
	}
	if len(w.stem) >= 4 {
		w.any = append(w.any, w.stem)
	}
	for _, d := range w.dirs {
		if len(d) >= 4 && !slices.Contains(common, strings.ToLower(d)) {
			w.any = append(w.any, d)
		}
	}
	for _, h := range w.hosts {
		if h != "" {
			w.any = append(w.any, h)
		}
	}
	for _, q := range w.query {
		if len(q) >= 6 {
			w.any = append(w.any, q)
		}
	}
	return w
}

// glue are signs that a line puts text together.
var glue = regexp.MustCompile(`['"]\s*[.+]\s*[$\w'"(\[]|[\w)\]'"}]\s*[.+]\s*['"]|printf|implode|\bjoin\b|concat|\$\{|\{\{|%[sd]|\{\$|#\{|base_url|home_url|site_url|_uri\b|_url\b|<base\b|\?>`)

// scheme are ways in which the scheme alone is written.
var scheme = regexp.MustCompile(`(?i)['"]https?(:|['"])|https?:|<base\b`)

// reach is how many lines around one belong to it.
const reach = 3

// Find returns the likeliest lines of a text, the likeliest first, most at the most.
func (w *Wanted) Find(b []byte, most int) (hits []Hit) {
	if !w.may(b) {
		return nil
	}
	type line struct{ start, end int }
	var lines []line
	for start := 0; start < len(b); {
		end := len(b)
		if n := bytes.IndexByte(b[start:], '\n'); n >= 0 {
			end = start + n
		}
		// Long lines are looked at in parts, which overlap.
		for ; end-start > 4*part; start += 3 * part {
			lines = append(lines, line{start, start + 4*part})
		}
		lines = append(lines, line{start, end})
		start = end + 1
	}
	scores := map[int]score{}
	at := func(i int) score {
		if i < 0 || i >= len(lines) {
			return score{}
		}
		s, ok := scores[i]
		if !ok {
			s = w.score(b[lines[i].start:lines[i].end])
			scores[i] = s
		}
		return s
	}
	for i, l := range lines {
		if !w.may(b[l.start:l.end]) {
			continue
		}
		s := at(i)
		if s.path+s.host+s.query < Least/2 {
			continue
		}
		all := s
		for d := 1; d <= reach; d++ {
			all.add(at(i - d))
			all.add(at(i + d))
		}
		if sum := s.sum() + (all.sum()-s.sum())/2; sum >= Least {
			kinds := 0
			for _, n := range []int{all.path, all.host, all.scheme} {
				if n > 0 {
					kinds++
				}
			}
			hits = append(hits, Hit{Offset: l.start + max(s.at, 0), Score: sum, Joined: all.glue && kinds > 1 || s.path > 0 && s.glue, HostOnly: all.path+all.query == 0})
		}
	}
	slices.SortStableFunc(hits, func(a, b Hit) int { return b.Score - a.Score })
	return hits[:min(most, len(hits))]
}

// Near returns how much of what stood around the address stands around an offset of a text, up to 20.
func (w *Wanted) Near(b []byte, offset int) (n int) {
	if len(w.around) == 0 {
		return 0
	}
	offset = min(max(offset, 0), len(b))
	text := b[max(0, offset-nearby):min(len(b), offset+nearby)]
	for _, a := range w.around {
		if bytes.Contains(text, []byte(a)) {
			n += 4
		}
	}
	return min(n, 20)
}

// nearby is how many bytes on either side are around an offset.
const nearby = 400

// Locate returns where the address stands in a text, at or after from, as far as its last piece tells;
// from itself where it does not.
func (w *Wanted) Locate(b []byte, from int) int {
	piece := w.file
	if len(piece) < 3 {
		piece = w.hosts[0]
	}
	if n := bytes.Index(b[min(from, len(b)):], []byte(piece)); n >= 0 {
		return from + n
	}
	return from
}

// part is how much of a long line is looked at at once, a quarter of it.
const part = 500

// may reports whether a text has a piece at all.
func (w *Wanted) may(b []byte) bool {
	return slices.ContainsFunc(w.any, func(p string) bool { return bytes.Contains(b, []byte(p)) })
}

// score is what a line has of an address, in points.
type score struct {
	path, host, scheme, query, around int
	glue                              bool
	at                                int // the first piece
}

func (s score) sum() int {
	n := s.path + s.host + s.scheme + s.query + s.around
	if s.glue {
		n += 6
	}
	return n
}

// add adds what a line close by has, where the line itself has none of it.
func (s *score) add(o score) {
	s.path, s.host, s.scheme, s.query = max(s.path, o.path), max(s.host, o.host), max(s.scheme, o.scheme), max(s.query, o.query)
	s.around = max(s.around, o.around)
	s.glue = s.glue || o.glue
}

// score looks at one line.
func (w *Wanted) score(raw []byte) (s score) {
	line := raw
	if bytes.Contains(line, []byte(`\/`)) {
		line = bytes.ReplaceAll(line, []byte(`\/`), []byte("/"))
	}
	line = w.without(line)
	s.at = -1
	has := func(piece string) bool {
		n := wordAt(line, piece)
		if n < 0 {
			return false
		}
		if i := bytes.Index(raw, []byte(piece)); i >= 0 && (s.at < 0 || i < s.at) {
			s.at = i
		}
		return true
	}
	left := w.dirs
	for n, tail := range w.tails {
		if len(tail) >= 4 && has(tail) {
			s.path = 25 + 10*(len(w.tails)-n-1)
			left = w.dirs[:n]
			break
		}
	}
	if s.path == 0 && len(w.stem) >= 4 && has(w.stem) {
		s.path = 14
		if slices.Contains(common, strings.ToLower(w.stem)) {
			s.path = 5
		}
	}
	for _, d := range left {
		if len(d) >= 3 && has(d) {
			s.path += 5
		}
	}
	if s.path < 25 && w.ending != "" && bytes.Contains(line, []byte(w.ending)) {
		s.path += 2
	}
	for i, h := range w.hosts {
		if n := wordAt(line, h); n >= 0 && (n == 0 || line[n-1] != '.' && line[n-1] != '-') && has(h) {
			s.host = 18 - 4*i
			break
		}
	}
	if s.path+s.host > 0 && scheme.Match(line) {
		s.scheme = 8
	}
	for _, q := range w.query {
		if has(q) {
			s.query += 4
		}
	}
	for _, a := range w.around {
		if bytes.Contains(line, []byte(a)) {
			s.around = min(s.around+4, 20)
		}
	}
	s.glue = glue.Match(line)
	return s
}

// address is a whole address with its host and path, up to where something is put in.
var address = regexp.MustCompile("(?i)\\bhttps?://([^\\s\"'<>()\\\\${}%`/?#]+)(/[^\\s\"'<>()\\\\${}%`?#]*)?")

// without takes whole addresses out of a line that are no beginning of the wanted one: they stand there
// for themselves.
func (w *Wanted) without(line []byte) []byte {
	found := address.FindAllSubmatchIndex(line, -1)
	if found == nil {
		return line
	}
	var out []byte
	from := 0
	for _, m := range found {
		host, path := strings.ToLower(string(line[m[2]:m[3]])), ""
		if m[4] >= 0 {
			path = strings.Trim(string(line[m[4]:m[5]]), "/")
		}
		if host == w.hosts[0] && strings.HasPrefix(w.path, path) {
			continue
		}
		out = append(out, line[from:m[0]]...)
		out = append(out, ' ')
		from = m[1]
	}
	return append(out, line[from:]...)
}

// wordAt finds a piece that stands by itself, and not inside a longer word; -1: there is none.
func wordAt(line []byte, piece string) int {
	if piece == "" {
		return -1
	}
	letter := func(c byte) bool {
		return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
	}
	for from := 0; ; {
		n := bytes.Index(line[from:], []byte(piece))
		if n < 0 {
			return -1
		}
		n += from
		end := n + len(piece)
		if (n == 0 || !letter(line[n-1]) || !letter(piece[0])) && (end == len(line) || !letter(line[end]) || !letter(piece[len(piece)-1])) {
			return n
		}
		from = n + 1
	}
}
