package mixed_test

import (
	"fmt"
	"net/url"

	"trimlantern/core/mixed"
)

func ExampleHTML() {
	at, _ := url.Parse("https://ternrock.example/visit/")
	page := mixed.HTML([]byte(`<title>Visit</title>
<script src="http://ternrock.example/rota.js"></script>
<img src="http://ternrock.example/lens.png">
<a href="http://tides.example/">tides</a>
<img src="/media/map.svg">`), at)
	for _, f := range page.Findings {
		fmt.Printf("%d:%d %s %s (%s)\n", f.Line, f.Col, f.Class, f.URL, f.By)
	}
	// Output:
	// 2:14 blocked http://ternrock.example/rota.js (script src)
	// 3:11 upgraded http://ternrock.example/lens.png (img src)
	// 4:10 link http://tides.example/ (a href)
}
