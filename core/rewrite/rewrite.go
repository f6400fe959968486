// Package rewrite turns one stored value into the edits that make its insecure
// references secure, and says what it left alone and why. It joins addresses,
// references and envelopes with the rules of the job.
//
// Three things always hold: rewriting twice equals rewriting once; taking the
// edits back gives the input, byte for byte; bytes outside the edits are equal.
package rewrite

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/envelope"
	"trimlantern/core/reference"
)

// Verdict is what is known of another host.
type Verdict uint8

// The verdicts.
const (
	Unknown  Verdict = iota // nobody asked, or it cannot be told
	Secure                  // serves the same thing over HTTPS
	Insecure                // does not
	Keep                    // the user decided to leave it
)

// Rules are what a rewriting goes by.
type Rules struct {
	Site address.Site
	// Verdict is asked for each other host that a page loads something from, with
	// the URL found. Nil: nothing is known.
	Verdict func(host, url string) Verdict
	// Rewritten, where set, is told of each reference that becomes secure.
	Rewritten func(Finding)
}

// Edit replaces bytes of a value. Offset counts in the value before.
type Edit struct {
	Offset   int    `json:"at"`
	Removed  string `json:"out,omitempty"`
	Inserted string `json:"in,omitempty"`
}

// Finding is one insecure reference, or one value, that was left alone.
type Finding struct {
	Reason Reason
	Host   string // "" where the finding is about a value
	URL    string
	Path   string // inside the value
	Offset int    // in the innermost text
	Use    reference.Use
	Note   string
}

// Result is what became of one value.
type Result struct {
	Edits      []Edit      // in order, not overlapping
	References int         // how many references become secure
	Hosts      []HostCount // the same by host
	Left       []Finding
}

// HostCount counts the references to one host.
type HostCount struct {
	Host  string `json:"host"`
	Count int    `json:"count"`
}

// maxDepth is how deep envelopes may nest in each other.
const maxDepth = 24

// Candidates looks for the places in a long text where a reference, or base64
// that can hold one, may stand.
type Candidates struct {
	b             []byte
	scheme, coded int // the next of each kind; len(b): none
}

// NewCandidates begins at the beginning of b.
func NewCandidates(b []byte) Candidates { return Candidates{b: b, scheme: -1, coded: -1} }

// In reports whether there may be one in b[start:end]. start must not go back.
func (c *Candidates) In(start, end int) bool {
	if c.scheme < start {
		if c.scheme = reference.Next(c.b, start) - 1; c.scheme < 0 { // its last letter
			c.scheme = len(c.b)
		}
	}
	if c.coded < start {
		if c.coded = envelope.NextBase64(c.b, start); c.coded < 0 {
			c.coded = len(c.b)
		}
	}
	return c.scheme < end || c.coded < end
}

// MayHold reports whether a value can hold a reference, in whatever envelope: a
// first look, which costs about what finding four letters costs.
func MayHold(b []byte) bool {
	return reference.MayHave(b) || envelope.NextBase64(b, 0) >= 0
}

// Value works out the edits of one value.
func (r *Rules) Value(b []byte) Result {
	if !MayHold(b) {
		return Result{}
	}
	w := &worker{rules: r}
	edits := w.open(b, nil, 0)
	w.res.Edits = edits
	return w.res
}

// Text works out the edits of a text as it stands, without opening envelopes:
// what a file of code holds. Offsets of findings are those of b.
func (r *Rules) Text(b []byte) Result {
	w := &worker{rules: r}
	edits := w.text(b, nil)
	w.res.Edits = edits
	return w.res
}

type worker struct {
	rules *Rules
	res   Result
}

func (w *worker) left(f Finding) { w.res.Left = append(w.res.Left, f) }

// place is where a text stands inside the whole value. Its words are put together
// only when a finding wants them.
type place struct {
	up    *place
	label string               // what kind of envelope opens here, or ""
	php   *envelope.Serialized // what text stands in, or nil
	text  envelope.Text
	json  func() string // how to get here inside a JSON document, or nil
}

// step is how to get here from up; "": nowhere further.
func (p *place) step() string {
	switch {
	case p.php != nil:
		return p.php.Path(p.text)
	case p.json != nil:
		return p.json()
	}
	return ""
}

// path joins the steps down to the place.
func (p *place) path() string {
	if p == nil {
		return ""
	}
	s := p.up.path()
	if p.label != "" {
		s = strings.TrimPrefix(strings.TrimSpace(s+" → "+p.label), "→ ") + " "
	}
	return s + p.step()
}

// name returns the key or field that holds the text. An item of a list is called
// like the list.
func (p *place) name() string {
	for ; p != nil; p = p.up {
		for words := strings.FieldsFunc(p.step(), func(c rune) bool { return strings.ContainsRune("[].->", c) }); len(words) > 0; words = words[:len(words)-1] {
			if w := words[len(words)-1]; w[0] < '0' || w[0] > '9' {
				return w
			}
		}
	}
	return ""
}

// opener opens one kind of envelope. ok == false: the value only looked like one
// of its kind and is to be read as text.
type opener struct {
	looks func([]byte) bool
	open  func(w *worker, b []byte, at *place, depth int) (edits []Edit, ok bool)
}

// envelopes is the one table of envelopes that are a whole value: how each is
// recognised and opened. To add one, add a row and its opener. Serialized values
// and base64 inside a text are found by inside.
var envelopes []opener

func init() { // not an initializer: openers open what is inside by the table
	envelopes = []opener{
		{envelope.LooksSerialized, (*worker).openPHP},
		{envelope.LooksJSON, (*worker).openJSON},
		{envelope.LooksPercentSerialized, (*worker).openPercent},
		{envelope.LooksEntitySerialized, (*worker).openEntities},
	}
}

// open works out the edits of b, which may hold a reference and stands at a place
// inside the whole value.
func (w *worker) open(b []byte, at *place, depth int) []Edit {
	if depth > maxDepth {
		w.left(Finding{Reason: TooDeep, Path: strings.TrimSpace(at.path()), Note: fmt.Sprintf("more than %d envelopes", maxDepth)})
		return nil
	}
	for _, e := range envelopes {
		if e.looks(b) {
			if edits, ok := e.open(w, b, at, depth); ok {
				return edits
			}
		}
	}
	return w.inside(b, at, depth)
}

// openPHP re-seals a serialized value.
func (w *worker) openPHP(b []byte, at *place, depth int) ([]Edit, bool) {
	s, err := envelope.OpenPHP(b)
	if err != nil {
		if envelope.LooksEntitySerialized(b) {
			if edits, sound := w.openEntities(b, at, depth); sound {
				return edits, true
			}
		}
		w.unsound(b, at, err)
		return nil, true
	}
	defer s.Done()
	edits := w.seal(b, s, at, depth)
	if s.End < len(b) {
		edits = append(edits, shift(w.inside(b[s.End:], at, depth), s.End)...)
	}
	return edits, true
}

// seal rewrites the strings of an opened serialized value; each string's length
// follows its edits.
func (w *worker) seal(b []byte, s *envelope.Serialized, at *place, depth int) []Edit {
	var edits []Edit
	if len(s.Texts) > 1000 {
		edits = room(b, 2) // each with its length
	}
	candidates := NewCandidates(b)
	for _, t := range s.Texts {
		if !candidates.In(int(t.Start), int(t.End)) {
			continue
		}
		body := b[t.Start:t.End]
		here := &place{up: at, php: s, text: t}
		before := w.res // to go back to, where the string turns out to be left
		if t.Opaque || t.Key {
			before.Hosts = slices.Clone(before.Hosts)
		}
		var inner []Edit
		if t.Opaque {
			var safe bool
			if inner, safe = w.openPayload(body, here, depth+1); !safe {
				w.res = before
				w.left(Finding{Reason: Opaque, Path: strings.TrimSpace(here.path())})
				continue
			}
		} else {
			inner = w.open(body, here, depth+1)
		}
		if len(inner) == 0 {
			continue
		}
		if t.Key {
			if after, err := Apply(body, inner); err != nil || s.HasKey(t, string(after)) {
				w.res = before
				w.left(Finding{Reason: KeyTaken, Path: strings.TrimSpace(here.path())})
				continue
			}
		}
		if more := grown(inner, t.Escaped); more != 0 {
			digits := string(b[t.LenStart:t.LenEnd])
			n, err := strconv.Atoi(digits)
			if err != nil { // OpenPHP has read it
				panic(err)
			}
			edits = append(edits, Edit{int(t.LenStart), digits, strconv.Itoa(n + more)})
		}
		edits = join(edits, shift(inner, int(t.Start)))
	}
	return edits
}

// room makes room for the edits of a long text, so many for each scheme in it:
// growing takes twice as much.
func room(b []byte, each int) []Edit {
	if len(b) < 1<<20 {
		return nil
	}
	n := 0
	for p := reference.Next(b, 0); p >= 0; p = reference.Next(b, p) {
		n++
	}
	return make([]Edit, 0, each*n+8) // with the lengths around
}

// join returns a and b in one, with no second copy of a long b.
func join(a, b []Edit) []Edit {
	if len(a) < len(b)/64 {
		return slices.Insert(b, 0, a...)
	}
	return append(a, b...)
}

// openPayload rewrites what a class wrote by itself. Only serialized values in
// it can be re-sealed; anything else may have lengths that nobody else knows.
func (w *worker) openPayload(b []byte, at *place, depth int) (edits []Edit, safe bool) {
	safe = true
	p := 0
	for _, part := range embedded(b) {
		safe = safe && !w.holdsOurs(b[p:part.start])
		edits = append(edits, shift(w.seal(b[part.start:part.end], part.value, at, depth), part.start)...)
		p = part.end
	}
	return edits, safe && !w.holdsOurs(b[p:])
}

// holdsOurs reports whether a text holds something that would be rewritten.
func (w *worker) holdsOurs(b []byte) bool {
	quiet := *w.rules
	quiet.Rewritten = nil
	probe := &worker{rules: &quiet}
	return len(probe.text(b, nil)) > 0
}

// part is a serialized value inside a text.
type part struct {
	start, end int
	value      *envelope.Serialized
}

// embedded finds sound serialized values inside a text: in a session's data, in
// what a class writes, in a template. It tries no more than a few times the
// text's length.
func embedded(b []byte) (parts []part) {
	budget := 4*len(b) + 4096
	for p := 0; ; {
		i := bytes.IndexByte(b[p:], ':')
		if i < 0 || budget < 0 {
			return parts
		}
		start := p + i - 1
		p += i + 1
		if start < 0 || start > 0 && isWord(b[start-1]) || !envelope.LooksSerialized(b[start:]) {
			continue
		}
		s, err := envelope.OpenPHP(b[start:])
		if err != nil {
			var ns *envelope.NotSound
			if errors.As(err, &ns) {
				budget -= ns.Offset
			}
			continue
		}
		parts = append(parts, part{start, start + s.End, s})
		p = start + s.End
	}
}

func isWord(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z' || c == '_'
}

// inside rewrites a text: its references, and what it holds serialized or in
// base64.
func (w *worker) inside(b []byte, at *place, depth int) []Edit {
	var edits []Edit
	from := 0
	for _, part := range embedded(b) {
		edits = join(edits, w.withBase64(b, from, part.start, at, depth))
		edits = join(edits, shift(w.seal(b[part.start:part.end], part.value, at, depth), part.start))
		from = part.end
	}
	if from == 0 {
		return w.withBase64(b, 0, len(b), at, depth)
	}
	return join(edits, w.withBase64(b, from, len(b), at, depth))
}

// withBase64 rewrites b[from:to], its base64 too.
func (w *worker) withBase64(b []byte, from, to int, at *place, depth int) []Edit {
	edits := shift(w.text(b[from:to], at), from)
	if depth >= maxDepth {
		return edits
	}
	sorted := true
	for p := from; ; {
		mark := envelope.NextBase64(b[:to], p)
		if mark < 0 {
			break
		}
		p = mark + 1
		x, ok := envelope.OpenBase64(b[:to], mark, from)
		if p = max(p, x.End); !ok {
			continue
		}
		if !MayHold(x.Text) {
			continue
		}
		inner := w.open(x.Text, &place{up: at, label: "base64"}, depth+1)
		if len(inner) == 0 {
			continue
		}
		after, err := Apply(x.Text, inner)
		if err != nil {
			panic(err) // the edits were made for this text
		}
		sealed, raw := x.Seal(after), string(b[x.Start:x.End])
		same := 0
		for same < len(raw) && same < len(sealed) && raw[same] == sealed[same] {
			same++
		}
		edits = append(edits, Edit{x.Start + same, raw[same:], sealed[same:]})
		sorted = false
	}
	if !sorted {
		slices.SortFunc(edits, func(a, b Edit) int { return a.Offset - b.Offset })
	}
	return edits
}

// openPercent opens a serialized value that is percent-encoded all over.
func (w *worker) openPercent(b []byte, at *place, depth int) ([]Edit, bool) {
	edits, sound := w.openEncoded(b, at, depth, "percent", envelope.UnescapePercent)
	if !sound {
		w.unsound(b, at, errors.New("percent-encoded, and not sound"))
	}
	return edits, true
}

// openEntities opens a serialized value whose quotes are character references.
func (w *worker) openEntities(b []byte, at *place, depth int) ([]Edit, bool) {
	return w.openEncoded(b, at, depth, "entities", envelope.UnescapeEntities)
}

// openEncoded opens a serialized value that is written in escapes all over. It
// reports whether the value is sound to its end.
func (w *worker) openEncoded(b []byte, at *place, depth int, name string, decode func([]byte) envelope.Unescaped) (edits []Edit, sound bool) {
	u := decode(b)
	s, err := envelope.OpenPHP(u.Text)
	if err != nil || s.End < len(u.Text) {
		return nil, false
	}
	edits = w.seal(u.Text, s, &place{up: at, label: name}, depth+1)
	for i, e := range edits {
		from, to := u.Raw(e.Offset), u.Raw(e.Offset+len(e.Removed))
		edits[i] = Edit{from, string(b[from:to]), e.Inserted}
	}
	return edits, true
}

// grown returns by how many bytes edits lengthen a text. In an escaped text \xx
// counts as one byte.
func grown(edits []Edit, escaped bool) int {
	n := 0
	for _, e := range edits {
		n += len(e.Inserted) - len(e.Removed)
		if escaped {
			n += 2 * strings.Count(e.Removed, `\`)
		}
	}
	return n
}

func shift(edits []Edit, by int) []Edit {
	for i := range edits {
		edits[i].Offset += by
	}
	return edits
}

// unsound reports a value that looks serialized and is not, where it holds
// something that would have been rewritten.
func (w *worker) unsound(b []byte, at *place, err error) {
	quiet := *w.rules
	quiet.Rewritten = nil
	probe := &worker{rules: &quiet}
	if len(probe.text(b, at)) == 0 {
		w.res.Left = append(w.res.Left, probe.res.Left...)
		return
	}
	f := Finding{Reason: Unsound, Path: strings.TrimSpace(at.path()), Note: err.Error()}
	var ns *envelope.NotSound
	if errors.As(err, &ns) {
		f.Path, f.Offset = strings.TrimSpace(at.path()+ns.Path), ns.Offset
		f.Note = fmt.Sprintf("byte %d: %s", ns.Offset, ns.Why)
	}
	w.left(f)
}

// openJSON rewrites inside the strings of a JSON document. Nothing but the
// edits moves: how the document escapes its slashes stays as it is.
func (w *worker) openJSON(b []byte, at *place, depth int) ([]Edit, bool) {
	var texts []envelope.JSONText
	ok := envelope.OpenJSON(b, func(t envelope.JSONText) {
		if MayHold(b[t.Start:t.End]) {
			texts = append(texts, t)
		}
	})
	if !ok {
		return nil, false
	}
	at = &place{up: at, label: "JSON"}
	slashes := bytes.Contains(b, []byte(`\/`))
	var edits []Edit
	for _, t := range texts {
		u := envelope.UnescapeJSON(b, t.Start, t.End)
		if !MayHold(u.Text) {
			continue
		}
		for _, e := range w.open(u.Text, &place{up: at, json: t.Path}, depth+1) {
			from, to := u.Raw(e.Offset), u.Raw(e.Offset+len(e.Removed))
			edits = append(edits, Edit{from, string(b[from:to]), envelope.EscapeJSON(e.Inserted, slashes)})
		}
	}
	return edits, true
}

// text rewrites the references of a text that no envelope wraps.
func (w *worker) text(b []byte, at *place) []Edit {
	edits := room(b, 1)
	var uses *reference.Uses
	reference.Find(b, func(ref reference.Reference) bool {
		host, own := w.rules.Site.Host, w.rules.Site.Path == "" && ref.Host == w.rules.Site.Host && address.DefaultPort(ref.Port)
		var f Finding
		var tail string
		if !own || w.rules.Rewritten != nil {
			tail = ref.Tail(b)
			f = Finding{Host: strings.ToLower(ref.Host), URL: ref.Plain(b) + tail, Offset: ref.Start}
		}
		if !own {
			rel := w.rules.Site.Relate(ref.Host, ref.Port, tail)
			if host, own = f.Host, rel == address.Ours; own {
				if h, err := address.CanonicalHost(host); err == nil {
					host = h
				}
			} else {
				if uses == nil {
					u := reference.UsesOf(b, at.name())
					uses = &u
				}
				f.Use = uses.At(ref)
				if f.Reason = w.judge(rel, f, tail, ref.Port); f.Reason != "" {
					f.Path = strings.TrimSpace(at.path())
					w.left(f)
					return true
				}
			}
		}
		edits = append(edits, Edit{Offset: ref.SchemeEnd, Inserted: ref.Secure(b)})
		if ref.PortEnd > ref.PortStart {
			edits = append(edits, Edit{Offset: ref.PortStart, Removed: string(b[ref.PortStart:ref.PortEnd])})
		}
		w.count(host)
		w.res.References++
		if w.rules.Rewritten != nil {
			f.Path = strings.TrimSpace(at.path())
			w.rules.Rewritten(f)
		}
		return true
	})
	return edits
}

// count counts a reference to a host.
func (w *worker) count(host string) {
	for i := range w.res.Hosts {
		if w.res.Hosts[i].Host == host {
			w.res.Hosts[i].Count++
			return
		}
	}
	w.res.Hosts = append(w.res.Hosts, HostCount{host, 1})
}

// judge says why a reference that is not the site's own is left, or "" where it
// is to be rewritten.
func (w *worker) judge(rel address.Relation, f Finding, tail, port string) Reason {
	if f.Use == reference.Ident || f.Use != reference.Loads && reference.IsStandard(f.Host, tail) {
		return Standard
	}
	switch rel {
	case address.OtherPort:
		return OtherPort
	case address.OutsidePath:
		return Outside
	case address.Private:
		return Private
	}
	loaded := f.Use == reference.Loads || f.Use == reference.Maybe
	switch {
	case !loaded && rel == address.Subdomain:
		return Subdomain
	case !loaded && rel == address.LookAlike:
		return LookAlike
	case !loaded:
		return Linked
	case !address.DefaultPort(port):
		return NoHTTPS // a port of its own speaks one protocol
	}
	verdict := Unknown
	if w.rules.Verdict != nil {
		verdict = w.rules.Verdict(f.Host, f.URL)
	}
	switch {
	case verdict == Keep:
		return Kept
	case f.Use == reference.Maybe:
		return Possible
	case verdict == Secure:
		return ""
	case rel == address.Subdomain:
		return Subdomain // to name it is the nearer remedy
	case verdict == Insecure:
		return NoHTTPS
	}
	return NoVerdict
}

// Apply makes the edits. It returns an error where an edit does not fit the
// value: it is out of range, out of order, or what it removes is not there.
func Apply(b []byte, edits []Edit) ([]byte, error) {
	size := len(b)
	for _, e := range edits {
		size += len(e.Inserted) - len(e.Removed)
	}
	out := make([]byte, 0, max(size, 0))
	p := 0
	for _, e := range edits {
		if e.Offset < p || e.Offset > len(b) || len(e.Removed) > len(b)-e.Offset ||
			string(b[e.Offset:e.Offset+len(e.Removed)]) != e.Removed {
			return nil, fmt.Errorf("the edit at byte %d does not fit the value", e.Offset)
		}
		out = append(out, b[p:e.Offset]...)
		out = append(out, e.Inserted...)
		p = e.Offset + len(e.Removed)
	}
	return append(out, b[p:]...), nil
}

// Invert returns the edits that take edits back.
func Invert(edits []Edit) []Edit {
	back := make([]Edit, len(edits))
	moved := 0
	for i, e := range edits {
		back[i] = Edit{e.Offset + moved, e.Inserted, e.Removed}
		moved += len(e.Inserted) - len(e.Removed)
	}
	return back
}
