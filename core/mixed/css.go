package mixed

import (
	"bytes"

	"trimlantern/core/markup"
	"trimlantern/core/rewrite"
	"trimlantern/core/text"
)

// css reads a style sheet, or the value of a style attribute, at offset shift.
func (r *reader) css(b []byte, shift int) {
	n := len(r.page.Findings)
	defer func() {
		if rewrite.MayHold(b) {
			r.rest(b, "style", markup.Maybe, shift, n, remarks(b))
		}
	}()
	markup.WalkCSS(b, func(u markup.StyleURL) {
		raw := b[u.Start:u.End]
		if bytes.IndexByte(raw, '\\') >= 0 {
			raw = text.Decode(raw, text.Sheet)
		}
		if bytes.HasPrefix(raw, []byte("#")) {
			return // in this document
		}
		certainty := Certain
		if u.Conditional {
			certainty = Likely
		}
		r.add(string(raw), use{by: u.By, use: markup.Loads, kind: u.Kind, certainty: certainty, offset: shift + u.Start})
	})
}
