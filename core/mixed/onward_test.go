package mixed

import (
	"net/http"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnward(t *testing.T) {
	const plain, secure = "http://ternrock.example/visit?a=1", "https://ternrock.example/visit?a=1"
	for _, c := range []struct{ at, body, to, by string }{
		{secure, `<meta http-equiv=refresh content="0; url=http://ternrock.example/">`, "http://ternrock.example/", "refresh"},
		{secure, `<META HTTP-EQUIV="Refresh" CONTENT="5,'http://ternrock.example/'">`, "http://ternrock.example/", "refresh"},
		{secure, `<meta http-equiv=refresh content="90; url=http://ternrock.example/">`, "", ""},
		{secure, `<meta http-equiv=refresh content="5">`, "", ""},
		{secure, `<noscript><meta http-equiv=refresh content="0; url=/old"></noscript>`, "", ""},
		{secure, `<template><meta http-equiv=refresh content="0; url=/old"></template>`, "", ""},
		{secure, `<script>location.href="http://ternrock.example/visit"</script>`, "http://ternrock.example/visit", "script"},
		{secure, `<script>window.location = '/tide/'</script>`, "https://ternrock.example/tide/", "script"},
		{secure, `<script>top.location.replace("http://" + location.host + location.pathname)</script>`, plain, "script"},
		{secure, `<script>location.assign(location.href.replace('https:', 'http:'))</script>`, plain, "script"},
		{secure, `<script>document.location.protocol = "http:"</script>`, plain, "script"},
		{secure, `<script>if (location.protocol == 'https:') { location.href = 'http:' + location.href.substring(6); }</script>`, plain, "script"},
		{secure, `<script>if (location.protocol === "https:") location.protocol = "http:"</script>`, plain, "script"},
		{plain, `<script>if (location.protocol === "https:") location.protocol = "http:"</script>`, "", ""},
		{plain, `<script>if (location.protocol !== "https:") location.protocol = "https:"</script>`, secure, "script"},
		{secure, `<script>if (location.protocol !== "https:") location.protocol = "https:"</script>`, "", ""},
		{secure, `<script>if (old) location = "http://ternrock.example/"</script>`, "http://ternrock.example/", "script?"},
		{secure, `<script>function go() { location = "http://ternrock.example/" }</script>`, "http://ternrock.example/", "script?"},
		{secure, `<body onload="location='http://ternrock.example/'">`, "http://ternrock.example/", "script"},
		{secure, `<a onclick="location='http://ternrock.example/'">x</a>`, "", ""},
		{secure, `<script>/* location = "http://ternrock.example/" */</script>`, "", ""},
		{secure, `<script>"location = 'http://ternrock.example/'"</script>`, "", ""},
		{secure, `<script>if (location == "http://ternrock.example/") x()</script>`, "", ""},
		{secure, `<script>my.location = "http://ternrock.example/"; allocation = "http://x.example/"</script>`, "", ""},
		{secure, `<script type="text/plain">location = "http://ternrock.example/"</script>`, "", ""},
		{secure, `<base href="http://other.example/"><script>location.protocol = "http:"</script>`, plain, "script"},
	} {
		u, err := url.Parse(c.at)
		require.NoError(t, err)
		got := Read(Answer{URL: u, Type: "text/html", Body: []byte(c.body)}).Onward
		if c.to == "" {
			assert.Empty(t, got, c.body)
			continue
		}
		if assert.NotEmpty(t, got, c.body) {
			by := got[0].By
			if !got[0].Sure {
				by += "?"
			}
			assert.Equal(t, []string{c.to, c.by}, []string{got[0].To, by}, c.body)
		}
	}
	u, err := url.Parse(secure)
	require.NoError(t, err)
	got := Read(Answer{URL: u, Type: "text/html", Header: http.Header{"Refresh": {"0;url=http://ternrock.example/"}}}).Onward
	assert.Equal(t, []Onward{{"http://ternrock.example/", "refresh", true}}, got)
}
