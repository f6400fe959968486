package text

import (
	"bytes"
	"slices"
	"unicode/utf8"
)

// Stacks returns the stacks through which the character c may be written as what
// stands at b[start:end], the likeliest first: for \" a JSON string, for &quot; HTML,
// for %5C%22 a JSON string percent-encoded. Each stops at a c that is not escaped.
// Backslashes are taken for those of Script; see Variants.
func Stacks(b []byte, start, end int, c byte) []Stack {
	var found []Stack
	infer(b[start:end], c, Stack{}, &found)
	slices.SortStableFunc(found, func(x, y Stack) int { return x.unlike(b[start:end], c) - y.unlike(b[start:end], c) })
	return found
}

// unlike returns 1 where writing c through the stack does not give what is written, else 0.
func (s Stack) unlike(written []byte, c byte) int {
	again := []byte{c}
	r := Open(written, 0, s.Unstopped(), len(written))
	for i := int(s.n) - 1; i >= 0; i-- {
		source := written
		if i > 0 {
			source = r.levels[i-1].Text
		}
		like := styleOf(source, s.steps[i].Layer)
		again = encode(again, s.steps[i].Layer, &like)
	}
	if bytes.Equal(again, written) {
		return 0
	}
	return 1
}

// inferred are the layers that Stacks looks for. PHP's single quotes write backslashes twice,
// and the character as it is.
var inferred = []Layer{HTML, Percent, Script, Single}

// maxStacks bounds how many ways of reading one character are tried.
const maxStacks = 6

func infer(written []byte, c byte, s Stack, found *[]Stack) {
	if len(written) > 0 && written[0] == c {
		for _, f := range *found {
			if f == s {
				return
			}
		}
		*found = append(*found, s)
		return
	}
	if int(s.n) == MaxSteps || len(*found) >= maxStacks {
		return
	}
	for _, l := range inferred {
		step := Step{Layer: l, Stop: c}
		if l == Single {
			step.Stop = '\''
		}
		d, _ := decode(written, step, true)
		if !d.HasMemory() || d.Raw(len(d.Text)) < len(written) || len(d.Text) >= len(written) || len(d.Text) == 0 {
			continue
		}
		more, ok := s.with(int(s.n), step)
		if ok {
			infer(d.Text, c, more, found)
		}
	}
}

// look collects clues about the layers in which a text is written.
type look struct {
	has         [256]bool
	odd, quoted bool // a backslash before something that not all languages read alike
}

func (l *look) at(b []byte) {
	for i, c := range b {
		l.has[c] = true
		if c == '\\' && i+1 < len(b) {
			switch b[i+1] {
			case '"', '\\', '/':
			case '\'':
				l.odd, l.quoted = true, true
			default:
				l.odd = true
			}
		}
	}
}

// Variants returns the stacks that a text may be written through where s does not
// read it: with the backslashes of other languages, and with layers that show only where
// something was to be escaped. sample is the beginning of the text, as it stands in the source.
func (s Stack) Variants(sample []byte) (all []Stack) {
	r := Open(sample, 0, s, len(sample))
	seen := look{}
	seen.at(sample)
	for _, l := range r.levels {
		seen.at(l.Text)
	}
	add := func(v Stack, ok bool) {
		if ok {
			all = append(all, v)
		}
	}
	bases := []Stack{s}
	raw := hasBytes(sample) || slices.ContainsFunc(r.levels, func(d Decoded) bool { return hasBytes(d.Text) })
	if s.Has(Script) && (seen.odd || raw) {
		others := []Layer{SQL, Slashes, PHP}
		if raw { // SQL can read what Slashes writes
			others = []Layer{Slashes, SQL, PHP}
		}
		for _, l := range others {
			if l == PHP && seen.quoted {
				continue // nobody writes \' there
			}
			v := s
			for i := range v.steps[:v.n] {
				if v.steps[i].Layer == Script {
					v.steps[i].Layer = l
				}
			}
			bases = append(bases, v)
			all = append(all, v)
			if first := s; first.replaceFirst(Script, l) && first != v {
				all = append(all, first)
			}
		}
	}
	inside := int(s.n)
	if seen.has['\\'] && !s.Has(Script) {
		for _, l := range []Layer{Script, SQL, Single, Slashes} { // \n is a letter to the last alone
			add(s.with(inside, Step{Layer: l}))
			if inside > 0 {
				add(s.with(0, Step{Layer: l}))
			}
		}
	}
	if seen.has['\''] {
		all = append(all, s.Doubled()...)
	}
	if seen.has['&'] {
		for _, v := range bases {
			if v.n == 0 || v.steps[0].Layer != HTML {
				add(v.with(0, Step{Layer: HTML}))
			}
			if v.n > 0 && v.steps[v.n-1].Layer != HTML {
				add(v.with(int(v.n), Step{Layer: HTML}))
			}
		}
	}
	if seen.has['%'] && !s.Has(Percent) {
		add(s.with(0, Step{Layer: Percent, Stop: '"'}))
		if inside > 0 {
			add(s.with(inside, Step{Layer: Percent, Stop: '"'}))
		}
	}
	return all
}

// Doubled returns the stacks that are s inside of single quotes which double those in them, around all of it or
// inside of all.
func (s Stack) Doubled() (all []Stack) {
	for i := 0; i <= int(s.n); i += max(1, int(s.n)) {
		if v, ok := s.with(i, Step{Layer: Doubled}); ok {
			all = append(all, v)
		}
	}
	return all
}

// hasBytes reports whether b holds unescaped control characters or invalid UTF-8, which JSON never
// and scripts hardly ever contain.
func hasBytes(b []byte) bool {
	for _, c := range b {
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' {
			return true
		}
	}
	return !utf8.Valid(b)
}

// replaceFirst puts l where the first layer was stands.
func (s *Stack) replaceFirst(was, l Layer) bool {
	for i := range s.steps[:s.n] {
		if s.steps[i].Layer == was {
			s.steps[i].Layer = l
			return true
		}
	}
	return false
}
