package catalogue

import (
	"fmt"
	"strings"

	"rillmark/internal/mariadb/binlog"
	"rillmark/internal/mariadb/values"
)

// described is a column as the catalogue has it.
type described struct {
	name, columnType, dataType         string
	nullable, generated, json          bool
	collation                          uint16
	octets, precision, scale, decimals int
	extra                              string
}

const collationBinary = 63

// blobSizes are how many bytes the length of a text has in the log.
var blobSizes = map[string]uint16{"tinytext": 1, "tinyblob": 1, "text": 2, "blob": 2, "mediumtext": 3, "mediumblob": 3, "longtext": 4, "longblob": 4}

var integerTypes = map[string]byte{"tinyint": binlog.ColTiny, "smallint": binlog.ColShort, "mediumint": binlog.ColInt24, "int": binlog.ColLong, "bigint": binlog.ColLongLong}

var geometries = []string{"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection"}

// column is what the log and a SELECT have of it. unfit is why its values cannot be read.
func (d *described) column() (c *values.Column, unfit string) {
	c = &values.Column{Generated: d.generated, Invisible: strings.Contains(d.extra, "INVISIBLE")}
	c.Name, c.Nullable = d.name, d.nullable
	c.Type, _, _ = strings.Cut(d.columnType, " /*")
	c.Log = binlog.Column{Name: d.name, Nullable: d.nullable, Unsigned: strings.Contains(d.columnType, "unsigned"), Collation: d.collation}
	compressed := strings.Contains(d.columnType, "COMPRESSED")
	log := &c.Log
	switch d.dataType {
	case "tinyint", "smallint", "mediumint", "int", "bigint":
		c.Kind, log.Type = values.Integer, integerTypes[d.dataType]
	case "float":
		c.Kind, log.Type, log.Meta = values.Float, binlog.ColFloat, 4
	case "double":
		c.Kind, log.Type, log.Meta = values.Double, binlog.ColDouble, 8
	case "decimal":
		c.Kind, log.Type, log.Meta = values.Decimal, binlog.ColNewDecimal, uint16(d.precision<<8|d.scale)
	case "year":
		c.Kind, log.Type, log.Unsigned = values.Year, binlog.ColYear, true
	case "bit":
		c.Kind, log.Type, log.Meta = values.Bits, binlog.ColBit, uint16(d.precision/8<<8|d.precision%8)
	case "date":
		c.Kind, log.Type = values.Date, binlog.ColDate
	case "time":
		c.Kind, log.Type, log.Meta = values.Time, binlog.ColTime2, uint16(d.decimals)
	case "datetime":
		c.Kind, log.Type, log.Meta = values.DateTime, binlog.ColDateTime2, uint16(d.decimals)
	case "timestamp":
		c.Kind, log.Type, log.Meta = values.Timestamp, binlog.ColTimestamp2, uint16(d.decimals)
	case "char":
		c.Kind, log.Type, log.Meta = values.Text, binlog.ColString, uint16(d.octets)
	case "binary":
		c.Kind, log.Type, log.Meta, log.Collation, c.Bytes = values.Binary, binlog.ColString, uint16(d.octets), collationBinary, d.octets
	case "varchar":
		c.Kind, log.Type, log.Meta = values.Text, binlog.ColVarchar, uint16(d.octets)
	case "varbinary":
		c.Kind, log.Type, log.Meta, log.Collation = values.Binary, binlog.ColVarchar, uint16(d.octets), collationBinary
	case "tinytext", "text", "mediumtext", "longtext":
		c.Kind, log.Type, log.Meta = values.Text, binlog.ColBlob, blobSizes[d.dataType]
		if d.json {
			c.Kind, c.Type = values.JSON, "json"
		}
	case "tinyblob", "blob", "mediumblob", "longblob":
		c.Kind, log.Type, log.Meta, log.Collation = values.Binary, binlog.ColBlob, blobSizes[d.dataType], collationBinary
	case "enum", "set":
		c.Kind, log.Type = values.Enum, binlog.ColEnum
		c.Known = labels(d.columnType)
		log.Meta = 1
		if len(c.Known) > 255 {
			log.Meta = 2
		}
		c.Type = "enum"
		if d.dataType == "set" {
			c.Kind, log.Type, c.Type = values.Set, binlog.ColSet, d.columnType
			log.Meta = uint16((len(c.Known) + 7) / 8)
			if log.Meta > 4 {
				log.Meta = 8
			}
		}
	case "uuid", "inet6":
		c.Kind, log.Type, log.Meta, log.Collation = values.UUID, binlog.ColString, 16, collationBinary
		if d.dataType == "inet6" {
			c.Kind = values.Inet6
		}
	case "inet4":
		c.Kind, log.Type, log.Meta, log.Collation = values.Inet4, binlog.ColString, 4, collationBinary
	default:
		for i, name := range geometries {
			if d.dataType == name {
				c.Kind, log.Type, log.Meta, log.Geometry = values.Geometry, binlog.ColGeometry, 4, uint8(i)
				return c, ""
			}
		}
		return c, fmt.Sprintf("column %s is of the type %s, which this version does not know", d.name, d.dataType)
	}
	if compressed {
		log.Type = binlog.ColBlobCompressed
		if d.dataType == "varchar" || d.dataType == "varbinary" {
			log.Type = binlog.ColVarcharCompr
			log.Meta++
		}
	}
	return c, ""
}

// escaped are the signs that the catalogue writes behind a backslash.
var escaped = map[byte]byte{'n': '\n', 'r': '\r', '0': 0, 'Z': 26}

// labels are those of an enum or a set: the catalogue writes them in UTF-8.
func labels(columnType string) []string {
	var all []string
	open := strings.IndexByte(columnType, '(')
	for i := open + 1; open >= 0 && i < len(columnType); i++ {
		if columnType[i] != '\'' {
			continue
		}
		var label []byte
		for i++; i < len(columnType); i++ {
			b := columnType[i]
			if b == '\'' && (i+1 == len(columnType) || columnType[i+1] != '\'') {
				break
			}
			if i++; b != '\'' && b != '\\' {
				i--
			} else if i < len(columnType) {
				if b = columnType[i]; columnType[i-1] == '\\' && (escaped[b] != 0 || b == '0') {
					b = escaped[b]
				}
			}
			label = append(label, b)
		}
		all = append(all, string(label))
	}
	return all
}
