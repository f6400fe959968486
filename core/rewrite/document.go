package rewrite

import (
	"slices"
	"strconv"
	"strings"

	"trimlantern/core/beside"
	"trimlantern/core/envelope"
	"trimlantern/core/reference"
	"trimlantern/core/text"
)

// sealIn rewrites a serialized value that was read through layers.
func (w *worker) sealIn(r *text.Region, s *envelope.Serialized, at *place, pos, depth int) []Edit {
	if r.Stack.Plain() {
		return text.Shift(w.seal(r.Text, s, at, depth), r.Raw(0))
	}
	before := w.save()
	defer w.decoded()()
	here := &place{up: at, pos: pos, label: r.Stack.String()}
	edits, ok := r.Carry(w.seal(r.Text, s, here, depth+1))
	if !ok {
		w.refuse(before, at, pos, Unsealed, "written as "+r.Stack.String())
		return nil
	}
	return edits
}

// seal rewrites the strings of an opened serialized value; each string's length
// follows its edits.
func (w *worker) seal(b []byte, s *envelope.Serialized, at *place, depth int) []Edit {
	var edited inner
	var family *kin
	var start state
	if !w.quiet && w.mend == nil {
		family = phpKin(b, s)
	}
	if family != nil {
		start = w.save()
	}
	held := protectedContainers(b, s, family)
	pairs := phpTwins(b, s)
	var keys *keyring
	candidates := candidatesIn(b[:s.End], !w.hides(b[:s.End]))
	for i, t := range s.Texts {
		body := b[t.Start:t.End]
		if w.mend != nil && !mayBreak(body) || w.mend == nil && !candidates.In(int(t.Start), int(t.End)) {
			continue
		}
		here := &place{up: at, pos: int(t.Start), php: s, text: t}
		if w.mend == nil && held[int(t.Up)] {
			w.closed(body, here, Protected, "a hash or a signature stands beside it")
			continue
		}
		if w.mend == nil && pairs[i] {
			w.closed(body, here, Rule, noteTwin)
			continue
		}
		var before state
		if t.Opaque || t.Key {
			before = w.save()
		}
		var edits []Edit
		if t.Opaque && w.mend == nil {
			var safe bool
			if edits, safe = w.openPayload(body, here, depth+1); !safe {
				w.refuse(before, here, 0, Opaque, "")
				continue
			}
		} else {
			edits = w.open(body, here, depth+1)
		}
		if len(edits) == 0 {
			continue
		}
		if t.Key && w.mend == nil {
			if keys == nil {
				keys = phpKeys(w, b, s)
			}
			if !keys.free(i) {
				w.refuse(before, here, 0, KeyTaken, "")
				continue
			}
		}
		edited.set(i, edits)
	}
	raw, ok := family.settle(&edited)
	if !ok {
		w.refuse(start, at, 0, Unsealed, beside.ErrUnsettled.Error())
		return nil
	}
	edits := make([]Edit, 0, 2*len(edited)+len(raw)) // each with its length
	for _, e := range edited {
		edits = append(edits, lengthened(b, s.Texts[e.string], e.edits)...)
	}
	return beside.Merge(edits, raw)
}

// lengthened returns the edits of a string as those of what holds it, with that of its length.
func lengthened(b []byte, t envelope.Text, inner []Edit) (edits []Edit) {
	if more := grown(inner, t.Escaped); more != 0 {
		digits := string(b[t.LenStart:t.LenEnd])
		n, err := strconv.Atoi(digits)
		if err != nil { // OpenPHP has read it
			panic(err)
		}
		edits = append(edits, Edit{Offset: int(t.LenStart), Removed: digits, Inserted: strconv.Itoa(n + more)})
	}
	return join(edits, text.Shift(inner, int(t.Start)))
}

// keyring tells which keys of a document may be rewritten: those whose secure form is no
// other key's of the same array or object, before or after.
type keyring struct {
	after map[int]string         // what becomes of the keys that change, by their number
	owner map[int]int            // the container of each of them
	count map[int]map[string]int // how many keys of a container have a form, in the end
}

func (k *keyring) free(i int) bool { return k.count[k.owner[i]][k.after[i]] == 1 }

// keyed is one key: its number, its container, its text.
type keyed struct {
	number, owner int
	text          []byte
}

// newKeyring works out what becomes of each key.
func newKeyring(w *worker, keys []keyed) *keyring {
	k := &keyring{map[int]string{}, map[int]int{}, map[int]map[string]int{}}
	changing := map[int]bool{}
	for _, key := range keys {
		if after, ok := w.secured(key.text); ok {
			k.after[key.number], k.owner[key.number] = after, key.owner
			changing[key.owner] = true
		}
	}
	for _, key := range keys {
		if !changing[key.owner] {
			continue
		}
		form := string(key.text)
		if after, ok := k.after[key.number]; ok {
			form = after
		}
		if k.count[key.owner] == nil {
			k.count[key.owner] = map[string]int{}
		}
		k.count[key.owner][form]++
	}
	return k
}

// secured returns what would become of a key.
func (w *worker) secured(key []byte) (string, bool) {
	if !mayHold(key) {
		return "", false
	}
	rules := *w.rules
	rules.Rewritten = nil
	probe := &worker{rules: &rules, budget: 16*len(key) + 1<<12}
	edits := probe.open(key, nil, 1)
	if len(edits) == 0 {
		return "", false
	}
	after, err := Apply(key, edits)
	return string(after), err == nil
}

func phpKeys(w *worker, b []byte, s *envelope.Serialized) *keyring {
	var keys []keyed
	for i, t := range s.Texts {
		if t.Key {
			keys = append(keys, keyed{i, int(t.Up), b[t.Start:t.End]})
		}
	}
	return newKeyring(w, keys)
}

// openPayload rewrites what a class wrote by itself. Only serialized values in
// it can be re-sealed; anything else may have lengths that nobody else knows.
func (w *worker) openPayload(b []byte, at *place, depth int) (edits []Edit, safe bool) {
	safe = true
	p := 0
	for q := 0; ; {
		h, ok := envelope.NextHead(b, q)
		if !ok {
			break
		}
		q = h.Body + 1
		if h.Type == 0 || h.Start < p {
			continue
		}
		f, cost, err := h.Open(b)
		if w.budget -= cost; err != nil || w.budget < 0 {
			return nil, !w.holdsOurs(b) // what is in it cannot be sealed without it
		}
		safe = safe && !w.holdsOurs(b[p:h.Start])
		edits = append(edits, w.sealIn(&f.Region, f.Value, at, h.Start, depth)...)
		f.Value.Done()
		p, q = f.End, f.End
	}
	return edits, safe && !w.holdsOurs(b[p:])
}

// openJSON rewrites inside the strings of a JSON document. Nothing but the
// edits moves: how the document escapes its slashes stays as it is.
func (w *worker) openJSON(b []byte, at *place, depth int) ([]Edit, bool) {
	d := document{}
	if !envelope.OpenJSON(b, d.add) {
		return nil, false
	}
	return w.rewriteJSON(b, d, &place{up: at, label: "JSON"}, depth), true
}

// document gathers the strings of a JSON document.
type document struct{ texts, numbers []envelope.JSONText }

func (d *document) add(t envelope.JSONText) {
	if t.Number {
		d.numbers = append(d.numbers, t)
		return
	}
	d.texts = append(d.texts, t)
}

// jsonString is how the strings of JSON are written.
var jsonString, _ = text.Of(text.Step{Layer: text.Script, Stop: '"'})

// rewriteJSON rewrites the strings of a document, which were read.
func (w *worker) rewriteJSON(b []byte, d document, at *place, depth int) []Edit {
	texts := d.texts
	var edits []Edit // of what is sealed by a key
	var edited inner
	var keys *keyring
	sealed, known := w.sealedPairs(b, texts)
	var family *kin
	if !w.quiet && w.mend == nil {
		family = jsonKin(b, texts, d.numbers)
	}
	held := protectedObjects(b, texts, known, family)
	pairs := jsonTwins(b, texts)
	before := w.save()
	defer w.decoded()()
	for i, t := range texts {
		if !w.may(b[t.Start:t.End]) {
			continue
		}
		r := readString(b, t)
		if !w.may(r.Text) {
			continue
		}
		here := &place{up: at, pos: t.Start, json: t.Path}
		if p, ok := sealed[i]; ok {
			edits = append(edits, w.hashed(b, texts, p, here, depth)...)
			continue
		}
		if w.mend == nil && held[t.Object] {
			w.closed(r.Text, here, Protected, "a hash or a signature stands beside it")
			continue
		}
		if w.mend == nil && pairs[i] {
			w.closed(r.Text, here, Rule, noteTwin)
			continue
		}
		before := w.save()
		own := w.open(r.Text, here, depth+1)
		if len(own) == 0 {
			continue
		}
		if t.Key && w.mend == nil {
			if keys == nil {
				keys = jsonKeys(w, b, texts)
			}
			if !keys.free(i) {
				w.refuse(before, here, 0, KeyTaken, "")
				continue
			}
		}
		if _, ok := r.Carry(slices.Clone(own)); !ok {
			w.refuse(before, here, 0, Unsealed, "written as JSON")
			continue
		}
		edited.set(i, own)
	}
	raw, ok := family.settle(&edited)
	if !ok {
		w.refuse(before, at, 0, Unsealed, beside.ErrUnsettled.Error())
		return nil
	}
	for _, e := range edited {
		r := readString(b, texts[e.string])
		own, ok := r.Carry(e.edits)
		if !ok {
			w.refuse(before, at, 0, Unsealed, beside.ErrUnsettled.Error())
			return nil
		}
		edits = append(edits, own...)
	}
	return sorted(append(edits, raw...)) // a hash may be before its value
}

// pair is a value and the hash of it beside it, by the numbers of their strings.
type pair struct {
	value, hash int
	by          envelope.Hashed
}

// sealedPairs returns the values, by the numbers of their strings, whose hashes beside them are
// right and can be made again, and the objects that hold them: nothing else in these is protected.
func (w *worker) sealedPairs(b []byte, texts []envelope.JSONText) (pairs map[int]pair, objects map[int]bool) {
	for _, h := range w.rules.Hashed {
		values := map[int]int{} // by object
		for i, t := range texts {
			if t.Key && i+1 < len(texts) && !texts[i+1].Key && texts[i+1].Object == t.Object && string(b[t.Start:t.End]) == h.Value {
				values[t.Object] = i + 1
			}
		}
		if len(values) == 0 {
			continue
		}
		for i, t := range texts {
			v, ok := values[t.Object]
			if !ok || !t.Key || i+1 >= len(texts) || texts[i+1].Key || texts[i+1].Object != t.Object || string(b[t.Start:t.End]) != h.Hash {
				continue
			}
			value, sum := readString(b, texts[v]), readString(b, texts[i+1])
			if _, ok := h.Open(value.Text, sum.Text); ok {
				if pairs == nil {
					pairs, objects = map[int]pair{}, map[int]bool{}
				}
				pairs[v], objects[t.Object] = pair{v, i + 1, h}, true
			}
		}
	}
	return pairs, objects
}

func readString(b []byte, t envelope.JSONText) text.Region {
	return text.Open(b[:t.End], t.Start, jsonString, t.End-t.Start)
}

// hashed rewrites a value and makes its hash again.
func (w *worker) hashed(b []byte, texts []envelope.JSONText, p pair, at *place, depth int) []Edit {
	value, sum := readString(b, texts[p.value]), readString(b, texts[p.hash])
	plain, ok := p.by.Open(value.Text, sum.Text)
	if !ok || !w.may(plain) {
		return nil
	}
	before := w.save()
	inner := w.open(plain, &place{up: at, label: "sealed by a hash"}, depth+1)
	if len(inner) == 0 {
		return nil
	}
	if after, err := Apply(plain, inner); err == nil {
		newValue, newSum := p.by.Seal(after)
		one, okOne := value.Carry([]Edit{{Removed: string(value.Text), Inserted: newValue}})
		two, okTwo := sum.Carry([]Edit{{Removed: string(sum.Text), Inserted: newSum}})
		if okOne && okTwo {
			return append(one, two...)
		}
	}
	w.refuse(before, at, 0, Unsealed, "sealed by a hash")
	return nil
}

func jsonKeys(w *worker, b []byte, texts []envelope.JSONText) *keyring {
	var keys []keyed
	for i, t := range texts {
		if t.Key {
			r := readString(b, t)
			keys = append(keys, keyed{i, t.Object, r.Text})
		}
	}
	return newKeyring(w, keys)
}

// sealNames are names of fields that hold a hash or a signature of what stands beside them.
var sealNames = []string{"hash", "hmac", "mac", "sig", "sign", "signature", "checksum", "digest"}

// isSeal reports whether a field of this name and value is a hash or a signature of its siblings.
func isSeal(name, value []byte) bool {
	if len(name) < 3 || len(name) > 40 || len(value) < 16 || len(value) > 1024 {
		return false
	}
	n := strings.ToLower(strings.TrimLeft(string(name), "_\x00*"))
	for _, s := range sealNames {
		if n == s || len(n) > len(s) && strings.HasSuffix(n, s) && (strings.IndexByte("_-.", n[len(n)-len(s)-1]) >= 0 || name[len(name)-len(s)] < 'a') {
			return isDigest(value)
		}
	}
	return false
}

// isDigest reports whether b looks like a hash: hexadecimal digits, or base64 of as many
// bytes as hashes have.
func isDigest(b []byte) bool {
	hex, coded := true, true
	for _, c := range b {
		hex = hex && (c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f')
		coded = coded && (isAlnum(c) || strings.IndexByte("+/-_=", c) >= 0)
	}
	if hex {
		return len(b) >= 16 && len(b)%2 == 0
	}
	switch bare := strings.TrimRight(string(b), "="); len(bare) {
	case 22, 27, 38, 43, 64, 86:
		return coded
	default:
		return coded && len(bare) > 86 // RSA
	}
}

// protectedContainers returns the containers of a serialized value in which a hash or a
// signature stands beside the rest, and what is in them.
func protectedContainers(b []byte, s *envelope.Serialized, family *kin) map[int]bool {
	var held map[int]bool
	for i, t := range s.Texts {
		if t.Key && i+1 < len(s.Texts) {
			v := s.Texts[i+1]
			if v.Up == t.Up && !v.Key && v.NameStart == t.Start && isSeal(b[t.Start:t.End], b[v.Start:v.End]) && !family.explained(i+1) {
				if held == nil {
					held = map[int]bool{}
				}
				held[int(t.Up)] = true
			}
		}
	}
	if held != nil {
		for i, c := range s.Containers { // the outer ones come first
			if held[c.Up] {
				held[i] = true
			}
		}
	}
	return held
}

// protectedObjects does the same for the objects of a JSON document, but for those that are
// known.
func protectedObjects(b []byte, texts []envelope.JSONText, known map[int]bool, family *kin) map[int]bool {
	var held map[int]bool
	for i, t := range texts {
		if t.Key && i+1 < len(texts) {
			v := texts[i+1]
			if !v.Key && v.Object == t.Object && !known[t.Object] && isSeal(b[t.Start:t.End], b[v.Start:v.End]) && !family.explained(i+1) {
				if held == nil {
					held = map[int]bool{}
				}
				held[t.Object] = true
			}
		}
	}
	if held != nil {
		for _, t := range texts { // the outer ones come first
			if held[t.Parent] {
				held[t.Object] = true
			}
		}
	}
	return held
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

func isAlnum(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}
