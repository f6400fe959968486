package rewrite

import (
	"strconv"

	"trimlantern/core/envelope"
	"trimlantern/core/text"
)

// Mend works out the edits that correct the lengths of a serialized value which
// is not sound, or of one inside it. broken is false where there is nothing to
// mend; the error says why there is, and it cannot be done.
func Mend(b []byte) (edits []Edit, broken bool, err error) {
	return mend(b, 0)
}

func mend(b []byte, depth int) (edits []Edit, broken bool, err error) {
	if !envelope.LooksSerialized(b) || depth > maxDepth {
		return nil, false, nil
	}
	s, serr := envelope.OpenPHP(b)
	if serr != nil {
		lengths, err := envelope.Mend(b)
		if err != nil {
			return nil, true, err
		}
		for _, l := range lengths {
			edits = append(edits, Edit{Offset: l.Start, Removed: string(b[l.Start:l.End]), Inserted: l.Digits()})
		}
		after, err := Apply(b, edits)
		if err != nil {
			return nil, true, err
		}
		_, err = envelope.OpenPHP(after)
		return edits, true, err
	}
	for _, t := range s.Texts { // sound itself, and maybe not what it holds
		if t.Key || t.Opaque || t.Escaped {
			continue
		}
		inner, bad, err := mend(b[t.Start:t.End], depth+1)
		broken = broken || bad
		if err != nil {
			return nil, true, err
		}
		if len(inner) == 0 {
			continue
		}
		if more := grown(inner, false); more != 0 {
			edits = append(edits, Edit{Offset: int(t.LenStart), Removed: string(b[t.LenStart:t.LenEnd]), Inserted: strconv.Itoa(int(t.End-t.Start) + more)})
		}
		edits = append(edits, text.Shift(inner, int(t.Start))...)
	}
	return edits, broken, nil
}
