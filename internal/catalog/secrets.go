package catalog

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
)

// Sealed is what is shown instead of a secret that was typed in. Given back in
// an edit, it leaves the secret as it is.
const Sealed = "(sealed)"

const sealedPrefix = "sealed:1:"

// Keeper seals secrets with AES-256-GCM under a key that lies outside of the
// state database. It never prints what it holds.
type Keeper struct{ aead cipher.AEAD }

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
	return &Keeper{aead}, nil
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

// makeKeyFile writes the key aside and links it into place, so that of two
// processes that start at once both use the same one.
func makeKeyFile(file string) (string, error) {
	var key [32]byte
	rand.Read(key[:]) //nolint:errcheck // never fails
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

var reference = regexp.MustCompile(`^\$\{(env|file):([^}]+)\}$`)

// IsReference reports whether s names a secret instead of being one.
func IsReference(s string) bool { return reference.MatchString(s) }

// Resolve is the secret that a reference names, or what s itself says.
func Resolve(s string) (string, error) {
	m := reference.FindStringSubmatch(s)
	if m == nil {
		return s, nil
	}
	if m[1] == "env" {
		value, set := os.LookupEnv(m[2])
		if !set {
			return "", fmt.Errorf("the environment of the service has no variable %s, which a definition refers to", m[2])
		}
		return value, nil
	}
	text, err := os.ReadFile(m[2])
	if err != nil {
		return "", fmt.Errorf("a definition refers to a secret in a file: %w", err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

// Seal is the form in which a secret is stored; references stay as they are.
func (k *Keeper) Seal(secret string) string {
	if secret == "" || IsReference(secret) {
		return secret
	}
	nonce := make([]byte, k.aead.NonceSize())
	rand.Read(nonce) //nolint:errcheck // never fails
	return sealedPrefix + base64.StdEncoding.EncodeToString(k.aead.Seal(nonce, nonce, []byte(secret), nil))
}

// Open is the secret behind what Seal made.
func (k *Keeper) Open(stored string) (string, error) {
	text, sealed := strings.CutPrefix(stored, sealedPrefix)
	if !sealed {
		return Resolve(stored)
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(raw) < k.aead.NonceSize() {
		return "", errors.New("a sealed secret in the state database is damaged: give it anew")
	}
	n := k.aead.NonceSize()
	secret, err := k.aead.Open(nil, raw[:n], raw[n:], nil)
	if err != nil {
		return "", errors.New("a sealed secret cannot be opened: the service's key is not the one it was sealed with; bring that key back or give the secret anew")
	}
	return string(secret), nil
}

// Show is what may be seen of a stored secret.
func Show(stored string) string {
	if strings.HasPrefix(stored, sealedPrefix) {
		return Sealed
	}
	return stored
}
