// Package reference makes the tables of fields that the documentation has for each kind
// of destination and each engine.
package reference

import (
	"fmt"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/engine/engines"
	"rillmark/internal/settings"
)

// Pages are the tables of each page, by the name of the table; pages lie in docs.
func Pages() map[string]map[string]string {
	pages := make(map[string]map[string]string)
	for _, k := range kinds.All {
		tables := map[string]string{"destination": settings.Markdown(k.Name, settings.Fields(k.Settings()))}
		if k.Outlet != nil {
			tables["outlet"] = settings.Markdown(k.Name, settings.Fields(k.Outlet()))
		}
		pages["outlets/"+k.Name+".md"] = tables
	}
	for _, e := range engines.All {
		page := string(e.Name) + ".md"
		if e.Name == change.PostgreSQL {
			page = "capture.md" // which also says what is the same for all
		}
		pages[page] = map[string]string{string(e.Name): settings.Markdown("connection", settings.Fields(e.Connection()))}
	}
	return pages
}

// Fill puts the tables into a page, each between a line that names it and one that ends
// it.
func Fill(page string, tables map[string]string) (string, error) {
	for name, table := range tables {
		begin, end := "<!-- fields: "+name+", made by make types -->\n", "<!-- end of the fields -->\n"
		before, rest, found := strings.Cut(page, begin)
		_, after, ended := strings.Cut(rest, end)
		if !found || !ended {
			return "", fmt.Errorf("the page has no lines %q and %q", strings.TrimSpace(begin), strings.TrimSpace(end))
		}
		page = before + begin + "\n" + table + "\n" + end + after
	}
	return page, nil
}
