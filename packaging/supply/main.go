// Command supply writes what goes with the program's dependencies: `supply notices FILE.gz` the licences of all modules that
// are linked into it on any of its systems, `supply sbom PROGRAM FILE` a software bill of materials of one binary, as SPDX 2.3
// in JSON (ISO/IEC 5962).
package main

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// targets are the systems that the program is built for; they differ in what they link.
var targets = []string{"linux/amd64", "linux/arm64", "darwin/amd64", "darwin/arm64", "windows/amd64"}

func main() {
	err := errors.New("usage: supply notices FILE.gz | supply sbom PROGRAM FILE")
	switch {
	case len(os.Args) == 3 && os.Args[1] == "notices":
		err = notices(os.Args[2])
	case len(os.Args) == 4 && os.Args[1] == "sbom":
		err = sbom(os.Args[2], os.Args[3])
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "supply:", err)
		os.Exit(1)
	}
}

// module is a linked module and where its source is.
type module struct{ Path, Version, Dir string }

// linked lists the modules that are linked on any system, in order.
func linked() (out []module, err error) {
	for _, target := range targets {
		system, arch, _ := strings.Cut(target, "/")
		c := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{.Path}}\t{{.Version}}\t{{.Dir}}{{end}}", "./cmd/trimlantern")
		c.Env, c.Stderr = append(os.Environ(), "GOOS="+system, "GOARCH="+arch, "CGO_ENABLED=0"), os.Stderr
		b, err := c.Output()
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(string(b)) {
			if part := strings.Split(strings.TrimSpace(line), "\t"); len(part) == 3 && part[1] != "" {
				out = append(out, module{part[0], part[1], part[2]})
			}
		}
	}
	slices.SortFunc(out, func(a, b module) int { return strings.Compare(a.Path, b.Path) })
	return slices.Compact(out), nil
}

var licenceFile = regexp.MustCompile(`(?i)^(licen[cs]e|copying|notice|copyright|patents)([-.].*)?$`)

// texts returns the licences and notices of a module.
func texts(m module) (out []string, err error) {
	entries, err := os.ReadDir(m.Dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !e.Type().IsRegular() || !licenceFile.MatchString(e.Name()) || strings.HasSuffix(e.Name(), ".go") {
			continue
		}
		b, err := os.ReadFile(filepath.Join(m.Dir, e.Name()))
		if err != nil {
			return nil, err
		}
		out = append(out, strings.TrimSpace(strings.ReplaceAll(string(b), "\r\n", "\n")))
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s %s has no licence", m.Path, m.Version)
	}
	return out, nil
}

func notices(file string) error {
	modules, err := linked()
	if err != nil {
		return err
	}
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return err
	}
	modules = append(modules, module{"the Go standard library", "", strings.TrimSpace(string(root))})
	of := map[string][]string{} // the modules of each text
	var order []string
	for _, m := range modules {
		list, err := texts(m)
		if err != nil {
			return err
		}
		for _, text := range list {
			if of[text] == nil {
				order = append(order, text)
			}
			of[text] = append(of[text], strings.TrimSpace(m.Path+" "+m.Version))
		}
	}
	var out bytes.Buffer
	for _, text := range order {
		fmt.Fprintf(&out, "%s\n\n%s\n\n%s\n\n", strings.Join(of[text], "\n"), text, strings.Repeat("-", 78))
	}
	var packed bytes.Buffer
	z, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return err
	}
	if _, err := z.Write(out.Bytes()); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return os.WriteFile(file, packed.Bytes(), 0o644)
}

// The part of SPDX that is used.
type document struct {
	Version   string  `json:"spdxVersion"`
	License   string  `json:"dataLicense"`
	ID        string  `json:"SPDXID"`
	Name      string  `json:"name"`
	Namespace string  `json:"documentNamespace"`
	Creation  created `json:"creationInfo"`
	Packages  []pack  `json:"packages"`
	Relations []link  `json:"relationships"`
}

type created struct {
	Created  string   `json:"created"`
	Creators []string `json:"creators"`
}

type pack struct {
	ID        string     `json:"SPDXID"`
	Name      string     `json:"name"`
	Version   string     `json:"versionInfo,omitempty"`
	From      string     `json:"downloadLocation"`
	Analyzed  bool       `json:"filesAnalyzed"`
	Declared  string     `json:"licenseDeclared"`
	Concluded string     `json:"licenseConcluded"`
	Copyright string     `json:"copyrightText"`
	Checksums []checksum `json:"checksums,omitempty"`
	Refs      []ref      `json:"externalRefs,omitempty"`
}

type checksum struct {
	Algorithm string `json:"algorithm"`
	Value     string `json:"checksumValue"`
}

type ref struct {
	Category string `json:"referenceCategory"`
	Type     string `json:"referenceType"`
	Locator  string `json:"referenceLocator"`
}

type link struct {
	From string `json:"spdxElementId"`
	Type string `json:"relationshipType"`
	To   string `json:"relatedSpdxElement"`
}

// when is SOURCE_DATE_EPOCH, or now: two builds of one commit have equal bills.
func when() time.Time {
	if n, err := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64); err == nil {
		return time.Unix(n, 0).UTC()
	}
	return time.Now().UTC()
}

func sbom(program, file string) error {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return err
	}
	b, err := os.ReadFile(program)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(b)
	name := filepath.Base(program)
	const none = "NOASSERTION"
	d := document{Version: "SPDX-2.3", License: "CC0-1.0", ID: "SPDXRef-DOCUMENT", Name: name,
		Namespace: "https://trimlantern.example/spdx/" + name + "-" + hex.EncodeToString(sum[:8]),
		Creation:  created{when().Format(time.RFC3339), []string{"Tool: supply"}},
		Packages: []pack{{ID: "SPDXRef-program", Name: name, From: none, Declared: "MIT", Concluded: "MIT", Copyright: none,
			Checksums: []checksum{{"SHA256", hex.EncodeToString(sum[:])}}}},
		Relations: []link{{"SPDXRef-DOCUMENT", "DESCRIBES", "SPDXRef-program"}}}
	add := func(path, version string) {
		id := fmt.Sprintf("SPDXRef-module-%d", len(d.Packages))
		d.Packages = append(d.Packages, pack{ID: id, Name: path, Version: version, From: none, Declared: none, Concluded: none, Copyright: none,
			Refs: []ref{{"PACKAGE-MANAGER", "purl", "pkg:golang/" + path + "@" + version}}})
		d.Relations = append(d.Relations, link{"SPDXRef-program", "DEPENDS_ON", id})
	}
	add("stdlib", strings.TrimPrefix(info.GoVersion, "go"))
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		add(m.Path, m.Version)
	}
	out, err := json.MarshalIndent(d, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(out, '\n'), 0o644)
}
