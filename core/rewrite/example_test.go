package rewrite_test

import (
	"fmt"

	"trimlantern/core/address"
	"trimlantern/core/rewrite"
)

func ExampleRules_Value() {
	site, _ := address.Parse("https://ternrock.example")
	rules := &rewrite.Rules{Site: site}
	for _, value := range []string{
		`see http://ternrock.example/visit/`,
		`a:1:{s:4:"logo";s:33:"http://ternrock.example/badge.svg";}`,
		`{"logo":"http:\/\/ternrock.example\/badge.svg"}`,
		`?next=http%3A%2F%2Fternrock.example%2Fvisit`,
		`http://tides.example/today.png`,
	} {
		result := rules.Value([]byte(value))
		after, _ := rewrite.Apply([]byte(value), result.Edits)
		fmt.Println(string(after))
		for _, l := range result.Left {
			fmt.Println("  left:", l.URL, "-", l.Reason)
		}
	}
	// Output:
	// see https://ternrock.example/visit/
	// a:1:{s:4:"logo";s:34:"https://ternrock.example/badge.svg";}
	// {"logo":"https:\/\/ternrock.example\/badge.svg"}
	// ?next=https%3A%2F%2Fternrock.example%2Fvisit
	// http://tides.example/today.png
	//   left: http://tides.example/today.png - no-verdict
}

// A verdict says of another host whether it serves the same thing over HTTPS. It is asked for what a page loads.
func ExampleRules_verdict() {
	site, _ := address.Parse("https://ternrock.example")
	rules := &rewrite.Rules{Site: site, Verdict: func(host, _ string) rewrite.Verdict {
		if host == "type.harbourtype.example" {
			return rewrite.Secure
		}
		return rewrite.Insecure
	}}
	page := []byte(`<link rel=stylesheet href=http://type.harbourtype.example/a.css><img src=http://tides.example/a.png>`)
	result := rules.Value(page)
	after, _ := rewrite.Apply(page, result.Edits)
	fmt.Println(string(after))
	fmt.Println(result.Left[0].Host, result.Left[0].Reason)
	// Output:
	// <link rel=stylesheet href=https://type.harbourtype.example/a.css><img src=http://tides.example/a.png>
	// tides.example no-https
}
