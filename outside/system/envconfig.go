package system

import (
	"strings"

	"trimlantern/outside/disk"
)

// ReadEnv reads the settings of a file of NAME=value lines, as many systems keep
// them: comments begin with #, a value may be quoted, and export may stand in
// front. Nothing is expanded or run: a value with ${NAME} in it is Computed. The last setting of a name counts.
func ReadEnv(file string) (map[string]Setting, error) {
	b, err := disk.Read(file, maxConfig)
	if err != nil {
		return nil, err
	}
	return envSettings(file, string(b)), nil
}

func envSettings(file, src string) map[string]Setting {
	out := map[string]Setting{}
	for i, line := range strings.Split(src, "\n") {
		line = strings.TrimSpace(line)
		line = strings.TrimSpace(strings.TrimPrefix(line, "export "))
		name, value, ok := strings.Cut(line, "=")
		name = strings.TrimSpace(name)
		if !ok || name == "" || strings.ContainsAny(name, "#'\" \t") {
			continue
		}
		s := Setting{envValue(strings.TrimSpace(value)), Literally, file, i + 1}
		if known, _, ok := strings.Cut(s.Value, "${"); ok && !strings.HasPrefix(strings.TrimSpace(value), "'") { // another setting goes in
			s.Value, s.How = known, Computed
		}
		out[name] = s
	}
	return out
}

// envValue takes the quotes or the comment from a value.
func envValue(s string) string {
	if s == "" {
		return ""
	}
	if q := s[0]; q == '\'' || q == '"' {
		var out strings.Builder
		for i := 1; i < len(s); i++ {
			switch {
			case s[i] == q:
				return out.String()
			case s[i] == '\\' && q == '"' && i+1 < len(s):
				i++
				if s[i] == 'n' {
					out.WriteByte('\n')
				} else {
					out.WriteByte(s[i])
				}
			default:
				out.WriteByte(s[i])
			}
		}
		return out.String()
	}
	if i := strings.Index(s, " #"); i >= 0 {
		s = strings.TrimSpace(s[:i])
	}
	return s
}
