package rewrite

import (
	"bytes"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"trimlantern/core/address"
	"trimlantern/core/beside"
	"trimlantern/core/envelope"
	"trimlantern/core/markup"
	"trimlantern/core/reference"
	"trimlantern/core/text"
)

// inside rewrites a text: what it holds serialized, as JSON or in base64, in whatever
// spelling, and its references.
func (w *worker) inside(b []byte, at *place, depth int) []Edit {
	if w.rules.Edit != nil && at != nil && w.mend == nil {
		if by, ok := w.rules.Edit(strings.TrimSpace(at.path()), b); ok {
			w.res.Edited++
			return instead(b, by)
		}
	}
	t := &reading{worker: w, b: b, at: at, depth: depth, spelled: -1, raw: -1}
	if w.hides(b) {
		t.wild = envelope.Wild(b)
	}
	before := t.save()
	t.anchors()
	t.references(len(b))
	return t.settled(before)
}

// settled returns the edits with those of the lengths and digests in the text that they change; or none, if one of those
// cannot follow.
func (t *reading) settled(before state) []Edit {
	if t.quiet || len(t.edits) == 0 || t.wild {
		return t.edits
	}
	more, err := beside.Settle(t.b, t.edits, t.closed)
	if err != nil {
		t.refuse(before, t.at, 0, Unsealed, err.Error())
		return nil
	}
	return beside.Merge(t.edits, more)
}

// close notes where an envelope is that was sealed by itself.
func (t *reading) close(from, to int) { t.closed = append(t.closed, beside.Span{From: from, To: to}) }

// reading is the way through one text, from its beginning to its end: what is opened or held
// back on the way lies behind p.
type reading struct {
	*worker
	b     []byte
	at    *place
	depth int
	edits []Edit
	p     int // up to here everything is done

	closed []beside.Span // the envelopes that were sealed by themselves

	held     int          // where mending: so far a string reaches at least whose length fits in no reading
	uses     *markup.Uses // made when they are needed
	wild     bool         // the text is none: only what is sealed may be changed
	segment  span         // the segment that was looked at last, up to the last reference in it
	isBroken bool         // what was found out about it
	controls answer       // whether control characters are in the text
	markup   answer       // whether markup may be

	hiding       *bool // something that is not plain text is in b; nil: not looked yet
	lastEnd      int   // see lastStringEnd; 0: not looked yet
	spelled, raw int   // where the next compressed values may begin, spelled and as they are
}

// answer is what was found out about a text, once.
type answer uint8

const (
	unknown answer = iota
	no
	yes
)

func yesNo(is bool) answer {
	if is {
		return yes
	}
	return no
}

// anchors opens what the text holds, from the first to the last.
func (t *reading) anchors() {
	if t.depth >= maxDepth {
		return
	}
	if len(t.b) < 64 && envelope.NextBase64(t.b, 0) < 0 && !holdsQuote(t.b) && !t.hides(t.b) {
		return // nothing but words and addresses
	}
	head, hasHead := envelope.NextHead(t.b, 0)
	object, quote, quoteEnd := envelope.NextObject(t.b, 0)
	coded := envelope.NextBase64(t.b, 0)
	packed := t.nextPacked(0)
	last := -1 // where the last sound serialized value ended
	stops := t.stops()
	for {
		next := len(t.b)
		for len(stops) > 0 && stops[0].start < t.p {
			stops = stops[1:]
		}
		if len(stops) > 0 {
			next = stops[0].start
		}
		if hasHead {
			next = min(next, head.Start)
		}
		if object >= 0 {
			next = min(next, object)
		}
		if coded >= 0 {
			next = min(next, coded)
		}
		if packed >= 0 {
			next = min(next, packed)
		}
		switch {
		case next == len(t.b):
			return
		case len(stops) > 0 && stops[0].start == next:
			if end := stops[0].pass(); end > 0 {
				t.p = end
			}
			stops = stops[1:]
		case hasHead && head.Start == next:
			if end := t.head(head, last); end > 0 {
				t.p, last = end, end
			}
			head, hasHead = envelope.NextHead(t.b, max(t.p, head.Body))
		case next == object:
			if end := t.object(object, quote, quoteEnd); end > 0 {
				t.p = end
			}
			object, quote, quoteEnd = envelope.NextObject(t.b, max(t.p, object+1))
		case next == packed:
			end := t.packed(packed)
			packed = t.nextPacked(max(t.p, end))
		default:
			end := t.base64(coded)
			coded = envelope.NextBase64(t.b, max(t.p, end))
		}
		if hasHead && head.Start < t.p {
			head, hasHead = envelope.NextHead(t.b, t.p)
		}
		if object >= 0 && object < t.p {
			object, quote, quoteEnd = envelope.NextObject(t.b, t.p)
		}
		if coded >= 0 && coded < t.p {
			coded = envelope.NextBase64(t.b, t.p)
		}
		if packed >= 0 && packed < t.p {
			packed = t.nextPacked(t.p)
		}
	}
}

// stop is a stretch of a text that is left as it is, or opened as a text of its own. pass does so and returns where to look
// on; 0: it is read as all others.
type stop struct {
	start int
	pass  func() int
}

// stops returns them, in order.
func (t *reading) stops() (all []stop) {
	hold := func(from, to int, why Reason, err error) {
		all = append(all, stop{from, func() int { return t.hold(from, to, why, err) }})
	}
	if !t.quiet && t.mend == nil {
		for _, s := range brokenIn(t.b) {
			hold(s.start, s.end, Unsound, errPart)
		}
		for _, s := range signedSpans(t.b) {
			hold(s.From, s.To, Protected, fault(noteSigned))
		}
	}
	if t.depth+1 < maxDepth {
		for _, v := range valuesIn(t.b) {
			all = append(all, stop{v.start, func() int { return t.value(v) }})
		}
	}
	slices.SortStableFunc(all, func(a, b stop) int { return a.start - b.start })
	return all
}

// holdsQuote reports whether a quote stands in a text, or an escape, which may be one: without, there
// is nothing serialized and no JSON.
func holdsQuote(b []byte) bool {
	for _, c := range b {
		if c == '"' || text.Opens(c) {
			return true
		}
	}
	return false
}

// head opens the serialized value at a head, or holds back what cannot be sealed. It
// returns where that ends, or 0 where there is nothing to be done.
func (t *reading) head(h envelope.Head, last int) int {
	if t.mend != nil {
		return t.mendHead(h)
	}
	inner := h.Inner && h.Start != last
	if t.quiet && t.budget < 0 {
		return 0
	}
	if t.budget < 0 {
		return t.hold(h.Start, len(t.b), Unsealed, errTooMany)
	}
	f, cost, err := h.Open(t.b)
	t.budget -= cost
	switch {
	case err == nil && !inner:
		defer f.Value.Done()
		if p := t.segmentOf(h.Start); p < h.Start && !t.quiet && envelope.IsDamaged(t.b[p:h.Start]) {
			t.p = t.hold(h.Start, f.End, Unsound, errPart) // the quote of a string around it is damaged
			return 0
		}
		t.references(h.Start)
		pos, before := h.Start, t.save()
		edits := t.sealIn(&f.Region, f.Value, &place{up: t.at, pos: pos, use: t.useOf(pos)}, pos, t.depth)
		if len(edits) > 0 && !t.quiet && !h.StaysSound(t.b, f, edits) {
			t.refuse(before, t.at, pos, Unsealed, "its escapes can be read in more than one way")
			return f.End
		}
		t.add(edits)
		t.close(h.Start, f.End)
		return f.End
	case t.quiet || t.isProse(h):
		return 0 // only whether there is something to change
	}
	end, cost := h.Extent(t.b, t.lastStringEnd)
	t.budget -= cost
	switch {
	case h.Type == 0 || h.Word && !h.Brace:
		// A length before a quote, or the end of a word: what the length spans is left.
		return t.hold(h.Start, end, Unsealed, err)
	case inner || h.Brace:
		// A part of a value that is broken, or one: nobody knows where it ends.
		if err == nil {
			f.Value.Done()
			err = errPart
			end = len(t.b)
		}
		return t.hold(h.Start, end, Unsound, err)
	}
	if len(bytes.Trim(t.b[:h.Start], " \t\r\n\xef\xbb\xbf")) == 0 || t.b[h.Start-1] == '|' {
		end = len(t.b) // it is all there is, behind a blank, a mark or a name
	}
	return t.hold(h.Start, end, Unsound, err)
}

// words are what is before a head in a sentence.
var words = regexp.MustCompile("[A-Za-z]{2,}[,:]?[ \n]\\(?[`'\"]?$")

// members is what follows the quote of an object: the name of its class, its length, its first member.
var members = regexp.MustCompile(`^[^"\s]{1,250}":\d{1,9}:\{\s*(\}|[sSi]:)`)

// isProse reports whether a head that cannot be read is quoted in words: what follows it is not serialized. We must not
// hold back the address in
//
//	PHP writes a:2:{ for an array, see http://ternrock.example/
func (t *reading) isProse(h envelope.Head) bool {
	if !words.MatchString(text.Head(t.b, h.Start, 40)) {
		return false // it is all there is, or in quotes: broken
	}
	_, body, _ := text.Unit(t.b, h.Body)
	if h.Brace {
		rest := strings.TrimLeft(text.Tail(t.b, body, 6), " \r\n\t")
		return len(rest) > 1 && rest[0] != '}' && (strings.IndexByte("isS", rest[0]) < 0 || rest[1] != ':')
	}
	if h.Type != 's' && h.Type != 'S' || h.Inner {
		return h.Type == 'O' && !members.MatchString(text.Tail(t.b, body, 300))
	}
	if t.lastStringEnd() >= body {
		return false
	}
	for _, closing := range closings {
		if bytes.Contains(t.b[body:], []byte(closing)) {
			return false
		}
	}
	return true
}

// lastStringEnd returns where the last string of serialized values ends in the text, or -1.
func (t *reading) lastStringEnd() int {
	if t.lastEnd == 0 {
		t.lastEnd = 1 + bytes.LastIndex(t.b, []byte(`";`))
		if t.lastEnd == 0 {
			t.lastEnd = -1
		}
	}
	return max(-1, t.lastEnd-1)
}

// fault is an error whose words are all there is to it.
type fault string

func (f fault) Error() string { return string(f) }

const (
	errTooMany = fault("more beginnings of serialized values than can be tried")
	errPart    = fault("a part of a serialized value whose beginning cannot be read")
)

// hold leaves t.b[from:to] as it is, and names it where there is something to change in it.
func (t *reading) hold(from, to int, why Reason, err error) int {
	if to <= from {
		return 0
	}
	t.references(from)
	part := t.b[from:to]
	if mayHold(part) {
		if why == Unsound {
			t.unsound(part, t.at, from, err)
		} else if t.holdsOurs(part) {
			t.left(Finding{Reason: why, Path: t.at.path(), Offset: t.at.offset(from), Note: err.Error()})
		}
	}
	return to
}

// object opens the JSON object at start, whose first quote is written at
// b[quote:end]; 0: it is none.
func (t *reading) object(start, quote, end int) int {
	if t.budget < 0 {
		return 0
	}
	// It may be the content of a serialized string whose head or quote is damaged.
	head := start
	if c, q, ok := text.Before(t.b, start); ok && c == '"' {
		head = q
	}
	if head > 0 && !t.quiet && t.mend == nil && t.damaged(head) {
		return t.hold(start, len(t.b), Unsound, errPart)
	}
	for _, s := range text.Stacks(t.b, quote, end, '"') {
		// What stands around the object may have quotes as they are.
		s = s.Unstopped()
		size := 1 << 10
		if s.Plain() {
			size = len(t.b)
		}
		for {
			r := text.Open(t.b, start, s, size)
			if form, ok := r.AsForm(); ok {
				r = text.Open(t.b, start, form, size)
			}
			d := document{}
			n, ok := envelope.ReadJSON(r.Text, d.add)
			t.budget -= n
			if !r.Whole && n+text.EscapeMax >= len(r.Text) {
				size *= 4 // the window may have cut it off
				continue
			}
			if !ok {
				break
			}
			if len(d.texts) == 0 {
				break
			}
			t.references(start)
			before := t.save()
			here := &place{up: t.at, pos: start, label: strings.TrimPrefix(s.String()+", JSON", ", "), use: t.useOf(start)}
			inner := t.rewriteJSON(r.Text[:n], d, here, t.depth+1)
			if raw, ok := r.Carry(inner); ok {
				t.add(raw)
			} else {
				t.refuse(before, t.at, start, Unsealed, "written as "+s.String())
			}
			t.close(start, r.Raw(n))
			return r.Raw(n)
		}
	}
	return 0
}

// nextPacked returns where the next compressed value may begin at or after from, or -1. from never goes back.
func (t *reading) nextPacked(from int) int {
	if t.spelled < from {
		if t.spelled = envelope.NextPacked(t.b, from); t.spelled < 0 {
			t.spelled = len(t.b)
		}
	}
	if t.raw < from {
		t.raw = -1
		if t.hiding == nil {
			odd := t.hides(t.b)
			t.hiding = &odd
		}
		if *t.hiding {
			t.raw = envelope.NextRawPacked(t.b, from)
		}
		if t.raw < 0 {
			t.raw = len(t.b)
		}
	}
	if next := min(t.spelled, t.raw); next < len(t.b) {
		return next
	}
	return -1
}

// packed opens the compressed value at a mark. It returns where to look on.
func (t *reading) packed(mark int) int {
	if t.budget < 0 {
		return mark + 1
	}
	x, cost, err := envelope.OpenInside(t.b, mark)
	t.budget -= cost
	if err != nil || x.Start < t.p {
		return mark + 1 // none that its checksum confirms
	}
	here := &place{up: t.at, pos: x.Start, label: x.Kind, use: t.useOf(x.Start)}
	t.pieces(x.Text, here)
	if !t.may(x.Text) {
		return x.End
	}
	t.references(x.Start)
	before := t.save()
	defer t.decoded()()
	inner := t.open(x.Text, here, t.depth+1)
	t.p = x.End
	if len(inner) == 0 {
		return x.End
	}
	if t.amongText(x.Start, x.End) {
		if after, err := Apply(x.Text, inner); err == nil {
			if edits, ok := x.Seal(after); ok {
				t.add(edits)
				t.close(x.Start, x.End)
				return x.End
			}
		}
	}
	t.refuse(before, t.at, x.Start, Unsealed, "compressed as "+x.Kind)
	return x.End
}

// amongText reports whether t.b[start:end] is surrounded by text. In a binary format there may be a
// length elsewhere.
func (t *reading) amongText(start, end int) bool {
	const around = 256
	return envelope.IsPlain(bytes.ToValidUTF8(t.b[max(0, start-around):start], nil)) && envelope.IsPlain(bytes.ToValidUTF8(t.b[end:min(len(t.b), end+around)], nil))
}

// base64 opens the base64 at a mark. It returns where to look on.
func (t *reading) base64(mark int) int {
	x, ok := envelope.OpenBase64(t.b, mark, t.p)
	end := max(x.End, mark+1)
	if !ok {
		if x.Text != nil && t.holdsOurs(x.Text) {
			t.left(Finding{Reason: Unsealed, Path: t.at.path(), Offset: t.at.offset(mark), Note: "base64 whose beginning or end is unclear"})
		}
		return end
	}
	here := &place{up: t.at, pos: x.Start, label: "base64", use: t.useOf(x.Start)}
	t.pieces(x.Text, here)
	if !t.may(x.Text) {
		return end
	}
	before := t.save()
	defer t.decoded()()
	inner := t.open(x.Text, here, t.depth+1)
	if len(inner) == 0 {
		return end
	}
	why, note := Protected, "signed"
	if !isSigned(t.b, x.Start, x.End) {
		after, err := Apply(x.Text, inner)
		if err == nil {
			if edits, ok := x.Seal(after); ok {
				t.references(x.Start)
				t.add(edits)
				t.close(x.Start, x.End)
				t.p = end
				return end
			}
		}
		why, note = Unsealed, "base64"
	}
	t.restore(before)
	t.left(Finding{Reason: why, Path: here.path(), Offset: t.at.offset(x.Start), Note: note})
	return end
}

// isSigned reports whether the base64 at b[start:end] is a part of a token whose last part signs
// the others: parts of base64 with dots between them, the first of which is JSON (RFC 7515
// §3.1), or a hash behind it.
func isSigned(b []byte, start, end int) bool {
	part := func(p, by int) int { // how long a run of the alphabet is, from p
		n := 0
		for ; p >= 0 && p < len(b) && (isAlnum(b[p]) || b[p] == '-' || b[p] == '_' || b[p] == '='); p += by {
			n++
		}
		return n
	}
	if start > 1 && b[start-1] == '.' {
		if n := part(start-2, -1); n >= 10 && bytes.HasPrefix(b[start-1-n:], []byte("eyJ")) {
			return true
		}
	}
	after := end
	if end < len(b) {
		c, next, _ := text.Unit(b, end)
		if after = next; bytes.HasPrefix(b[end:], []byte("--")) {
			after++
		} else if !strings.ContainsRune(".|:", c) {
			after = end
		}
	}
	if after > end {
		n := part(after, 1)
		if bytes.HasPrefix(b[start:], []byte("eyJ")) && b[end] == '.' && n >= 10 {
			return true
		}
		return n >= 32 && isDigest(b[after:after+n])
	}
	return false
}

func (t *reading) add(edits []Edit) {
	if len(edits) > 0 && edits[0].Offset < t.held {
		t.mend.failed(envelope.ErrNoReading)
	}
	t.edits = join(t.edits, edits)
}

// useOf returns what a page does with what stands at p of the text.
func (t *reading) useOf(p int) markup.Use {
	if t.rules.Verdict == nil && t.rules.Rewritten == nil {
		return markup.Text
	}
	if t.markup == unknown {
		t.markup = yesNo(bytes.IndexByte(t.b, '<') >= 0)
	}
	if t.markup == no {
		return markup.Text
	}
	if t.uses == nil {
		u := markup.UsesOf(t.b, t.at.name())
		t.uses = &u
	}
	if u := t.uses.At(p); u == markup.Maybe || u == markup.Names {
		return u
	}
	return markup.Text
}

// references rewrites the references between p and to.
func (t *reading) references(to int) {
	from := t.p
	t.p = max(t.p, to)
	if from >= to || t.mend != nil {
		return
	}
	if from == 0 && to == len(t.b) {
		t.edits = room(t.b, 1)
	}
	reference.FindIn(t.b, from, to, func(ref reference.Reference) bool {
		t.reference(ref, to)
		return true
	}, t.odd)
}

// reference rewrites one reference that begins before limit, or says why it is left.
func (t *reading) reference(ref reference.Reference, limit int) {
	site := &t.rules.Site
	host, own := site.Host, site.Path == "" && ref.Host == site.Host && address.DefaultPort(ref.Port)
	var f Finding
	var tail string
	if !own || t.rules.Rewritten != nil || t.rules.Replace != nil {
		tail = ref.Tail(t.b)
		f = Finding{Host: strings.ToLower(ref.Host), URL: ref.Plain() + tail, Offset: t.at.offset(ref.Start)}
	}
	if t.rules.Replace != nil {
		f.By, _ = t.rules.Replace(f.URL)
	}
	if !own {
		rel := site.Relate(ref.Host, ref.Port, ref.Follows(t.b))
		if host, own = f.Host, rel == address.Ours; own {
			if h, err := address.CanonicalHost(host); err == nil {
				host = h
			}
		} else {
			if f.Use = t.useAt(ref); markup.IsIdent(t.b, ref.Start) {
				f.Use = markup.Ident
			}
			if f.By == "" {
				f.Reason = t.judge(rel, f, tail, ref)
			} else if f.Use == markup.Ident {
				f.Reason = Standard
			}
			if f.Reason != "" {
				f.Path, f.By = t.at.path(), ""
				t.left(f)
				return
			}
		}
	}
	why, note := t.stays(ref, own)
	var written string
	if why == "" && f.By != "" {
		var ok bool
		if written, ok = ref.Write(t.b, f.By, t.layersOf(ref)); !ok {
			why, note = Unsealed, "nobody can tell how the new address is written there"
		} else if ref.End(t.b) > limit {
			why, note = Unsealed, "something encoded stands inside the address"
		}
	}
	if why != "" {
		t.left(Finding{Reason: why, Host: strings.ToLower(ref.Host), URL: ref.Text(t.b), Path: t.at.path(), Offset: t.at.offset(ref.Start), Use: f.Use, Note: note})
		return
	}
	if t.edits == nil {
		t.edits = make([]Edit, 0, 4)
	}
	switch {
	case f.By != "":
		t.edits = append(t.edits, Edit{Offset: ref.Start, Removed: string(t.b[ref.Start:ref.End(t.b)]), Inserted: written})
	case t.rules.Relative && t.relative(ref): // what remains is the path
		t.edits = append(t.edits, Edit{Offset: ref.Start, Removed: string(t.b[ref.Start:ref.PortEnd])})
	default:
		t.edits = append(t.edits, Edit{Offset: ref.SchemeEnd, Inserted: ref.Secure()})
		if ref.PortEnd > ref.PortStart {
			t.edits = append(t.edits, Edit{Offset: ref.PortStart, Removed: string(t.b[ref.PortStart:ref.PortEnd])})
		}
	}
	t.found = true
	t.count(host)
	t.res.References++
	if t.rules.Rewritten != nil {
		f.Path = t.at.path()
		t.told = append(t.told, f)
	}
}

// layersOf returns how a character of a reference is written at its place, where the reference itself has none like it:
// through the layers of its own spelling or of the tag that it is in, and with entities in markup.
func (t *reading) layersOf(ref reference.Reference) []text.Layer {
	if t.uses == nil {
		u := markup.UsesOf(t.b, t.at.name())
		t.uses = &u
	}
	layers := ref.Layers(t.b)
	if t.uses.Entities(ref.Start) {
		if len(layers) > 0 && layers[0] == text.HTML {
			return layers
		}
		return append([]text.Layer{text.HTML}, layers...)
	}
	if tag := markup.TagLayers(t.b, ref.Start); len(tag) > 0 {
		return append(tag, text.HTML)
	}
	return layers
}

// relative reports whether a reference of the site may be written from its path on: markup or a style sheet reads
// it as a URL, its path does not begin as a host does, and nothing but scheme and host stands before that. The host is
// one of the site itself, and not of a sister site: pages lead to those from elsewhere.
func (t *reading) relative(ref reference.Reference) bool {
	host, err := address.CanonicalHost(ref.Host)
	if err != nil || ref.Scheme != "http" || !slices.Contains(t.rules.Site.Hosts(), host) {
		return false
	}
	if !ref.Bare(t.b) { // somebody logs in there
		return false
	}
	if path := ref.Follows(t.b); !strings.HasPrefix(path, "/") || strings.HasPrefix(path, "//") || strings.HasPrefix(path, `/\`) {
		return false
	}
	if t.uses == nil {
		u := markup.UsesOf(t.b, t.at.name())
		t.uses = &u
	}
	return t.uses.Reads(ref.Start)
}

// stays says why a reference that would become secure is left all the same: it names
// something, or what stands around it says how long it is or signs it.
func (t *reading) stays(ref reference.Reference, own bool) (Reason, string) {
	if own && markup.IsIdent(t.b, ref.Start) {
		return Standard, ""
	}
	if t.quiet {
		return "", ""
	}
	if t.wild {
		return Binary, ""
	}
	if why, note := (nearby{t, ref, ref.Tail(t.b)}).means(); why != "" {
		return why, note
	}
	if ref.Start == 0 {
		return "", ""
	}
	if t.damaged(ref.Start) {
		return Unsound, errPart.Error()
	}
	if t.controls == unknown {
		t.controls = yesNo(t.hides(t.b))
	}
	if t.controls == yes && envelope.LengthBefore(t.b, ref.Start) || envelope.PackedLength(t.b, ref.Start) && !utf8.Valid(t.b) {
		return Unsealed, "its length stands before it"
	}
	return "", ""
}

// segmentBack is how far before a reference the segment that holds it may begin.
const segmentBack = 512

// damaged reports whether the reference at start stands in a segment of the text, between
// quotes or the like, that begins as a serialized value does, but for a byte.
func (t *reading) damaged(start int) bool {
	p := t.segmentOf(start)
	if p != t.segment.start || t.segment.end == 0 {
		t.isBroken = envelope.IsDamaged(t.b[p:])
	}
	t.segment = span{p, start}
	return t.isBroken
}

// segmentOf returns where the segment begins that holds start.
func (t *reading) segmentOf(start int) int {
	p := start
	for p > 0 && start-p < segmentBack && strings.IndexByte("\"'><\n", t.b[p-1]) < 0 {
		if t.b[p-1] == '=' && isNamed(t.b, p-1) {
			break
		}
		if p--; p == t.segment.end && t.segment.end > 0 {
			return t.segment.start
		}
	}
	return p
}

// isNamed reports whether a name ends at p, and no part of the beginning of a serialized value: a digit or a colon.
func isNamed(b []byte, p int) bool {
	if p == 0 {
		return false
	}
	c := b[p-1]
	return c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80 || strings.IndexByte("_-]\"'", c) >= 0
}

// span is a stretch of a text.
type span struct{ start, end int }

// closings are how the end of a serialized string is written inside of other text.
var closings = []string{`\";`, "&quot;;", "&#34;;", "&#034;;", "%22%3B", "%22;", `\u0022;`}

// Bounds of looking for what brokenIn looks for.
const (
	maxClosings = 64
	closingBack = 2048
)

// brokenIn returns where a text holds serialized values whose beginnings were damaged, and which
// are written as other text holds them.
func brokenIn(b []byte) (all []span) {
	if bytes.IndexByte(b, '%') < 0 && (bytes.IndexByte(b, ';') < 0 || bytes.IndexByte(b, '\\') < 0 && bytes.IndexByte(b, '&') < 0) {
		return nil
	}
	tried := 0
	for _, closing := range closings {
		for p := 0; tried < maxClosings; tried++ {
			n := bytes.Index(b[p:], []byte(closing))
			if n < 0 {
				break
			}
			at := p + n
			p = at + len(closing)
			_, quoteEnd, _ := text.Unit(b, at)
			stacks := text.Stacks(b, at, quoteEnd, '"')
			if len(stacks) == 0 {
				continue
			}
			start := at
			for start > 0 && at-start < closingBack {
				c := b[start-1]
				if strings.IndexByte("\"'>", c) >= 0 && (start < 2 || b[start-2] != '\\') || (c == '=' || c == '|') && isNamed(b, start-1) {
					break
				}
				start--
			}
			r := text.Open(b[:p], start, stacks[0].Unstopped(), p-start)
			if envelope.WasSerialized(r.Text) {
				end := len(b)
				if s := stacks[0]; !s.Has(text.Script) && !s.Has(text.Single) { // a raw quote ends it
					whole := text.Open(b, start, s, len(b))
					end = whole.Raw(len(whole.Text))
				}
				all = append(all, span{start, max(p, end)})
				p = max(p, end)
			}
		}
	}
	slices.SortFunc(all, func(a, b span) int { return a.start - b.start })
	return all
}

// useAt returns what a page does with a reference.
func (t *reading) useAt(ref reference.Reference) markup.Use {
	if t.uses == nil {
		u := markup.UsesOf(t.b, t.at.name())
		t.uses = &u
	}
	if u := t.at.useAbove(); u != markup.Text {
		return u
	}
	return t.uses.At(ref.Start)
}

// odd names what would be a reference to the site, or something that a page loads, were it
// not broken or in pieces.
func (t *reading) odd(ref reference.Reference) {
	if t.quiet {
		t.found = t.found || ref.Port == "" && ref.Host != "" && ref.HostEnd > ref.SchemeEnd && t.ours(ref.Host)
		return
	}
	if ref.Host != "" && (strings.Contains(ref.Host, ".") && t.useAt(ref) == markup.Loads || t.ours(ref.Host)) {
		t.left(Finding{Reason: Malformed, Host: strings.ToLower(ref.Host), URL: string(t.b[ref.Start:ref.HostEnd]), Path: t.at.path(), Offset: t.at.offset(ref.Start)})
		return
	}
	if why, note := t.loose(ref); why != "" {
		t.left(Finding{Reason: why, Host: t.rules.Site.Host, URL: text.Tail(t.b, ref.Start, 40), Path: t.at.path(), Offset: t.at.offset(ref.Start), Note: note})
	}
}

// ours reports whether a host is one of the site.
func (t *reading) ours(host string) bool {
	site := &t.rules.Site
	return site.Relate(host, "", "") == address.Ours || site.Path != "" && site.Relate(host, "", site.Path) == address.Ours
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
func (w *worker) judge(rel address.Relation, f Finding, tail string, ref reference.Reference) Reason {
	if f.Use == markup.Ident || markup.IsStandard(f.Host, tail) && (f.Use != markup.Loads || markup.AssetKind(f.URL) == "") {
		return Standard
	}
	if ref.Glued > 0 && w.rules.Site.Relate(ref.Host[:ref.Glued], "", w.rules.Site.Path) == address.Ours {
		return Unclear
	}
	switch rel {
	case address.OtherPort:
		return OtherPort
	case address.OutsidePath:
		return Outside
	case address.Private:
		return Private
	}
	loaded := f.Use == markup.Loads || f.Use == markup.Maybe
	switch {
	case !loaded && rel == address.Subdomain:
		return Subdomain
	case !loaded && rel == address.LookAlike:
		return LookAlike
	case !loaded:
		return Linked
	case !address.DefaultPort(ref.Port):
		return NoHTTPS // a port of its own speaks one protocol
	}
	verdict := Unknown
	if w.rules.Verdict != nil {
		verdict = w.rules.Verdict(f.Host, f.URL)
	}
	switch {
	case verdict == Keep:
		return Kept
	case f.Use == markup.Maybe:
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
