// Package rewrite turns one stored value into the edits that make its insecure
// references secure, and says what it left alone and why. It joins addresses,
// references and envelopes with the rules of the job.
//
// Three things always hold: rewriting twice equals rewriting once; taking the
// edits back gives the input, byte for byte; bytes outside the edits are equal.
package rewrite

import (
	"errors"
	"fmt"
	"maps"
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
	Edits      []Edit         // in order, not overlapping
	References int            // how many references become secure
	Hosts      map[string]int // the same by host
	Left       []Finding
}

// maxDepth is how deep envelopes may nest in each other.
const maxDepth = 24

// Value works out the edits of one value.
func (r *Rules) Value(b []byte) Result {
	if !reference.Has(b) {
		return Result{}
	}
	w := &worker{rules: r}
	edits := w.open(b, "", 0)
	w.res.Edits = edits
	return w.res
}

// Text works out the edits of a text as it stands, without opening envelopes:
// what a file of code holds. Offsets of findings are those of b.
func (r *Rules) Text(b []byte) Result {
	w := &worker{rules: r}
	edits := w.text(b, "")
	w.res.Edits = edits
	return w.res
}

type worker struct {
	rules *Rules
	res   Result
}

func (w *worker) left(f Finding) { w.res.Left = append(w.res.Left, f) }

// opener opens one kind of envelope. ok == false: the value only looked like one
// of its kind and is to be read as text.
type opener struct {
	looks func([]byte) bool
	open  func(w *worker, b []byte, path string, depth int) (edits []Edit, ok bool)
}

// envelopes is the one table of envelopes: how each is recognised and opened. To
// add one, add a row and its opener.
var envelopes []opener

func init() { // not an initializer: openers open what is inside by the table
	envelopes = []opener{
		{envelope.LooksSerialized, (*worker).openPHP},
		{envelope.LooksJSON, (*worker).openJSON},
	}
}

// open works out the edits of b, which stands at path inside the whole value.
func (w *worker) open(b []byte, path string, depth int) []Edit {
	if !reference.Has(b) {
		return nil
	}
	if depth > maxDepth {
		w.left(Finding{Reason: TooDeep, Path: path, Note: fmt.Sprintf("more than %d envelopes", maxDepth)})
		return nil
	}
	for _, e := range envelopes {
		if e.looks(b) {
			if edits, ok := e.open(w, b, path, depth); ok {
				return edits
			}
		}
	}
	return w.text(b, path)
}

// openPHP re-seals a serialized value: each string's length follows its edits.
func (w *worker) openPHP(b []byte, path string, depth int) ([]Edit, bool) {
	s, err := envelope.OpenPHP(b)
	if err != nil {
		w.unsound(b, path, err)
		return nil, true
	}
	var edits []Edit
	for _, t := range s.Texts {
		body := b[t.Start:t.End]
		if !reference.Has(body) {
			continue
		}
		at := path + s.Path(t)
		if t.Opaque && !envelope.LooksSerialized(body) {
			w.left(Finding{Reason: Opaque, Path: at})
			continue
		}
		before := w.res
		before.Left, before.Hosts = slices.Clone(before.Left), maps.Clone(before.Hosts)
		inner := w.open(body, at, depth+1)
		if len(inner) == 0 {
			continue
		}
		if t.Key {
			if after, err := Apply(body, inner); err != nil || s.HasKey(b, t, string(after)) {
				w.res = before
				w.left(Finding{Reason: KeyTaken, Path: at})
				continue
			}
		}
		if more := grown(inner, t.Escaped); more != 0 {
			digits := string(b[t.LenStart:t.LenEnd])
			n, err := strconv.Atoi(digits)
			if err != nil { // OpenPHP has read it
				panic(err)
			}
			edits = append(edits, Edit{t.LenStart, digits, strconv.Itoa(n + more)})
		}
		edits = append(edits, shift(inner, t.Start)...)
	}
	if s.End < len(b) {
		edits = append(edits, shift(w.text(b[s.End:], path), s.End)...)
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
func (w *worker) unsound(b []byte, path string, err error) {
	quiet := *w.rules
	quiet.Rewritten = nil
	probe := &worker{rules: &quiet}
	if len(probe.text(b, path)) == 0 {
		w.res.Left = append(w.res.Left, probe.res.Left...)
		return
	}
	f := Finding{Reason: Unsound, Path: path, Note: err.Error()}
	var ns *envelope.NotSound
	if errors.As(err, &ns) {
		f.Path, f.Offset = path+ns.Path, ns.Offset
		f.Note = fmt.Sprintf("byte %d: %s", ns.Offset, ns.Why)
	}
	w.left(f)
}

// openJSON rewrites inside the strings of a JSON document. Nothing but the
// edits moves: how the document escapes its slashes stays as it is.
func (w *worker) openJSON(b []byte, path string, depth int) ([]Edit, bool) {
	var texts []envelope.JSONText
	ok := envelope.OpenJSON(b, func(t envelope.JSONText) {
		if reference.Has(b[t.Start:t.End]) {
			texts = append(texts, t)
		}
	})
	if !ok {
		return nil, false
	}
	if path != "" {
		path += " → "
	}
	path += "JSON "
	var edits []Edit
	for _, t := range texts {
		u := envelope.UnescapeJSON(b, t.Start, t.End)
		for _, e := range w.open(u.Text, path+t.Path(), depth+1) {
			from, to := u.Raw(e.Offset), u.Raw(e.Offset+len(e.Removed))
			edits = append(edits, Edit{from, string(b[from:to]), envelope.EscapeJSON(e.Inserted)})
		}
	}
	return edits, true
}

// text rewrites the references of a text that no envelope wraps.
func (w *worker) text(b []byte, path string) []Edit {
	var edits []Edit
	var uses *reference.Uses
	reference.Find(b, func(ref reference.Reference) bool {
		tail := ref.Tail(b)
		f := Finding{Host: strings.ToLower(ref.Host), URL: ref.Text(b), Path: path, Offset: ref.Start}
		if rel := w.rules.Site.Relate(ref.Host, ref.Port, tail); rel != address.Ours {
			if uses == nil {
				u := reference.UsesOf(b)
				uses = &u
			}
			f.Use = uses.At(ref)
			if f.Reason = w.judge(rel, f, tail, ref.Port); f.Reason != "" {
				w.left(f)
				return true
			}
		}
		edits = append(edits, Edit{Offset: ref.SchemeEnd, Inserted: ref.Secure(b)})
		if ref.PortEnd > ref.PortStart {
			edits = append(edits, Edit{Offset: ref.PortStart, Removed: string(b[ref.PortStart:ref.PortEnd])})
		}
		host, err := address.CanonicalHost(ref.Host)
		if err != nil {
			host = ref.Host
		}
		if w.res.Hosts == nil {
			w.res.Hosts = map[string]int{}
		}
		w.res.Hosts[host]++
		w.res.References++
		if w.rules.Rewritten != nil {
			w.rules.Rewritten(f)
		}
		return true
	})
	return edits
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
