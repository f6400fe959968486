package mixed

import (
	"encoding/json"
	"slices"
	"strings"
)

// importMap is what the import maps of a page say (HTML §8.1.6.3). Keys that are URLs are
// absolute.
type importMap struct {
	imports map[string]string
	scopes  map[string]map[string]string
}

// add merges an import map; the first rule for a name wins. Invalid JSON is ignored.
func (m *importMap) add(b []byte, absolute func(string) (string, bool)) {
	var read struct {
		Imports map[string]any            `json:"imports"`
		Scopes  map[string]map[string]any `json:"scopes"`
	}
	if json.Unmarshal(b, &read) != nil {
		return
	}
	join := func(to *map[string]string, from map[string]any) {
		if *to == nil {
			*to = map[string]string{}
		}
		for name, value := range from {
			if urlLike(name) {
				if u, ok := absolute(name); ok {
					name = u
				}
			}
			address, ok := value.(string)
			if !ok || !urlLike(address) {
				continue
			}
			if u, ok := absolute(address); ok && (*to)[name] == "" {
				(*to)[name] = u
			}
		}
	}
	join(&m.imports, read.Imports)
	for prefix, rules := range read.Scopes {
		u, ok := absolute(prefix)
		if !ok {
			continue
		}
		if m.scopes == nil {
			m.scopes = map[string]map[string]string{}
		}
		scope := m.scopes[u]
		join(&scope, rules)
		m.scopes[u] = scope
	}
}

// resolve returns the absolute URL of a module specifier in a script at referrer. ok is false for
// a bare name without a rule.
func (m *importMap) resolve(specifier, referrer string, absolute func(string) (string, bool)) (u string, ok bool) {
	name := specifier
	if urlLike(specifier) {
		if u, ok = absolute(specifier); ok {
			name = u
		}
	}
	for _, prefix := range longestFirst(m.scopes) {
		if referrer == prefix || strings.HasSuffix(prefix, "/") && strings.HasPrefix(referrer, prefix) {
			if to, found := match(m.scopes[prefix], name); found {
				return to, true
			}
		}
	}
	if to, found := match(m.imports, name); found {
		return to, true
	}
	return u, ok
}

// match looks a name up exactly, then by its longest prefix that ends in a slash.
func match(rules map[string]string, name string) (string, bool) {
	if to, ok := rules[name]; ok {
		return to, true
	}
	for _, prefix := range longestFirst(rules) {
		if to := rules[prefix]; strings.HasSuffix(prefix, "/") && strings.HasPrefix(name, prefix) && strings.HasSuffix(to, "/") {
			return to + name[len(prefix):], true
		}
	}
	return "", false
}

func longestFirst[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b string) int { return strings.Compare(b, a) })
	return keys
}

// urlLike reports whether a specifier is a URL, and no bare name.
func urlLike(s string) bool {
	if strings.HasPrefix(s, "/") || strings.HasPrefix(s, "./") || strings.HasPrefix(s, "../") {
		return true
	}
	scheme, _, ok := strings.Cut(s, ":")
	return ok && scheme != "" && !strings.ContainsAny(scheme, "/?#@ ")
}
