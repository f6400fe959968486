package laws

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash/adler32"
	"hash/crc32"
	"hash/fnv"
	"strconv"
	"strings"
)

// sums are the digests that systems write beside a value.
var sums = []struct {
	name string
	of   func(string) []byte
}{
	{"MD5", func(s string) []byte { x := md5.Sum([]byte(s)); return x[:] }},
	{"SHA-1", func(s string) []byte { x := sha1.Sum([]byte(s)); return x[:] }},
	{"SHA-256", func(s string) []byte { x := sha256.Sum256([]byte(s)); return x[:] }},
	{"SHA-512", func(s string) []byte { x := sha512.Sum512([]byte(s)); return x[:] }},
	{"SHA-384", func(s string) []byte { x := sha512.Sum384([]byte(s)); return x[:] }},
	{"CRC-32", func(s string) []byte {
		x := crc32.ChecksumIEEE([]byte(s))
		return []byte{byte(x >> 24), byte(x >> 16), byte(x >> 8), byte(x)}
	}},
	{"Adler-32", func(s string) []byte {
		x := adler32.Checksum([]byte(s))
		return []byte{byte(x >> 24), byte(x >> 16), byte(x >> 8), byte(x)}
	}},
	{"FNV-1a", func(s string) []byte { h := fnv.New32a(); h.Write([]byte(s)); return h.Sum(nil) }},
	{"FNV-1a 64", func(s string) []byte { h := fnv.New64a(); h.Write([]byte(s)); return h.Sum(nil) }},
}

func md5Hex(s string) string  { return hex.EncodeToString(sums[0].of(s)) }
func sha1Hex(s string) string { return hex.EncodeToString(sums[1].of(s)) }

func init() {
	// Lengths.
	add("netstring", either, func(g *gen, s string) string {
		u := g.own(s)
		return fmt.Sprintf("%d:%s,", len(u), u)
	})
	add("netstrings in a row", either, func(g *gen, s string) string {
		u, v := g.own(s), g.word()+" "+g.own(s)
		return fmt.Sprintf("%d:%s,%d:%s,%d:%s,", len("url"), "url", len(u), u, len(v), v)
	})
	addWhole("bencode", either, func(g *gen, s string) string {
		u := g.own(s)
		return fmt.Sprintf("d8:announce%d:%s4:name%d:%se", len(u), u, 4, "lamp")
	})
	addWhole("chunked body", either, func(g *gen, s string) string {
		body := "<p>" + g.words(3) + `</p><a href="` + g.own(s) + `">` + g.words(5) + "</a>"
		return fmt.Sprintf("%x\r\n%s\r\n0\r\n\r\n", len(body), body)
	})
	addWhole("answer with Content-Length", either, func(g *gen, s string) string {
		body := "<html><body>" + g.words(3) + ` <a href="` + g.own(s) + `">x</a></body></html>`
		return fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: %d\r\n\r\n%s", len(body), body)
	})
	addWhole("cached page with headers in lines", either, func(g *gen, s string) string {
		body := "<p>" + g.words(20) + ` <a href="` + g.own(s) + `">x</a></p>`
		return fmt.Sprintf("Content-Type: text/html; charset=utf-8\nContent-Length: %d\n\n%s", len(body), body)
	})
	addWhole("length field beside a value", either, func(g *gen, s string) string {
		u := g.own(s) + "?" + g.word() + "=" + g.word()
		return g.object(pairs{"url", u, g.pick("length", "len", "size", "strlen", "url_length", "urlLength", "bytes"), len(u), "name", g.word()})
	})
	addWhole("length of a body beside it", either, func(g *gen, s string) string {
		body := "<p>" + g.words(15) + " " + g.own(s) + "</p>"
		return g.object(pairs{"headers", pairs{"content-type", "text/html", "content-length", strconv.Itoa(len(body))}, "body", body})
	})
	addWhole("list of pairs of length and text", either, func(g *gen, s string) string {
		u, v := g.own(s), g.words(4)
		return g.object(pairs{"parts", list{list{len(u), u}, list{len(v), v}}})
	})
	add("length in words before", either, func(g *gen, s string) string {
		u := g.own(s)
		return fmt.Sprintf("%s=%d %s", g.pick("len", "length", "size", "bytes"), len(u), u)
	})
	addWhole("key-value store's answer", either, func(g *gen, s string) string {
		u := g.own(s)
		return fmt.Sprintf("*3\r\n$3\r\nSET\r\n$4\r\nhome\r\n$%d\r\n%s\r\n", len(u), u)
	})
	addWhole("memory cache's answer", either, func(g *gen, s string) string {
		u := "<p>" + g.own(s) + "</p>"
		return fmt.Sprintf("VALUE page_%d 0 %d\r\n%s\r\nEND\r\n", g.IntN(99), len(u), u)
	})
	add("length in hexadecimal before", either, func(g *gen, s string) string {
		u := g.own(s) + "/" + g.word() + "/" + g.word()
		return fmt.Sprintf("%04x:%s;", len(u), u)
	})
	addWhole("lines with lengths", either, func(g *gen, s string) string {
		var b strings.Builder
		for _, u := range []string{g.own(s), g.words(3), g.own(s)} {
			fmt.Fprintf(&b, "%d %s\n", len(u), u)
		}
		return b.String()
	})
	addWhole("mail store with sizes", either, func(g *gen, s string) string {
		body := g.words(5) + " " + g.own(s) + "\r\n"
		return fmt.Sprintf("* 1 FETCH (BODY[TEXT] {%d}\r\n%s)\r\n", len(body), body)
	})
	addRaw("length in one byte", either, func(g *gen, s string) string {
		u := g.own(s)
		return "\x01\x00\x04" + "home" + "\x00" + string(rune(len(u))) + u + "\x00\x02"
	})
	addRaw("length in two bytes", either, func(g *gen, s string) string {
		u := g.own(s)
		return "\xac\xed\x00\x05t\x00" + string([]byte{byte(len(u))}) + u
	})
	addRaw("length in four bytes", either, func(g *gen, s string) string {
		u := g.own(s)
		return "\x80\x03X" + string([]byte{byte(len(u)), 0, 0, 0}) + u + "q\x00."
	})
	addRaw("MessagePack", either, func(g *gen, s string) string {
		u := g.own(s)
		return "\x81\xa3url\xd9" + string([]byte{byte(len(u))}) + u
	})
	addRaw("CBOR", either, func(g *gen, s string) string {
		u := g.own(s)
		return "\xa1\x63url\x78" + string([]byte{byte(len(u))}) + u
	})
	addRaw("protocol buffer", either, func(g *gen, s string) string {
		u := g.own(s)
		return "\x08\x96\x01\x12" + string([]byte{byte(len(u))}) + u + "\x18\x05"
	})
	addRaw("property list in binary", either, func(g *gen, s string) string {
		u := g.own(s)
		return "bplist00\xd1\x01\x02Surl_\x10" + string([]byte{byte(len(u))}) + u + "\x08\x0b\x0f\x00\x00"
	})

	// Digests of one value beside it.
	for _, sum := range sums {
		addWhole("digest beside a value, "+sum.name, either, func(g *gen, s string) string {
			u := g.own(s)
			return g.object(pairs{"url", u, g.pick("hash", "checksum", "etag", "key", "fingerprint", "id", "v"), hex.EncodeToString(sum.of(u)), "n", g.IntN(99)})
		})
		addWhole("digest before a value, "+sum.name, either, func(g *gen, s string) string {
			u := "<p>" + g.words(3) + " " + g.own(s) + "</p>"
			d := hex.EncodeToString(sum.of(u))
			if g.IntN(2) == 0 {
				d = strings.ToUpper(d)
			}
			return g.object(pairs{"id", g.IntN(9999), g.pick("sum", "md5", "cksum", "rev"), d, "content", u})
		})
		addWhole("digest as an array key, "+sum.name, either, func(g *gen, s string) string {
			u, v := g.own(s), g.own(s)+"?x"
			return g.object(pairs{hex.EncodeToString(sum.of(u)), u, hex.EncodeToString(sum.of(v)), v})
		})
		add("digest in the same line, "+sum.name, either, func(g *gen, s string) string {
			u := g.own(s)
			return hex.EncodeToString(sum.of(u)) + g.pick("  ", " ", "\t", "|", ",", ":", ";") + u
		})
		add("digest after it in the same line, "+sum.name, either, func(g *gen, s string) string {
			u := g.own(s)
			return u + g.pick(" ", "\t", "|", ",", ";") + hex.EncodeToString(sum.of(u))
		})
	}
	for _, sum := range sums[:5] {
		addWhole("digest in base64 beside a value, "+sum.name, either, func(g *gen, s string) string {
			u := g.own(s)
			enc := []*base64.Encoding{base64.StdEncoding, base64.URLEncoding, base64.RawURLEncoding}[g.IntN(3)]
			return g.object(pairs{"url", u, "hash", enc.EncodeToString(sum.of(u))})
		})
		addWhole("prefixed digest beside a value, "+sum.name, either, func(g *gen, s string) string {
			u := g.own(s)
			return g.object(pairs{"url", u, "etag", g.pick("W/\"", "\"", "{", "md5:", "sha-", "v1-") + hex.EncodeToString(sum.of(u)) + g.pick("\"", "", "-gzip")})
		})
		addWhole("cut digest beside a value, "+sum.name, either, func(g *gen, s string) string {
			u := g.own(s)
			return g.object(pairs{"url", u, "key", hex.EncodeToString(sum.of(u))[:8+g.IntN(8)]})
		})
		addWhole("digest of two values joined, "+sum.name, either, func(g *gen, s string) string {
			u, title := g.own(s), g.words(2)
			return g.object(pairs{"title", title, "url", u, "hash", hex.EncodeToString(sum.of(title + g.pick("", "|", ":", "-", "\n") + u))})
		})
		addWhole("digest salted with a neighbour, "+sum.name, either, func(g *gen, s string) string {
			u, salt := g.own(s), g.hex(12)
			text := salt + u
			if g.IntN(2) == 0 {
				text = u + salt
			}
			return g.object(pairs{"salt", salt, "url", u, "token", hex.EncodeToString(sum.of(text))})
		})
		add("digest in a query of what the query holds, "+sum.name, either, func(g *gen, s string) string {
			u := g.ownImage(s)
			return s + "://" + "ternrock.example/thumb.php?src=" + u + "&h=" + hex.EncodeToString(sum.of(u))
		})
	}
	addWhole("digest as a number", either, func(g *gen, s string) string {
		u := g.own(s)
		return g.object(pairs{"url", u, g.pick("crc", "hash", "id"), int(crc32.ChecksumIEEE([]byte(u)))})
	})
	addWhole("digest of the file name in its path", either, func(g *gen, s string) string {
		u := g.ownImage(s)
		return g.object(pairs{"src", u, "cached", "/cache/" + md5Hex(u) + ".png"})
	})
	add("digest in a path before the address", either, func(g *gen, s string) string {
		u := g.ownImage(s)
		return "/cache/" + md5Hex(u) + ".png <- " + u
	})
	addWhole("digest of the rest of the object", either, func(g *gen, s string) string {
		p := pairs{"url", g.own(s), "n", g.IntN(99)}
		return php(pairs{"data", php(p), "hash", md5Hex(php(p))})
	})
	addWhole("digest after a serialized value", either, func(g *gen, s string) string {
		v := php(pairs{"url", g.own(s), "n", g.IntN(99)})
		return v + g.pick("|", "--", ":") + sha1Hex(v)
	})
	addWhole("digest before a serialized value", either, func(g *gen, s string) string {
		v := php(pairs{"url", g.own(s), "n", g.IntN(99)})
		return md5Hex(v) + g.pick("|", "--", "", ":") + v
	})
	addWhole("digest before base64", either, func(g *gen, s string) string {
		v := base64.StdEncoding.EncodeToString([]byte(php(pairs{"url", g.own(s), "n", g.IntN(99)})))
		return md5Hex(v) + "|" + v
	})
	addWhole("digest line at the end of a file", either, func(g *gen, s string) string {
		v := "home=" + g.own(s) + "\nname=" + g.words(2) + "\n"
		return v + "checksum=" + md5Hex(v) + "\n"
	})
	addWhole("digest line at the start of a file", either, func(g *gen, s string) string {
		v := "home=" + g.own(s) + "\nname=" + g.words(2) + "\n"
		return "# md5 " + md5Hex(v) + "\n" + v
	})

	// Signed with a key that is not there.
	signed := func(name string, build func(g *gen, s string) string) { add("signed: "+name, left, build) }
	signed("token of three parts", func(g *gen, s string) string {
		part := func(v any) string { return base64.RawURLEncoding.EncodeToString([]byte(js(v))) }
		return part(pairs{"alg", "HS256", "typ", "JWT"}) + "." + part(pairs{"iss", g.own(s), "exp", 1700000000 + g.IntN(999)}) + "." + base64.RawURLEncoding.EncodeToString(sums[2].of(g.hex(9)))
	})
	signed("query of another service", func(g *gen, s string) string {
		return "https://resize.example/?url=" + g.ownImage(s) + "&w=300&" + g.pick("s", "sig", "signature", "token", "hmac", "X-Signature", "auth", "h", "k") + "=" + g.hex([]int{32, 40, 64}[g.IntN(3)])
	})
	signed("path of a picture service", func(g *gen, s string) string {
		sig := base64.URLEncoding.EncodeToString(sums[1].of(g.hex(9)))
		return "https://resize.example/" + sig + "/300x200/" + g.ownImage(s)
	})
	signed("own address with an expiry", func(g *gen, s string) string {
		return s + "://ternrock.example/download/" + g.word() + ".pdf?expires=17" + g.hex(0) + "33000000&signature=" + g.hex(64)
	})
	signed("own address with a token in base64", func(g *gen, s string) string {
		return s + "://ternrock.example/file?id=" + strconv.Itoa(g.IntN(999)) + "&Expires=1733000000&Signature=" + base64.RawURLEncoding.EncodeToString(sums[2].of(g.hex(9)))
	})
	signed("block between marks", func(g *gen, s string) string {
		return "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\nVisit " + g.own(s) + "\n-----BEGIN PGP SIGNATURE-----\n\n" + base64.StdEncoding.EncodeToString(sums[3].of(g.hex(9))) + "\n=" + "aB3d\n-----END PGP SIGNATURE-----"
	})
	addWhole("signed: header before a body", left, func(g *gen, s string) string {
		return g.pick("X-Hub-Signature-256: sha256=", "X-Signature: ", "Digest: ") + g.hex(64) + "\r\nContent-Type: application/json\r\n\r\n" + js(pairs{"url", g.own(s), "event", g.word()})
	})
	addWhole("signed: field beside a payload", left, func(g *gen, s string) string {
		return g.object(pairs{"payload", js(pairs{"url", g.own(s), "n", g.IntN(99)}), g.pick("signature", "sig", "hmac", "mac", "_sign"), g.hex(64)})
	})
	addWhole("signed: licence", left, func(g *gen, s string) string {
		return g.object(pairs{"license", pairs{"domain", g.own(s), "key", "TL-" + g.word(), "signature", base64.StdEncoding.EncodeToString([]byte(g.hex(96)))}})
	})
	addWhole("signed: header of a mail", left, func(g *gen, s string) string {
		return "DKIM-Signature: v=1; a=rsa-sha256; d=ternrock.example; s=mail;\r\n bh=" + base64.StdEncoding.EncodeToString(sums[2].of(g.hex(9))) + ";\r\n b=" + base64.StdEncoding.EncodeToString([]byte(g.hex(96))) + "\r\nSubject: " + g.words(3) + "\r\n\r\nSee " + g.own(s) + "\r\n"
	})
	add("signed: script hash in a policy", either, func(g *gen, s string) string {
		script := `var home = "` + g.own(s) + `";`
		hash := base64.StdEncoding.EncodeToString(sums[2].of(script))
		return `<meta http-equiv="Content-Security-Policy" content="script-src 'sha256-` + hash + `'"><script>` + script + `</script>`
	})
	addWhole("signed: cookie value", left, func(g *gen, s string) string {
		v := base64.RawURLEncoding.EncodeToString([]byte(js(pairs{"return", g.own(s), "id", g.IntN(99)})))
		return v + g.pick("--", ".", "|", ":") + g.hex(40)
	})

	// Coincidences and names that mean nothing.
	add("integrity of a script is of its contents", secure, func(g *gen, s string) string {
		return `<script src="` + s + `://ternrock.example/js/` + g.word() + `.js" integrity="sha384-` + base64.StdEncoding.EncodeToString(sums[4].of(g.word())) + `" crossorigin></script>`
	})
	add("version in a query", secure, func(g *gen, s string) string {
		return s + "://ternrock.example/css/main.css?" + g.pick("ver", "v", "t") + "=" + g.hex([]int{8, 10, 32}[g.IntN(3)])
	})
	add("campaign in a query", secure, func(g *gen, s string) string {
		return s + "://ternrock.example/visit?utm_source=" + g.word() + "&utm_campaign=" + g.word() + "&id=" + strconv.Itoa(g.IntN(1<<30))
	})
	add("digest in a path", secure, func(g *gen, s string) string {
		return s + "://ternrock.example/avatar/" + g.hex(32) + "?s=96"
	})
	addWhole("number that is not a length", secure, func(g *gen, s string) string {
		return g.object(pairs{"url", g.own(s), "width", 20 + g.IntN(60), "height", 20 + g.IntN(60), "order", 20 + g.IntN(40)})
	})
	addWhole("identifiers beside an address", secure, func(g *gen, s string) string {
		return g.object(pairs{"id", g.hex(8), "url", g.own(s), "parent", g.hex(7), "uuid", g.hex(8) + "-" + g.hex(4) + "-4" + g.hex(3) + "-a" + g.hex(3) + "-" + g.hex(12)})
	})
	addWhole("content digest of a picture", secure, func(g *gen, s string) string {
		return g.object(pairs{"file", g.ownImage(s), "md5", g.hex(32), "filesize", 1000 + g.IntN(90000)})
	})
	add("number before a colon", secure, func(g *gen, s string) string {
		return strconv.Itoa(1+g.IntN(12)) + ": " + g.own(s)
	})
	addWhole("nonce and key beside an address", secure, func(g *gen, s string) string {
		return g.object(pairs{"ajax_url", g.own(s), "nonce", g.hex(10), "api_key", g.hex(32), "token", g.hex(40)})
	})
}
