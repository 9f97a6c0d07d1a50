// Command charsets reads the tables of a MariaDB server's character sets off that server
// and writes them in the form that package charset reads:
//
//	go run ./scripts/charsets -socket /run/mysqld/mysqld.sock -user root -out internal/mariadb/charset/tables.z
package main

import (
	"bytes"
	"compress/zlib"
	"context"
	"encoding/binary"
	"encoding/hex"
	"flag"
	"fmt"
	"log"
	"os"
	"strconv"
	"unicode/utf8"

	"rillmark/internal/mariadb/wire"
)

// unicode are the sets that need no table.
var unicode = map[string]bool{"utf8mb4": true, "utf8mb3": true, "ucs2": true, "utf16": true, "utf16le": true, "utf32": true, "ascii": true, "binary": true}

func main() {
	socket := flag.String("socket", "/run/mysqld/mysqld.sock", "the server's socket")
	user := flag.String("user", "root", "who logs in")
	out := flag.String("out", "internal/mariadb/charset/tables.z", "file to write")
	flag.Parse()
	if err := run(context.Background(), &wire.Config{Host: *socket, User: *user}, *out); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context, config *wire.Config, out string) error {
	conn, err := wire.Connect(ctx, config)
	if err != nil {
		return err
	}
	defer conn.Close()
	sets, err := conn.All(ctx, 2, "SELECT character_set_name, maxlen FROM information_schema.character_sets ORDER BY 1")
	if err != nil {
		return err
	}
	var plain []byte
	for _, set := range sets {
		if unicode[set[0]] {
			continue
		}
		ranges := []string{"seq_1_to_255"}
		if set[1] > "1" {
			ranges = append(ranges, "seq_32768_to_65535")
		}
		if set[1] > "2" {
			ranges = append(ranges, "seq_9371648_to_9437183") // codes of three bytes begin with 0x8F
		}
		plain, err = appendSet(ctx, conn, plain, set[0], ranges)
		if err != nil {
			return err
		}
	}
	var packed bytes.Buffer
	z, err := zlib.NewWriterLevel(&packed, zlib.BestCompression)
	if err != nil {
		return err
	}
	if _, err := z.Write(plain); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return os.WriteFile(out, packed.Bytes(), 0o644)
}

func appendSet(ctx context.Context, conn *wire.Conn, dst []byte, set string, ranges []string) ([]byte, error) {
	var body []byte
	n, lastCode, lastRune := int64(0), int64(0), int64(0)
	for length, codes := range ranges {
		rows, err := conn.All(ctx, 2, fmt.Sprintf("SELECT seq, HEX(CONVERT(CHAR(seq USING %s) USING utf8mb4)) FROM mysql.%s ORDER BY seq", set, codes))
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			code, err := strconv.ParseInt(row[0], 10, 64)
			if err != nil {
				return nil, err
			}
			text, err := hex.DecodeString(row[1])
			if err != nil {
				return nil, err
			}
			r, size := utf8.DecodeRune(text)
			if size == 0 || size != len(text) || r == '?' && code != '?' {
				continue // no code of this set, or one without a place in Unicode
			}
			body = binary.AppendVarint(body, int64(length+1))
			body = binary.AppendVarint(body, code-lastCode)
			body = binary.AppendVarint(body, int64(r)-lastRune)
			n, lastCode, lastRune = n+1, code, int64(r)
		}
	}
	fmt.Println(set, n)
	dst = append(append(dst, byte(len(set))), set...)
	return append(binary.AppendVarint(dst, n), body...), nil
}
