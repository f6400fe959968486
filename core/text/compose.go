package text

// Compose returns the edits of b that do what second does after first has been done. mid is what first makes of b: the
// offsets of second count there.
func Compose(b, mid []byte, first, second []Edit) []Edit {
	if len(first) == 0 {
		return second
	}
	all := make([]Edit, 0, len(first)+len(second))
	moved := 0 // how much further everything is in mid
	for len(first)+len(second) > 0 {
		// Edits that touch become one.
		from, end, was, i, j := 0, -1, moved, 0, 0
		take := func(start, size int) bool {
			if end >= 0 && start > end {
				return false
			}
			if end < 0 {
				from, end = start, start
			}
			from, end = min(from, start), max(end, start+size)
			return true
		}
		for {
			nextFirst := i < len(first) && (j == len(second) || first[i].Offset+moved <= second[j].Offset)
			switch {
			case nextFirst && take(first[i].Offset+moved, len(first[i].Inserted)):
				moved += len(first[i].Inserted) - len(first[i].Removed)
				i++
				continue
			case !nextFirst && j < len(second) && take(second[j].Offset, len(second[j].Removed)):
				j++
				continue
			}
			break
		}
		after, err := Apply(mid[from:end], Shift(append([]Edit(nil), second[:j]...), -from))
		if err != nil { // second is none of mid's
			panic(err)
		}
		all = append(all, Edit{Offset: from - was, Removed: string(b[from-was : end-moved]), Inserted: string(after)})
		first, second = first[i:], second[j:]
	}
	return all
}
