package main

import (
	"archive/zip"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"

	"fitcheck/demo"
)

// fleetPackage writes the bundle of one release and revision, with an image of each model.
func fleetPackage(path, version, revision string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := zip.NewWriter(f)
	var list strings.Builder
	for k := range 6 {
		model := fmt.Sprintf("RX-%d", k+1)
		r := rand.New(rand.NewChaCha8(sha256.Sum256([]byte(model + version + revision))))
		payload := make([]byte, 20_000)
		for i := range payload {
			payload[i] = byte(r.Uint32())
		}
		img := demo.UImage(5, map[string]byte{"A": 2, "B": 22}[revision], 2, model+" "+version, payload)
		fmt.Fprintf(&list, "rx-%d.img %s %s %s %x\n", k+1, model, revision, version, sha256.Sum256(img))
		e, err := w.Create(fmt.Sprintf("x/rx-%d.img", k+1))
		if err != nil {
			return err
		}
		if _, err := e.Write(img); err != nil {
			return err
		}
	}
	e, err := w.Create("x/list.txt")
	if err != nil {
		return err
	}
	if _, err := e.Write([]byte(list.String())); err != nil {
		return err
	}
	return w.Close()
}
