package change

// State is what a cell, a row or a file holds: its content by its hash, or that it is not there.
type State struct {
	Hash    string // see Hash
	Missing bool   // then there is no hash
}

// Holds is the state of what holds a content.
func Holds(content []byte) State { return State{Hash: Hash(content)} }

// Gone is the state of what is not there.
var Gone = State{Missing: true}

// Fate is what becomes of a thing that is to be changed from one state into another.
type Fate uint8

// The fates. The same three hold in both directions: apply leads from before to after, undo from after to before.
const (
	Due   Fate = iota // it holds what the change begins with: it is to be changed
	Done              // it holds already what the change leads to
	Other             // it holds something else, which somebody else wrote: it is left, and named
)

// Check says what becomes of a thing that holds now, and is to be changed from one state into another. A run that was
// interrupted may have changed it already, so the end counts before the beginning.
func Check(now, from, to State) Fate {
	switch now {
	case to:
		return Done
	case from:
		return Due
	}
	return Other
}
