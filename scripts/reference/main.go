// Command reference writes the tables of fields in the documentation, which are made of
// the descriptions that the kinds and engines have of their own definitions.
package main

import (
	"fmt"
	"log"
	"os"
	"path/filepath"

	"rillmark/internal/reference"
)

func main() {
	for page, tables := range reference.Pages() {
		path := filepath.Join("docs", page)
		text, err := os.ReadFile(path)
		if err != nil {
			log.Fatal(err)
		}
		written, err := reference.Fill(string(text), tables)
		if err != nil {
			log.Fatal(fmt.Errorf("%s: %w", path, err))
		}
		if err := os.WriteFile(path, []byte(written), 0o644); err != nil {
			log.Fatal(err)
		}
	}
}
