// Package rewrite turns one stored value into the edits that make its insecure
// references secure, and says what it left alone and why. It joins addresses,
// references and envelopes with the rules of the job.
//
// Three things always hold: rewriting twice equals rewriting once; taking the
// edits back gives the input, byte for byte; bytes outside the edits are equal. And a
// net stands under them: no edit is made inside of something that says how long it is, or what
// it hashes to, and is not sealed with it.
package rewrite

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"trimlantern/core/address"
	"trimlantern/core/beside"
	"trimlantern/core/envelope"
	"trimlantern/core/markup"
	"trimlantern/core/reference"
	"trimlantern/core/seek"
	"trimlantern/core/text"
)

// Verdict is what is known of another host.
type Verdict uint8

// The verdicts.
const (
	Unknown  Verdict = iota // nobody asked, or unknown
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
	// Rewritten, where set, is told of each reference that is rewritten.
	Rewritten func(Finding)
	// Replace, where set, is asked for each reference, by its URL in plain spelling: it returns the URL, which
	// must be secure, that is to stand in its place. Nil, or ok == false: none.
	Replace func(url string) (by string, ok bool)
	// Relative has the site's own references written from the path on, without scheme and host, where markup or a
	// style sheet loads them, links to them or sends to them. All others become secure as ever.
	Relative bool
	// Edit, where set, is asked for each text that a value holds, decoded, by its path; for the value as a whole the
	// path is "". It returns the text that is to stand in its place; what encloses it is sealed again. References in
	// the new text are left as they are.
	Edit func(path string, b []byte) (by []byte, ok bool)
	// Hashed are the values with a hash beside them whose keys are known: they are sealed
	// again. All others are left.
	Hashed []envelope.Hashed
}

// Edit replaces bytes of a value.
type Edit = text.Edit

// Apply makes the edits; see text.Apply.
func Apply(b []byte, edits []Edit) ([]byte, error) { return text.Apply(b, edits) }

// AppendApplied makes the edits in memory that is there; see text.AppendApplied.
func AppendApplied(out, b []byte, edits []Edit) ([]byte, error) {
	return text.AppendApplied(out, b, edits)
}

// Invert returns the edits that take edits back.
func Invert(edits []Edit) []Edit { return text.Invert(edits) }

// AppendInverted appends the edits that take edits back; see text.AppendInverted.
func AppendInverted(back, edits []Edit) []Edit { return text.AppendInverted(back, edits) }

// Finding is one insecure reference, or one value, that was left alone. Its texts are
// valid UTF-8: what was not is shown as \xHH.
type Finding struct {
	Reason Reason
	Host   string // "" where the finding is about a value
	URL    string
	Path   string // inside the value
	Offset int    // in the value; of what holds it, where that is an envelope
	Use    markup.Use
	Note   string
	By     string // of a reference that is rewritten: the URL that replaces it; "": it becomes secure
}

// Result is what became of one value.
type Result struct {
	Edits      []Edit      // in order, not overlapping
	References int         // how many references become secure
	Edited     int         // how many texts were replaced: see Rules.Edit
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

// Candidates looks for the places in a long text where a reference may be, an envelope that can hold one, or an address in
// pieces.
type Candidates struct {
	b                     []byte
	scheme, coded, packed int // the next of each kind; len(b): none
	piece                 int
	plain                 bool
}

// NewCandidates begins at the beginning of b.
func NewCandidates(b []byte) Candidates {
	c := candidatesIn(b, !hidden(b))
	c.piece = -1
	return c
}

func candidatesIn(b []byte, plain bool) Candidates {
	return Candidates{b: b, scheme: -1, coded: -1, packed: -1, piece: len(b), plain: plain}
}

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
	if c.packed < start {
		if c.packed = envelope.NextPacked(c.b, start); c.packed < 0 {
			c.packed = len(c.b)
		}
	}
	if c.piece < start {
		if c.piece = nextPieceMark(c.b, start, false); c.piece < 0 {
			c.piece = len(c.b)
		}
	}
	return c.scheme < end || c.coded < end || c.packed < end || c.piece < end || !c.plain && hidden(c.b[start:end])
}

// MayHold reports whether a value can hold a reference, in whatever envelope, or an address in pieces: a
// first look, which costs about what finding a few letters costs.
func MayHold(b []byte) bool { return mayHold(b) || hasPieceMark(b) }

// mayHold is MayHold for whole references.
func mayHold(b []byte) bool {
	return reference.MayHave(b) || envelope.NextBase64(b, 0) >= 0 || envelope.NextPacked(b, 0) >= 0 || hidden(b)
}

// hidden reports whether a value may hold something compressed, or in UTF-16.
func hidden(b []byte) bool {
	b = b[seek.Plain(b):]
	return !utf8.Valid(b) || bytes.IndexByte(b, 0) >= 0
}

// Value works out the edits of one value.
func (r *Rules) Value(b []byte) Result {
	if r.Edit != nil {
		if by, ok := r.Edit("", b); ok {
			return Result{Edits: instead(b, by), Edited: 1}
		}
	}
	if r.lone(b) {
		return Result{Edits: loneEdit(), References: 1, Hosts: []HostCount{{r.Site.Host, 1}}}
	}
	may := mayHold(b)
	if !may && !hasPieceMark(b) && !mayBeBroken(b) {
		return Result{}
	}
	w := newWorker(r, b)
	w.pieces(b, nil)
	if !may && bytes.IndexByte(b, '%') < 0 && !mayBeBroken(b) {
		return w.res
	}
	return w.finish(w.open(b, nil, 0))
}

// File works out the edits of what a file holds. name tells by its ending whether it is a
// style sheet or a script. Serialized values, JSON and base64 in it are sealed too.
func (r *Rules) File(name string, b []byte) Result {
	w := newWorker(r, b)
	w.pieces(b, nil)
	if kind := envelope.Binary(b); kind != "" {
		w.closed(b, nil, Binary, kind)
		return w.finish(nil)
	}
	return w.finish(w.inside(b, &place{file: name}, 0))
}

// instead is the edit that puts one text in the place of another; none where they are equal.
func instead(b, by []byte) []Edit {
	if bytes.Equal(b, by) {
		return nil
	}
	return []Edit{{Removed: string(b), Inserted: string(by)}}
}

type worker struct {
	rules *Rules
	res   Result
	told  []Finding // for Rewritten
	// quiet says that nobody is to be told, and nothing to be made: only found out whether
	// there is something to change.
	quiet, found bool
	// budget is how many more bytes may be looked at in trying to read envelopes that may be none.
	budget int
	// plain says that nothing odd is in the text that is read, nor in a part of it.
	plain bool
	mend  *repair // where serialized values are mended, and references stay; nil: where they are rewritten
}

// decoded is called where a text is read that is no part of the one before; what it returns, where
// that ends.
func (w *worker) decoded() func() {
	plain := w.plain
	w.plain = false
	return func() { w.plain = plain }
}

// hides reports whether something compressed, in UTF-16 or binary may be in a part of the text
// that is read.
func (w *worker) hides(b []byte) bool { return !w.plain && odd(b) }

// odd is hidden, or reports control characters that no text holds.
func odd(b []byte) bool { return !envelope.IsPlain(b) }

func newWorker(r *Rules, b []byte) *worker {
	return &worker{rules: r, budget: 16*len(b) + 1<<16, plain: !odd(b)}
}

func (w *worker) finish(edits []Edit) Result {
	w.res.Edits = edits
	if w.rules.Rewritten != nil {
		for _, f := range w.told {
			w.rules.Rewritten(f)
		}
	}
	return w.res
}

// state is what a worker has come to, to go back to where an envelope turns out not to
// be one that can be sealed.
type state struct {
	res    Result
	told   int
	failed error
}

func (w *worker) save() state {
	s := state{res: w.res, told: len(w.told)}
	if w.mend != nil {
		s.failed = w.mend.err
	}
	s.res.Hosts = slices.Clone(w.res.Hosts)
	return s
}

func (w *worker) restore(s state) {
	w.res, w.told = s.res, w.told[:s.told]
	if w.mend != nil {
		w.mend.err = s.failed
	}
}

// refuse restores the state from before an envelope was opened and reports why it is left. pos is
// its offset in the text at the given place.
func (w *worker) refuse(before state, at *place, pos int, why Reason, note string) {
	w.restore(before)
	if w.mend != nil {
		w.mend.failed(envelope.ErrNoReading)
		return
	}
	w.left(Finding{Reason: why, Path: at.path(), Offset: at.offset(pos), Note: note})
}

func (w *worker) left(f Finding) {
	if w.mend != nil {
		return // of what it cannot mend it tells itself
	}
	f.Path, f.URL, f.Host, f.Note = text.Show(strings.TrimSpace(f.Path)), text.Show(f.URL), text.Show(f.Host), text.Show(f.Note)
	w.res.Left = append(w.res.Left, f)
}

// place is where a text stands inside the whole value. Its words are put together
// only when a finding wants them.
type place struct {
	up    *place
	pos   int                  // where it stands in up; of the whole, in the value
	label string               // what kind of envelope opens here, or ""
	php   *envelope.Serialized // what the text stands in, or nil
	text  envelope.Text
	file  string        // its name, of a file as a whole
	json  func() string // how to get here inside a JSON document, or nil
	use   markup.Use    // what a page does with what stands here; Text: nothing is known
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

// offset returns where in the value something stands that begins at p of the text here.
func (p *place) offset(at int) int {
	for ; p != nil && p.file == ""; p = p.up {
		at = p.pos
	}
	return at
}

// name returns the key or field that holds the text. An item of a list is called
// like the list.
func (p *place) name() string {
	for ; p != nil; p = p.up {
		if p.file != "" {
			return p.file
		}
		for words := strings.FieldsFunc(p.step(), func(c rune) bool { return strings.ContainsRune("[].->", c) }); len(words) > 0; words = words[:len(words)-1] {
			if w := words[len(words)-1]; w[0] < '0' || w[0] > '9' {
				return w
			}
		}
	}
	return ""
}

// useAbove returns what a page does with what stands here, as what encloses it tells.
func (p *place) useAbove() markup.Use {
	for ; p != nil; p = p.up {
		if p.use != markup.Text {
			return p.use
		}
	}
	return markup.Text
}

// opener opens a value that is an envelope as a whole. ok == false: it only looked
// like one of its kind.
type opener struct {
	looks func(w *worker, b []byte) bool
	open  func(w *worker, b []byte, at *place, depth int) (edits []Edit, ok bool)
}

// wholes is the one table of envelopes that are a whole value: how each is recognised
// and opened. To add one, add a row and its opener. What stands inside a text is found by
// inside.
var wholes []opener

func init() { // not an initializer: openers open what is inside by the table
	wholes = []opener{
		{func(_ *worker, b []byte) bool { return envelope.LooksSerialized(b) }, (*worker).openPHP},
		{func(_ *worker, b []byte) bool { return envelope.LooksJSON(b) }, (*worker).openJSON},
		{func(w *worker, b []byte) bool { return w.mend != nil && isCoded(b) }, (*worker).openCoded},
		{(*worker).hides, (*worker).openPacked}, // or in UTF-16
		{func(_ *worker, b []byte) bool { return envelope.Binary(b) != "" }, (*worker).openBinary},
		{func(_ *worker, b []byte) bool { return envelope.WasSerialized(b) }, (*worker).openBroken},
	}
}

// open works out the edits of b, which may hold a reference and stands at a place
// inside the whole value.
func (w *worker) open(b []byte, at *place, depth int) []Edit {
	if depth > maxDepth {
		w.left(Finding{Reason: TooDeep, Path: at.path(), Offset: at.offset(0), Note: fmt.Sprintf("more than %d envelopes", maxDepth)})
		return nil
	}
	if w.mend == nil && w.rules.lone(b) {
		w.found = true
		w.count(w.rules.Site.Host)
		w.res.References++
		return loneEdit()
	}
	for _, e := range wholes {
		if e.looks(w, b) {
			if edits, ok := e.open(w, b, at, depth); ok {
				return edits
			}
		}
	}
	return w.inside(b, at, depth)
}

// loneMax is the maximum length of a lone reference, short enough that no binary format applies.
const loneMax = 250

// loneBytes are the bytes that may follow its scheme.
var loneBytes = func() (t [256]bool) {
	for c := range 256 {
		t[c] = isAlnum(byte(c)) || strings.IndexByte("/.-_", byte(c)) >= 0
	}
	return t
}()

// lone reports whether a value is exactly one plain reference to the site, with no characters that
// could hold an envelope. Most stored references are like that, and the result is known without
// trying every layer.
func (r *Rules) lone(b []byte) bool {
	const scheme = "http://"
	host := r.Site.Host
	end := len(scheme) + len(host)
	if len(b) > loneMax || len(b) < end || r.Site.Path != "" || r.Rewritten != nil || r.Replace != nil || r.Edit != nil || string(b[:len(scheme)]) != scheme || string(b[len(scheme):end]) != host || len(b) > end && b[end] != '/' {
		return false
	}
	for _, c := range b[len(scheme):] {
		if !loneBytes[c] {
			return false
		}
	}
	return envelope.NextBase64(b, 0) < 0
}

func loneEdit() []Edit { return []Edit{{Offset: len("http"), Inserted: "s"}} }

// openPHP re-seals a value that is serialized as it stands.
func (w *worker) openPHP(b []byte, at *place, depth int) ([]Edit, bool) {
	if w.mend != nil {
		return w.mendPHP(b, at, depth)
	}
	s, err := envelope.OpenPHP(b)
	if err != nil {
		if h, ok := envelope.NextHead(b, 0); ok && h.Start == 0 && h.Type != 0 { // slashed, or with entities
			f, cost, herr := h.Open(b)
			w.budget -= cost
			if herr == nil {
				defer f.Value.Done()
				edits := w.sealIn(&f.Region, f.Value, at, 0, depth)
				if f.End < len(b) {
					edits = append(edits, text.Shift(w.inside(b[f.End:], at, depth), f.End)...)
				}
				return edits, true
			}
		}
		w.unsound(b, at, 0, err)
		return nil, true
	}
	defer s.Done()
	before := w.save()
	edits := w.seal(b, s, at, depth)
	if s.End < len(b) {
		edits = append(edits, text.Shift(w.inside(b[s.End:], at, depth), s.End)...)
		t := reading{worker: w, b: b, at: at, edits: edits, closed: []beside.Span{{From: 0, To: s.End}}}
		edits = t.settled(before)
	}
	return edits, true
}

// openPacked opens a value that is compressed as a whole; it names one in UTF-16.
func (w *worker) openPacked(b []byte, at *place, depth int) ([]Edit, bool) {
	p, err := envelope.OpenPacked(b)
	if errors.Is(err, envelope.ErrTooLarge) {
		w.left(Finding{Reason: Unread, Path: at.path(), Offset: at.offset(0), Note: "compressed, " + err.Error()})
		return nil, true
	}
	if err == nil && p.Kind == "deflate" && readable(b) && !envelope.Stored(b) {
		return nil, false // which has no mark of its own: what can be read as it stands is not it
	}
	if err != nil {
		if t := envelope.FromUTF16(b); t != nil {
			w.closed(t, at, Unread, "text in UTF-16")
			return nil, true
		}
		return nil, false
	}
	if !w.may(p.Text) {
		return nil, true
	}
	before := w.save()
	defer w.decoded()()
	w.pieces(p.Text, &place{up: at, label: p.Kind})
	inner := w.open(p.Text, &place{up: at, label: p.Kind}, depth+1)
	if len(inner) == 0 {
		return nil, true
	}
	if after, err := Apply(p.Text, inner); err == nil {
		if sealed, ok := p.Seal(after); ok {
			return []Edit{{Removed: string(b), Inserted: string(sealed)}}, true
		}
	}
	w.refuse(before, at, 0, Unsealed, "compressed as "+p.Kind)
	return nil, true
}

// readable reports whether a reference to a name stands in b as it is.
func readable(b []byte) (found bool) {
	reference.Find(b, func(r reference.Reference) bool {
		found = strings.Contains(r.Host, ".")
		return !found
	})
	return found
}

// openBinary names binary content that holds something that would be rewritten, and what is
// compressed in a way that nobody reads.
func (w *worker) openBinary(b []byte, at *place, _ int) ([]Edit, bool) {
	kind := envelope.Binary(b)
	if envelope.IsCompressed(kind) && !w.holdsOurs(b) {
		w.left(Finding{Reason: Unread, Path: at.path(), Offset: at.offset(0), Note: kind})
		return nil, true
	}
	w.closed(b, at, Binary, kind)
	return nil, true
}

// openBroken names what was serialized before its beginning was damaged.
func (w *worker) openBroken(b []byte, at *place, _ int) ([]Edit, bool) {
	if w.mend != nil {
		return nil, false
	}
	w.unsound(b, at, 0, errors.New("its beginning cannot be read"))
	return nil, true
}

// closed names a text that may not be changed, where there is something to change in it.
func (w *worker) closed(b []byte, at *place, why Reason, note string) {
	if w.holdsOurs(b) {
		w.left(Finding{Reason: why, Path: at.path(), Offset: at.offset(0), Note: note})
	}
}

// holdsOurs reports whether a text holds something that would be rewritten.
func (w *worker) holdsOurs(b []byte) bool {
	if w.mend != nil {
		return false
	}
	rules := *w.rules
	rules.Rewritten = nil
	probe := &worker{rules: &rules, quiet: true, budget: 4*len(b) + 1<<16}
	probe.inside(b, nil, 0)
	w.found = w.found || probe.found
	return probe.found
}

// unsound reports a value that looks serialized and is not, where it holds
// something that would have been rewritten.
func (w *worker) unsound(b []byte, at *place, from int, err error) {
	if !w.holdsOurs(b) {
		return
	}
	f := Finding{Reason: Unsound, Path: at.path(), Offset: at.offset(from), Note: err.Error()}
	var ns *envelope.NotSound
	if errors.As(err, &ns) {
		f.Path, f.Note = strings.TrimSpace(at.path()+ns.Path), fmt.Sprintf("byte %d: %s", ns.Offset, ns.Why)
	}
	w.left(f)
}
