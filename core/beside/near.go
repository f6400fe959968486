package beside

import (
	"bytes"
	"slices"
	"strings"
)

// Bounds of what is tried for one token.
const (
	lineMax = 8 << 10 // how long a line may be of which the rest is tried
	nearMax = 1 << 10 // how far from a token an address may be
	wholes  = 2       // for how many of the first and of the last tokens all of the text before or after is tried
	refsMax = 8       // how many addresses near a token are tried
)

// separators may be between a digest and the text that it is of.
const separators = " \t|,:;=*\"'->)]}({[/&?"

// fieldEnds end a field in a line.
const fieldEnds = " \t\r\n|,;\"'<>)&"

// digests makes the digests fit that are of an edited text.
func (s *settler) digests() (err error) {
	all := s.tokens()
	if len(all) == 0 {
		return nil
	}
	book := NewBook(all)
	tried := map[Span]bool{}
	for i, t := range all {
		if i > 0 && t.Start == all[i-1].Start { // the same digits, read in another way
			continue
		}
		for _, c := range s.near(t, i < wholes || i >= len(all)-wholes) {
			if tried[c] || !s.touched(c.From, c.To) {
				continue
			}
			tried[c] = true
			if s.budget -= c.To - c.From; s.budget < 0 {
				return nil
			}
			book.Match(s.b[c.From:c.To], func(k int, by *Algorithm) {
				token := all[k]
				if token.Start < c.To && token.End > c.From || !s.free(token.Start, token.End) {
					return
				}
				now, ok := s.after(c.From, c.To)
				if ok {
					now := by.Write(s.b, token, now)
					if ok = now != ""; ok {
						s.replace(token.Start, token.End, now)
					}
				}
				if !ok {
					err = ErrUnsettled
				}
			})
		}
	}
	return err
}

// tokens returns the tokens between the envelopes. One may be directly before an envelope.
func (s *settler) tokens() (all []Token) {
	from := 0
	for _, c := range append(slices.Clone(s.closed), Span{len(s.b), len(s.b)}) {
		for _, t := range Tokens(s.b[from:max(from, c.From)]) {
			t.Start, t.End = t.Start+from, t.End+from
			all = append(all, t)
		}
		from = max(from, c.To)
	}
	return all
}

// near returns the stretches of which a token may be a digest: what follows it and what precedes it, up to the end of the
// field, the line and, if whole, the text; and the addresses near it that have edits.
func (s *settler) near(t Token, whole bool) (all []Span) {
	b := s.b
	line := bytes.LastIndexByte(b[max(0, t.Start-lineMax):t.Start], '\n') + 1 + max(0, t.Start-lineMax)
	end := t.End
	if i := bytes.IndexByte(b[t.End:min(len(b), t.End+lineMax)], '\n'); i >= 0 {
		end += i
	} else {
		end = min(len(b), t.End+lineMax)
	}
	next := end + 1
	if end > t.End && b[end-1] == '\r' {
		end--
	}
	after := t.End
	for after < end && after-t.End < 8 && strings.IndexByte(separators, b[after]) >= 0 {
		after++
	}
	before := t.Start
	for before > line && t.Start-before < 8 && strings.IndexByte(separators, b[before-1]) >= 0 {
		before--
	}
	starts := []int{after}
	for _, p := range []int{t.End, t.End + 1, t.End + 2} {
		if p < after {
			starts = append(starts, p)
		}
	}
	for _, from := range starts {
		all = append(all, Span{from, end}, Span{from, fieldEnd(b, from, end)})
		if whole {
			all = append(all, Span{from, len(b)}, Span{from, trimmed(b, len(b))})
		}
	}
	ends := []int{before}
	for _, p := range []int{t.Start, t.Start - 1, t.Start - 2} {
		if p > before {
			ends = append(ends, p)
		}
	}
	for _, to := range ends {
		all = append(all, Span{line, to}, Span{fieldStart(b, line, to), to})
		if whole {
			all = append(all, Span{0, to})
		}
	}
	if whole {
		all = append(all, Span{0, line}, Span{0, trimmed(b, line)}, Span{next, len(b)}, Span{next, trimmed(b, len(b))})
	}
	if t.form == sixBits && t.Start > 3 && b[t.Start-1] == '-' {
		all = append(all, s.inline()...)
	}
	return append(all, s.addresses(t)...)
}

// trimmed is where the text before p ends without line breaks.
func trimmed(b []byte, p int) int {
	for p > 0 && (b[p-1] == '\n' || b[p-1] == '\r') {
		p--
	}
	return p
}

func fieldEnd(b []byte, p, limit int) int {
	for p < limit && strings.IndexByte(fieldEnds, b[p]) < 0 {
		p++
	}
	return p
}

func fieldStart(b []byte, limit, p int) int {
	for p > limit && strings.IndexByte(fieldEnds, b[p-1]) < 0 {
		p--
	}
	return p
}

// addresses returns the addresses near a token that have edits: up to the end of the field, and up to the end of an
// argument of a query.
func (s *settler) addresses(t Token) (all []Span) {
	first, last := s.within(t.Start-nearMax, t.End+nearMax)
	for i := first; i < last && len(all) < 2*refsMax; i++ {
		p := s.edits[i].Offset
		from := p
		for from > 0 && p-from < 4 && byteKinds[s.b[from-1]]&isLetter != 0 {
			from--
		}
		to := p
		for to < len(s.b) && to-p < nearMax && strings.IndexByte(" \t\r\n|,;\"'<>)", s.b[to]) < 0 {
			to++
		}
		all = append(all, Span{from, to})
		if cut := bytes.IndexByte(s.b[from:to], '&'); cut > 0 {
			all = append(all, Span{from, from + cut})
		}
	}
	return all
}

// inlineMax is how many inline scripts and style sheets of a text are tried.
const inlineMax = 32

// inline returns the contents of inline scripts and style sheets, of which a policy may hold digests (CSP §2.3.1).
func (s *settler) inline() (all []Span) {
	for _, element := range []string{"<script", "<style"} {
		for p := 0; len(all) < inlineMax; {
			i := bytes.Index(s.b[p:], []byte(element))
			if i < 0 {
				break
			}
			from := p + i
			open := bytes.IndexByte(s.b[from:], '>')
			if open < 0 {
				break
			}
			from += open + 1
			n := bytes.Index(s.b[from:], []byte("</"+element[1:]))
			if n < 0 {
				break
			}
			all = append(all, Span{from, from + n})
			p = from + n
		}
	}
	return all
}
