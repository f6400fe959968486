//go:build !amd64

package seek

var widest, wide = false, false

// Without wide registers everything is left to the narrow loops.

func (t *Triples) nextWide(_ []byte, from int) int { return from }
func runWide(_ []byte, from int) (start, next int) { return -1, from }
func eitherWide(_ []byte, from int, _, _ byte) int { return from }
func quoteWide(_ []byte, from int, _ byte) int     { return from }
func plainWide(_ []byte) int                       { return 0 }
