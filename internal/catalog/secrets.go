package catalog

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"rillmark/internal/localfile"
)

// Sealed is what is shown instead of a secret that was typed in. Given back in
// an edit, it leaves the secret as it is.
const Sealed = "(sealed)"

// The prefixes of sealed texts. Those of the first form were bound to nothing, so that they could be
// put in another place; they are sealed anew when the service starts.
const (
	anySealed    = "sealed:"
	formerSealed = "sealed:1:"
	sealedPrefix = "sealed:2:"
)

// Keeper seals secrets with AES-256-GCM under a key that lies outside of the
// state database. It never prints what it holds.
type Keeper struct {
	aead cipher.AEAD
	// Mark is the same for the same key, and says nothing of it.
	Mark string
	// References are what definitions may refer to.
	References References
	hidden     concealed
}

// String keeps the key out of any output.
func (k *Keeper) String() string { return "keeper" }

// GoString keeps the key out of any output.
func (k *Keeper) GoString() string { return "keeper" }

// NewKeeper uses the key in the environment's variable RILLMARK_KEY, base64 of
// 32 bytes; else the key in file, which is made with mode 0600 where it does not
// exist.
func NewKeeper(file string) (*Keeper, error) {
	text, from := os.Getenv("RILLMARK_KEY"), "the environment's RILLMARK_KEY"
	if text == "" {
		var err error
		if text, err = keyFile(file); err != nil {
			return nil, err
		}
		from = "the key file " + file
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(key) != 32 {
		return nil, fmt.Errorf("%s does not hold a key: it is 32 bytes in base64", from)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	mark := sha256.Sum256(append([]byte("which key it is\x00"), key...))
	return &Keeper{aead: aead, Mark: hex.EncodeToString(mark[:6])}, nil
}

func keyFile(file string) (string, error) {
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return makeKeyFile(file)
	}
	if err != nil {
		return "", fmt.Errorf("reading the key file: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("the key file %s can be read by others (mode %04o): chmod 600 %s", file, info.Mode().Perm(), file)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("reading the key file: %w", err)
	}
	return string(text), nil
}

// makeKeyFile writes the key to a temporary file and links it into place, so that of two
// processes that start at once both use the same one.
func makeKeyFile(file string) (string, error) {
	var key [32]byte
	rand.Read(key[:]) // never fails
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", fmt.Errorf("making the key file: %w", err)
	}
	aside, err := os.CreateTemp(filepath.Dir(file), ".key-*") // mode 0600
	if err != nil {
		return "", fmt.Errorf("making the key file: %w", err)
	}
	defer os.Remove(aside.Name()) //nolint:errcheck // it has its name in place by then
	_, err = aside.WriteString(base64.StdEncoding.EncodeToString(key[:]) + "\n")
	if err == nil {
		err = aside.Sync()
	}
	if closing := aside.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return "", fmt.Errorf("making the key file: %w", err)
	}
	if err := os.Link(aside.Name(), file); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", fmt.Errorf("making the key file: %w", err)
	}
	text, err := os.ReadFile(file)
	return string(text), err
}

// References say which variables and files a definition may refer to. The service's
// own token and key are in neither by default.
type References struct {
	// Prefixes of variables' names. Default RILLMARK_SECRET_.
	Prefixes []string
	// Folders below which files may be. Default none.
	Folders []string
}

// DefaultPrefix begins the names of variables that are meant for definitions.
const DefaultPrefix = "RILLMARK_SECRET_"

var reference = regexp.MustCompile(`\$\$|\$\{(env|file):([^}]+)\}`)

// IsReference reports whether a text refers to a variable or a file. Such a text is no
// secret itself.
func IsReference(s string) bool {
	for _, found := range reference.FindAllString(s, -1) {
		if found != "$$" {
			return true
		}
	}
	return false
}

// Resolve expands the references in a text of the service's own configuration, which
// may refer to anything.
func Resolve(s string) (string, error) { return expand(s, nil, nil) }

// Expand expands the references in a text of a definition, once: what a variable or a
// file holds stays as it is. $$ is a dollar.
func (k *Keeper) Expand(s string) (string, error) { return expand(s, &k.References, nil) }

// expand expands references; each, where not nil, hears of what each of them stands for.
func expand(s string, allowed *References, each func(reference, value string)) (string, error) {
	var failed error
	expanded := reference.ReplaceAllStringFunc(s, func(found string) string {
		if found == "$$" {
			return "$"
		}
		m := reference.FindStringSubmatch(found)
		value, err := "", error(nil)
		if m[1] == "env" {
			value, err = variable(m[2], allowed)
		} else {
			value, err = secretFile(m[2], allowed)
		}
		if err != nil && failed == nil {
			failed = err
		}
		if each != nil {
			each(found, value)
		}
		return value
	})
	return expanded, failed
}

func variable(name string, allowed *References) (string, error) {
	if allowed != nil {
		prefixes := allowed.Prefixes
		if prefixes == nil {
			prefixes = []string{DefaultPrefix}
		}
		if !slices.ContainsFunc(prefixes, func(p string) bool { return strings.HasPrefix(name, p) }) || name == "RILLMARK_TOKEN" || name == "RILLMARK_KEY" {
			return "", fmt.Errorf("a definition may not refer to the variable %s: the names of those that it may begin with %s (secrets.env in the service's configuration)", name, strings.Join(prefixes, " or "))
		}
	}
	value, set := os.LookupEnv(name)
	if !set {
		return "", fmt.Errorf("the environment of the service has no variable %s, which is referred to", name)
	}
	return value, nil
}

func secretFile(path string, allowed *References) (string, error) {
	if allowed != nil {
		real, err := filepath.EvalSymlinks(path)
		inside := err == nil && filepath.IsAbs(path) && slices.ContainsFunc(allowed.Folders, func(folder string) bool {
			if resolved, err := filepath.EvalSymlinks(folder); err == nil {
				folder = resolved
			}
			return strings.HasPrefix(real, strings.TrimSuffix(filepath.Clean(folder), "/")+"/")
		})
		if !inside {
			where := "no folder is set"
			if len(allowed.Folders) > 0 {
				where = "those that it may lie below " + strings.Join(allowed.Folders, " or ")
			}
			return "", fmt.Errorf("a definition may not refer to the file %s: %s (secrets.folders in the service's configuration)", path, where)
		}
		path = real
	}
	text, err := localfile.Read(path, localfile.MostText)
	if err != nil {
		return "", fmt.Errorf("a secret in a file cannot be read: %w", err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

// OpenAll opens the secrets of a definition, of which object is the kind and the name, and expands
// the references in all texts of parts of it. Nobody else may hold what they point to.
func (k *Keeper) OpenAll(object string, d secretive, parts ...any) error {
	var found []hidden
	shown := make(map[string]bool)
	defer func() { // what the definition itself shows, as a user's name, would tell a password that is the same
		k.hidden.note(object, slices.DeleteFunc(found, func(h hidden) bool { return shown[h.text] }))
	}()
	for _, part := range parts {
		if err := k.expandAll(reflect.ValueOf(part), &found, shown); err != nil {
			return err
		}
	}
	var failed error
	d.EachSecret(func(name, secret string) string {
		opened, err := k.open(object+"/"+name, secret)
		if err != nil && failed == nil {
			failed = fmt.Errorf("%s: %w", name, err)
		}
		if opened != secret {
			found = append(found, hidden{opened, Sealed})
		}
		return opened
	})
	return failed
}

// expandAll expands the references in all texts of a part, and adds what they stand for to found, and
// texts without one to shown.
func (k *Keeper) expandAll(v reflect.Value, found *[]hidden, shown map[string]bool) error {
	one := func(text string) (string, error) {
		shown[text] = true
		return expand(text, &k.References, func(reference, value string) { *found = append(*found, hidden{value, reference}) })
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			return k.expandAll(v.Elem(), found, shown)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if err := k.expandAll(v.Field(i), found, shown); err != nil {
				return err
			}
		}
	case reflect.Slice:
		for i := range v.Len() {
			if err := k.expandAll(v.Index(i), found, shown); err != nil {
				return err
			}
		}
	case reflect.Map:
		for _, key := range v.MapKeys() {
			expanded, err := one(v.MapIndex(key).String())
			if err != nil {
				return err
			}
			v.SetMapIndex(key, reflect.ValueOf(expanded))
		}
	case reflect.String:
		expanded, err := one(v.String())
		if err != nil {
			return err
		}
		v.SetString(expanded)
	default: // nothing else holds text
	}
	return nil
}

// seal is the form in which the secret of a place is stored; references stay as they are.
func (k *Keeper) seal(place, secret string) string {
	if secret == "" || IsReference(secret) {
		return secret
	}
	return k.sealed(place, strings.ReplaceAll(secret, "$${", "${")) // as it is from here on
}

// open is the secret behind what seal made for the same place.
func (k *Keeper) open(place, stored string) (string, error) {
	text, sealed := strings.CutPrefix(stored, sealedPrefix)
	bound := []byte(place)
	if !sealed {
		if text, sealed = strings.CutPrefix(stored, formerSealed); !sealed {
			return stored, nil
		}
		bound = nil
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(raw) < k.aead.NonceSize() {
		return "", errors.New("a sealed secret in the state database is damaged: give it anew")
	}
	n := k.aead.NonceSize()
	secret, err := k.aead.Open(nil, raw[:n], raw[n:], bound)
	if err != nil {
		return "", errors.New("a sealed secret cannot be opened: the service's key is not the one it was sealed with, or it was sealed for another place; bring that key back or give the secret anew")
	}
	if bound == nil && place != "" {
		return "", errors.New("it is sealed as a former version did it: restart the service, which seals it anew")
	}
	return string(secret), nil
}

// resealed is what is stored of a secret once the service has started: a text of the former form, or
// one in the clear, is sealed for its place.
func (k *Keeper) resealed(place, stored string) (string, error) {
	if !strings.HasPrefix(stored, formerSealed) {
		if strings.HasPrefix(stored, sealedPrefix) {
			return stored, nil
		}
		return k.seal(place, stored), nil
	}
	secret, err := k.open("", stored)
	if err != nil {
		return stored, err
	}
	return k.sealed(place, secret), nil
}

// sealed seals a text for a place, whatever it looks like.
func (k *Keeper) sealed(place, secret string) string {
	nonce := make([]byte, k.aead.NonceSize())
	rand.Read(nonce) // never fails
	return sealedPrefix + base64.StdEncoding.EncodeToString(k.aead.Seal(nonce, nonce, []byte(secret), []byte(place)))
}

// Show is what may be seen of a stored secret.
func Show(stored string) string {
	if strings.HasPrefix(stored, anySealed) {
		return Sealed
	}
	return stored
}
