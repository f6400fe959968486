package hops_test

import (
	"fmt"

	"trimlantern/core/address"
	"trimlantern/core/hops"
)

func ExampleJourney_Judge() {
	site, _ := address.Parse("https://ternrock.example")
	for _, j := range []hops.Journey{
		{Typed: "http://ternrock.example/visit/", Method: "GET", Hops: []hops.Hop{
			{URL: "http://ternrock.example/visit/", Method: "GET", Status: 301, Location: "https://ternrock.example/visit/"},
			{URL: "https://ternrock.example/visit/", Method: "GET", Status: 200},
		}},
		{Typed: "http://ternrock.example/visit/", Method: "GET", Hops: []hops.Hop{
			{URL: "http://ternrock.example/visit/", Method: "GET", Status: 302, Location: "https://ternrock.example/"},
			{URL: "https://ternrock.example/", Method: "GET", Status: 200},
		}},
	} {
		fmt.Println(j.Landing(), j.Judge(site, nil))
	}
	// Output:
	// https://ternrock.example/visit/ []
	// https://ternrock.example/ [path-lost temporary]
}
