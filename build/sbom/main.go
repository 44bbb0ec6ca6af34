// Command sbom writes the bill of materials of a program that was built with Go: the modules that
// are in it, with their versions and checksums, as its build recorded them (CycloneDX, JSON).
package main

import (
	"debug/buildinfo"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"os"
	"strings"

	cdx "github.com/CycloneDX/cyclonedx-go"
)

func main() {
	if len(os.Args) != 2 {
		fail(fmt.Errorf("usage: sbom PROGRAM"))
	}
	info, err := buildinfo.ReadFile(os.Args[1])
	if err != nil {
		fail(err)
	}
	bom := document(info)
	e := cdx.NewBOMEncoder(os.Stdout, cdx.BOMFileFormatJSON)
	e.SetPretty(true)
	if err := e.Encode(bom); err != nil {
		fail(err)
	}
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, "sbom:", err)
	os.Exit(1)
}

// document lists the program, and what it is made of.
func document(info *buildinfo.BuildInfo) *cdx.BOM {
	setting := map[string]string{}
	for _, s := range info.Settings {
		setting[s.Key] = s.Value
	}
	program := cdx.Component{BOMRef: "fitcheck", Type: cdx.ComponentTypeApplication, Name: "fitcheck", Version: setting["vcs.revision"]}
	bom := cdx.NewBOM()
	bom.Metadata = &cdx.Metadata{Timestamp: setting["vcs.time"], Component: &program}
	components := []cdx.Component{{BOMRef: "go", Type: cdx.ComponentTypeLibrary, Name: "std", Version: info.GoVersion, PackageURL: "pkg:golang/std@" + strings.TrimPrefix(info.GoVersion, "go")}}
	refs := []string{"go"}
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		c := cdx.Component{BOMRef: m.Path, Type: cdx.ComponentTypeLibrary, Name: m.Path, Version: m.Version, PackageURL: "pkg:golang/" + m.Path + "@" + m.Version}
		if sum, ok := strings.CutPrefix(m.Sum, "h1:"); ok { // SHA-256 over the list of the module's files
			if raw, err := base64.StdEncoding.DecodeString(sum); err == nil {
				c.Hashes = &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA256, Value: hex.EncodeToString(raw)}}
			}
		}
		components = append(components, c)
		refs = append(refs, m.Path)
	}
	bom.Components = &components
	bom.Dependencies = &[]cdx.Dependency{{Ref: "fitcheck", Dependencies: &refs}}
	return bom
}
