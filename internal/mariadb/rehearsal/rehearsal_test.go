package rehearsal

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWithoutForeignKeys: what SHOW CREATE TABLE gives stays a statement, whichever of its parts
// are foreign keys.
func TestWithoutForeignKeys(t *testing.T) {
	head, end := "CREATE TABLE `t` (\n", "\n) ENGINE=InnoDB COMMENT='CONSTRAINT `a` FOREIGN KEY (x)'"
	columns := "  `id` int(11) NOT NULL COMMENT ',\n  CONSTRAINT',\n  PRIMARY KEY (`id`)"
	key := func(name string) string {
		return "  CONSTRAINT `" + name + "` FOREIGN KEY (`id`) REFERENCES `o` (`id`) ON DELETE CASCADE"
	}
	check := "  CONSTRAINT `c` CHECK (`id` > 0)"
	for _, parts := range [][]string{{columns}, {columns, key("a")}, {columns, key("a"), key("b")}, {columns, key("a"), check}, {columns, check, key("a")}, {columns, key("a"), check, key("b")}} {
		var kept []string
		for _, part := range parts {
			if !strings.Contains(part, "FOREIGN KEY") {
				kept = append(kept, part)
			}
		}
		require.Equal(t, head+strings.Join(kept, ",\n")+end, withoutForeignKeys(head+strings.Join(parts, ",\n")+end))
	}
}

// TestEffectsOf: which statements are tried, and of which table.
func TestEffectsOf(t *testing.T) {
	for text, want := range map[string]string{
		"ALTER TABLE catalogue.works ADD x int":                   "catalogue.works",
		"alter ignore table `Odd ``name` modify x int":            ".Odd `name",
		"RENAME TABLE works TO books":                             ".works",
		"ALTER TABLE works RENAME COLUMN a TO b, RENAME TO books": ".works",
		"DROP TABLE IF EXISTS catalogue.works":                    "catalogue.works",
		"ALTER TABLE works DROP PARTITION p1":                     ".works",
		"/*!50000 ALTER TABLE works ADD x int */":                 ".works",
	} {
		_, table, err := effectsOf(text)
		require.NoError(t, err, text)
		require.Equal(t, want, table.Database+"."+table.Name, text)
	}
	for text, told := range map[string]string{
		"":                                    "is empty",
		"SELECT 1":                            "no ALTER TABLE",
		"CREATE TABLE works (id int)":         "no ALTER TABLE",
		"TRUNCATE works":                      "no ALTER TABLE",
		"DROP DATABASE catalogue":             "no ALTER TABLE",
		"DROP TABLE works, authors":           "several tables",
		"RENAME TABLE works TO a, b TO works": "several tables",
		"ALTER TABLE works EXCHANGE PARTITION p WITH TABLE other": "several tables",
		"ALTER TABLE works ADD `x":                                "no ALTER TABLE",
		strings.Repeat("x", maxStatement+1):                       "more than 16384 bytes",
	} {
		_, _, err := effectsOf(text)
		require.ErrorContains(t, err, told, text)
	}
}
