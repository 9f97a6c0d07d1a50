// Package settings is what a destination kind's or an engine's own part of a definition
// is made of: structs whose tags describe each field. The API's JSON Schemas, the
// client's flags, the console's forms and the reference in the documentation are made
// from the same tags, and so is the list of secrets to seal.
//
// The tags, besides json:
//
//	title     what the field is called where people fill it in
//	doc       what it means, in a sentence
//	example   a value to show
//	default   what holds where it is absent; enum, minimum, maximum, minLength, minItems
//	unit      of a number: bytes, events
//	secret    "yes": the value is sealed, and never shown again; "by-name": of a map,
//	          those whose names [SecretName] takes for secrets
//	advanced  "yes": few people need it
//	flag      its flag on the command line, where that is not made of its path
//	when      the field (and its value, after =) without which it means nothing
//	instead   the field that it stands in for
package settings

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"reflect"
	"regexp"
	"strings"
	"time"
)

// Invalid is an error with the place of what is wrong.
type Invalid struct {
	Location string // "connection.port", "tables[1].match"
	Message  string
}

// Error is place and message.
func (e *Invalid) Error() string { return e.Location + ": " + e.Message }

// Inside puts what is wrong with a part in its place in the whole; other errors stay as they
// are.
func Inside(part string, err error) error {
	var invalid *Invalid
	if !errors.As(err, &invalid) {
		return err
	}
	return &Invalid{Location: strings.TrimSuffix(part+"."+invalid.Location, "."), Message: invalid.Message}
}

// Wrong is an [Invalid] at a place, with its message in the form of [fmt.Sprintf].
func Wrong(at, format string, args ...any) error {
	return &Invalid{Location: at, Message: fmt.Sprintf(format, args...)}
}

// Refers reports whether a text refers to a variable or a file: what it is shows when
// it is used.
func Refers(text string) bool {
	return strings.Contains(text, "${env:") || strings.Contains(text, "${file:")
}

// HostPort refuses what is not host:port.
func HostPort(at, address string) error {
	if Refers(address) {
		return nil
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil || host == "" || port == "" {
		return Wrong(at, "%q is no address: write host:port", address)
	}
	return nil
}

// AbsoluteURL refuses what is no absolute http or https address.
func AbsoluteURL(at, address string) error {
	if Refers(address) {
		return nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return Wrong(at, "%q is no absolute address: write https://host/path", address)
	}
	return nil
}

// LoopbackOnly reports whether each host:port is this machine's.
func LoopbackOnly(addresses []string) bool {
	for _, one := range addresses {
		host, _, _ := net.SplitHostPort(one)
		if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return false
		}
	}
	return true
}

// Duration reads a duration that lies between two bounds, both included.
func Duration(at, text string, least, most time.Duration) (time.Duration, error) {
	d, err := time.ParseDuration(text)
	if err != nil || d < least || d > most {
		return 0, Wrong(at, "%q is no duration from %s to %s: write 500ms, 90s, 15m or 24h", text, least, most)
	}
	return d, nil
}

// TLS is how an encrypted connection is checked; the empty object stands for
// the system's own certificates.
type TLS struct {
	Root        string `json:"root,omitempty" title:"Certificates to trust" doc:"File of the certificates to trust, on the service's machine; the system's own without it" example:"/etc/rillmark/ca.pem"`
	ServerName  string `json:"server_name,omitempty" title:"Server's name" advanced:"yes" doc:"The name that the server's certificate must have, where it is not the address"`
	Certificate string `json:"certificate,omitempty" title:"Our certificate" advanced:"yes" doc:"File of a certificate that we show"`
	Key         string `json:"key,omitempty" title:"Our certificate's key" advanced:"yes" doc:"File of that certificate's private key"`
}

// Validate checks what can be checked without the files; nil is valid.
func (t *TLS) Validate(at string) error {
	if t == nil {
		return nil
	}
	if (t.Certificate == "") != (t.Key == "") {
		return Wrong(at+".certificate", "a certificate that we show and its key go together")
	}
	return nil
}

// CheckFiles looks whether the files that a section's TLS parts name can be read here,
// which is asked when a definition is written and not each time it is used.
func CheckFiles(section any, at string) (err error) {
	walk(reflect.ValueOf(section), at, func(at string, _ reflect.StructTag, v reflect.Value) {
		t, is := v.Interface().(TLS)
		if !is || err != nil {
			return
		}
		for _, one := range []struct{ name, file string }{{"root", t.Root}, {"certificate", t.Certificate}, {"key", t.Key}} {
			if one.file == "" || Refers(one.file) || err != nil {
				continue
			}
			if _, wrong := os.Stat(one.file); wrong != nil {
				err = Wrong(at+"."+one.name, "the file %s cannot be read on the service's machine: %v", one.file, wrong)
			}
		}
	})
	return err
}

var secretName = regexp.MustCompile(`(?i)(token|secret|key|pass|auth|cookie|credential|signature|session)`)

// SecretName reports whether the value under a name, such as a header's, is a secret.
func SecretName(name string) bool { return secretName.MatchString(name) }

// EachSecret puts what change makes of each secret of a section in its place. at is the
// section's own place; names tell the secrets apart; an empty secret is none.
func EachSecret(section any, at string, change func(name, secret string) string) {
	walk(reflect.ValueOf(section), at, func(at string, tag reflect.StructTag, v reflect.Value) {
		switch tag.Get("secret") {
		case "yes":
			if v.String() != "" {
				v.SetString(change(at, v.String()))
			}
		case "by-name":
			for _, key := range v.MapKeys() {
				if secret := v.MapIndex(key).String(); secret != "" && SecretName(key.String()) {
					v.SetMapIndex(key, reflect.ValueOf(change(at+"."+strings.ToLower(key.String()), secret)))
				}
			}
		}
	})
}

// Clone is a copy of a section that shares nothing with it.
func Clone[S any](section S) S {
	v := reflect.ValueOf(section)
	if !v.IsValid() || v.IsNil() {
		return section
	}
	copied := reflect.New(v.Type().Elem())
	raw, err := json.Marshal(section)
	if err == nil {
		err = json.Unmarshal(raw, copied.Interface())
	}
	if err != nil {
		panic(err) // sections are texts, numbers and lists of them
	}
	return copied.Interface().(S)
}

// walk visits the fields of a section that are there, those of its parts included: a
// struct first, then what is in it.
func walk(v reflect.Value, at string, visit func(at string, tag reflect.StructTag, v reflect.Value)) {
	if v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		if !v.IsNil() {
			walk(v.Elem(), at, visit)
		}
		return
	}
	if v.Kind() != reflect.Struct {
		return
	}
	for i := range v.NumField() {
		f, inner := v.Type().Field(i), v.Field(i)
		name := jsonName(f)
		if f.Anonymous && name == "" {
			walk(inner, at, visit)
		}
		if name == "" {
			continue
		}
		here := strings.TrimPrefix(at+"."+name, ".")
		if inner.Kind() == reflect.Pointer {
			if inner.IsNil() {
				continue
			}
			inner = inner.Elem()
		}
		visit(here, f.Tag, inner)
		walk(inner, here, visit)
	}
}

// jsonName is the field's name in JSON; empty for one that is not written.
func jsonName(f reflect.StructField) string {
	name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
	if name == "-" || !f.IsExported() {
		return ""
	}
	return name
}

// Missing is the fault of a section whose field at its top is empty although it is required.
func Missing(section any, at string) error {
	raw, err := json.Marshal(section)
	if err != nil {
		return err
	}
	var values map[string]any
	if err := json.Unmarshal(raw, &values); err != nil {
		return err
	}
	for _, f := range Fields(section) {
		if f.Required && !strings.Contains(f.Path, ".") && (values[f.Path] == nil || values[f.Path] == "") {
			return Wrong(at+"."+f.Path, "it is missing: %s", strings.ToLower(f.Doc[:1])+f.Doc[1:])
		}
	}
	return nil
}
