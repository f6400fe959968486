// Package markup tells what a page does with each URL it holds: in HTML, SVG, CSS,
// scripts and short codes. Rewriting, scanning and tracing read the same tables.
package markup

// Use tells what a page does with a URL.
type Use uint8

// The uses. Text is everything that no rule speaks of.
const (
	Text  Use = iota // stands in words or in a value that nothing is known of
	Loads            // the page fetches it by itself
	Opens            // a visitor goes there
	Sends            // a form sends there
	Names            // an address that only names something (canonical, og:, cite)
	Ident            // an identifier that only looks like an address (xmlns, DTD)
	Maybe            // a script may turn it into a load (data-src, a script's literal)
)

// String returns the use as findings show it.
func (u Use) String() string {
	return [...]string{"text", "loaded", "link", "form", "address", "identifier", "possible"}[u]
}

// Kind is what a load is for, in the words of Fetch's destinations.
type Kind string

// The kinds that matter to W3C Mixed Content. ImageSet is an image whose
// initiator is srcset or picture.
const (
	Audio    Kind = "audio"
	Font     Kind = "font"
	Fetch    Kind = "fetch"
	Frame    Kind = "frame"
	Icon     Kind = "icon"
	Image    Kind = "image"
	ImageSet Kind = "imageset"
	Manifest Kind = "manifest"
	Object   Kind = "object"
	Prefetch Kind = "prefetch"
	Script   Kind = "script"
	Style    Kind = "style"
	Touch    Kind = "touchicon" // an icon that only telephones and the like load
	Track    Kind = "track"
	Video    Kind = "video"
)

// Shape is how an attribute's value holds URLs.
type Shape uint8

// The shapes.
const (
	One      Shape = iota // one URL
	Set                   // srcset: URLs with descriptors
	Sheet                 // CSS
	Fragment              // HTML: srcdoc
	Refresh               // "5; url=…"
	Spaced                // URLs between spaces
)

// Context is one way in which markup holds a URL.
type Context struct {
	Element string // lower case; "*" for any
	Attr    string // lower case
	Use     Use
	Kind    Kind // for Loads and Maybe
	Shape   Shape
}

// contexts is the one table of contexts in HTML and SVG. <link> and <meta> say
// in other attributes what they are: see linkContext and metaContext.
var contexts = []Context{
	{"script", "src", Loads, Script, One},
	{"script", "href", Loads, Script, One}, // SVG
	{"script", "xlink:href", Loads, Script, One},
	{"img", "src", Loads, Image, One},
	{"img", "srcset", Loads, ImageSet, Set},
	{"img", "longdesc", Opens, "", One},
	{"source", "src", Loads, Video, One},
	{"source", "srcset", Loads, ImageSet, Set},
	{"audio", "src", Loads, Audio, One},
	{"video", "src", Loads, Video, One},
	{"video", "poster", Loads, Image, One},
	{"track", "src", Loads, Track, One},
	{"iframe", "src", Loads, Frame, One},
	{"iframe", "srcdoc", Loads, Frame, Fragment},
	{"frame", "src", Loads, Frame, One},
	{"embed", "src", Loads, Object, One},
	{"object", "data", Loads, Object, One},
	{"input", "src", Loads, Image, One},
	{"input", "formaction", Sends, "", One},
	{"button", "formaction", Sends, "", One},
	{"form", "action", Sends, "", One},
	{"a", "href", Opens, "", One},
	{"a", "xlink:href", Opens, "", One},
	{"a", "ping", Opens, "", Spaced},
	{"area", "href", Opens, "", One},
	{"base", "href", Names, "", One},
	{"html", "manifest", Names, "", One},
	{"image", "href", Loads, Image, One}, // SVG
	{"image", "xlink:href", Loads, Image, One},
	{"feimage", "href", Loads, Image, One},
	{"feimage", "xlink:href", Loads, Image, One},
	{"use", "href", Loads, Image, One},
	{"use", "xlink:href", Loads, Image, One},
	{"body", "background", Loads, Image, One},
	{"table", "background", Loads, Image, One},
	{"thead", "background", Loads, Image, One},
	{"tbody", "background", Loads, Image, One},
	{"tfoot", "background", Loads, Image, One},
	{"tr", "background", Loads, Image, One},
	{"td", "background", Loads, Image, One},
	{"th", "background", Loads, Image, One},
	{"image", "src", Loads, Image, One}, // HTML takes it for img
	{"image", "srcset", Loads, ImageSet, Set},
	{"*", "fill", Loads, Image, Sheet}, // SVG's presentation attributes
	{"*", "stroke", Loads, Image, Sheet},
	{"*", "filter", Loads, Image, Sheet},
	{"*", "mask", Loads, Image, Sheet},
	{"*", "clip-path", Loads, Image, Sheet},
	{"*", "marker-start", Loads, Image, Sheet},
	{"*", "marker-mid", Loads, Image, Sheet},
	{"*", "marker-end", Loads, Image, Sheet},
	{"*", "style", Loads, Image, Sheet},
	{"*", "cite", Names, "", One},
	{"*", "profile", Ident, "", One},
	{"*", "itemtype", Ident, "", Spaced},
	{"*", "itemid", Ident, "", One},
	{"*", "vocab", Ident, "", One},
	{"*", "typeof", Ident, "", Spaced},
	{"*", "property", Ident, "", Spaced},
	{"*", "resource", Ident, "", One},
	{"*", "about", Ident, "", One},
	{"*", "prefix", Ident, "", Spaced},
	{"*", "datatype", Ident, "", One},
	{"*", "data-src", Maybe, Image, One},
	{"*", "data-srcset", Maybe, ImageSet, Set},
	{"*", "data-lazy-src", Maybe, Image, One},
	{"*", "data-lazy-srcset", Maybe, ImageSet, Set},
	{"*", "data-original", Maybe, Image, One},
	{"*", "data-bg", Maybe, Image, One},
	{"*", "data-background", Maybe, Image, One},
	{"*", "data-background-image", Maybe, Image, One},
	{"*", "data-poster", Maybe, Image, One},
}

// linkRels is the table of <link rel=…>; the first row whose word is among the
// rel's words counts.
var linkRels = []struct {
	rel  string
	use  Use
	kind Kind
}{
	{"stylesheet", Loads, Style},
	{"icon", Loads, Icon},
	{"apple-touch-icon", Loads, Touch},
	{"mask-icon", Loads, Touch},
	{"manifest", Loads, Manifest},
	{"modulepreload", Loads, Script},
	{"preload", Loads, Prefetch},
	{"prefetch", Loads, Prefetch},
	{"prerender", Loads, Prefetch},
	{"profile", Ident, ""},
}

// preloadAs is what <link rel=preload as=…> is for.
var preloadAs = map[string]Kind{
	"image": Image, "script": Script, "style": Style, "font": Font,
	"audio": Audio, "video": Video, "track": Track, "fetch": Fetch,
}

// bracketAttrs are attributes of short codes in square brackets, and names of
// fields, that a page loads.
var bracketAttrs = map[string]bool{
	"src": true, "srcset": true, "img": true, "image": true, "poster": true, "background": true, "bg": true,
	"bg_image": true, "logo": true, "icon": true, "photo": true, "mp4": true, "webm": true, "ogv": true,
	"mp3": true, "ogg": true, "m4v": true, "m4a": true, "wav": true, "flv": true, "wmv": true, "thumb": true, "thumbnail": true,
}

// assetEndings are the endings of a path that nobody but a page's loading asks
// for: a lone URL with one of them is an asset.
var assetEndings = map[string]Kind{
	"avif": Image, "bmp": Image, "gif": Image, "ico": Image, "jpeg": Image, "jpg": Image, "png": Image, "svg": Image, "webp": Image,
	"css": Style, "js": Script, "mjs": Script,
	"eot": Font, "otf": Font, "ttf": Font, "woff": Font, "woff2": Font,
	"mp3": Audio, "ogg": Audio, "wav": Audio, "m4a": Audio, "mp4": Video, "m4v": Video, "webm": Video, "ogv": Video,
}

// standards are the hosts, with the beginning of the path, whose addresses are
// names of standards and not places to load anything from.
var standards = []struct{ host, path string }{
	{"www.w3.org", "/1998/"}, {"www.w3.org", "/1999/"}, {"www.w3.org", "/2000/"}, {"www.w3.org", "/2001/"},
	{"www.w3.org", "/2002/"}, {"www.w3.org", "/2003/"}, {"www.w3.org", "/2004/"}, {"www.w3.org", "/2005/"},
	{"www.w3.org", "/2006/"}, {"www.w3.org", "/2007/"}, {"www.w3.org", "/TR/"}, {"www.w3.org", "/XML/"},
	{"www.w3.org", "/MarkUp/"}, {"www.w3.org", "/ns/"}, {"w3.org", "/ns/"},
	{"schema.org", ""}, {"purl.org", ""}, {"ogp.me", ""}, {"gmpg.org", "/xfn/"}, {"xmlns.com", ""},
	{"json-schema.org", ""}, {"dublincore.org", ""}, {"rdfs.org", ""}, {"www.sitemaps.org", "/schemas/"},
	{"schemas.xmlsoap.org", ""}, {"wellformedweb.org", ""},
	{"iptc.org", "/std/"}, {"microformats.org", "/profile/"}, {"www.opengis.net", ""},
}
