package text_test

import (
	"fmt"

	"trimlantern/core/text"
)

// A JSON string in a script: the text is read as the script's reader reads it, and an edit of it is written as the text
// around it is.
func ExampleOpen() {
	source := []byte(`var note = "low \"water\" at ten";`)
	start := len(`var note = "`)
	stack, _ := text.Of(text.Step{Layer: text.Script})
	region := text.Open(source[:len(source)-len(`";`)], start, stack, len(source))
	fmt.Println(string(region.Text))

	edits, ok := region.Carry([]text.Edit{{Offset: len(`low "water" at `), Removed: "ten", Inserted: `"noon"`}})
	if !ok {
		fmt.Println("cannot be written there")
		return
	}
	after, _ := text.Apply(source, edits)
	fmt.Println(string(after))
	// Output:
	// low "water" at ten
	// var note = "low \"water\" at \"noon\"";
}

func ExampleInvert() {
	before := []byte("http://ternrock.example")
	edits := []text.Edit{{Offset: 4, Inserted: "s"}}
	after, _ := text.Apply(before, edits)
	back, _ := text.Apply(after, text.Invert(edits))
	fmt.Println(string(after))
	fmt.Println(string(back))
	// Output:
	// https://ternrock.example
	// http://ternrock.example
}
