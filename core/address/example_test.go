package address_test

import (
	"fmt"

	"trimlantern/core/address"
)

func ExampleParse() {
	site, err := address.Parse("https://ternrock.example/museum/", "www.ternrock.example")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(site)
	_, err = address.Parse("ftp://ternrock.example")
	fmt.Println(err != nil)
	// Output:
	// https://ternrock.example/museum
	// true
}

func ExampleSite_Relate() {
	site, _ := address.Parse("https://ternrock.example", "www.ternrock.example")
	for _, host := range []string{"WWW.ternrock.example", "ternrock.example.", "shop.ternrock.example", "ternrock.example.org", "tides.example"} {
		fmt.Println(host, site.Relate(host, "", "/") == address.Ours)
	}
	fmt.Println("port 8080:", site.Relate("ternrock.example", "8080", "/") == address.OtherPort)
	// Output:
	// WWW.ternrock.example true
	// ternrock.example. true
	// shop.ternrock.example false
	// ternrock.example.org false
	// tides.example false
	// port 8080: true
}
