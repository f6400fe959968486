package coverage_test

import (
	"fmt"

	"trimlantern/core/coverage"
)

func ExampleLedger() {
	l := coverage.New(func(string) string { return "ternrock.example" })
	l.Set(coverage.Mark{URL: "https://ternrock.example/", Kind: coverage.Page, Cause: coverage.AsDocument})
	l.Set(coverage.Mark{URL: "https://ternrock.example/visit/", Kind: coverage.Page, Cause: coverage.NoAnswer, Note: "no answer in 20 s"})
	s := l.Summary(10)
	fmt.Println(s.PagesRead, "of", s.PagesKnown, "pages; complete:", s.Complete)
	// Output: 1 of 2 pages; complete: false
}
