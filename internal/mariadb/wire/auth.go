package wire

import (
	"crypto/sha1" //nolint:gosec // the protocol names it
	"crypto/sha512"
	"errors"
	"fmt"

	"filippo.io/edwards25519"
)

// The ways to log in that we know, by the names of the server's plugins.
const (
	nativePassword = "mysql_native_password"
	ed25519Plugin  = "client_ed25519"
	clearPassword  = "mysql_clear_password"
)

// ErrClearText refuses a server that asks for the password itself over a connection
// that is not encrypted.
var ErrClearText = errors.New("the server asks for the password itself, which is sent over an encrypted connection only")

// answer is what proves the password to a plugin, whose challenge is scramble.
func answer(plugin, password string, scramble []byte, encrypted bool) ([]byte, error) {
	switch plugin {
	case nativePassword, "":
		return answerNative(password, scramble), nil
	case ed25519Plugin:
		return answerEd25519(password, scramble)
	case clearPassword:
		if !encrypted {
			return nil, ErrClearText
		}
		return append([]byte(password), 0), nil
	}
	return nil, fmt.Errorf("the server asks for the way to log in %q, which is not supported: use mysql_native_password or ed25519 for this user", plugin)
}

// answerNative is SHA1(password) xor SHA1(scramble, SHA1(SHA1(password))): section
// "mysql_native_password". The server names the hash; it is not ours to choose.
func answerNative(password string, scramble []byte) []byte {
	if password == "" {
		return nil
	}
	once := sha1.Sum([]byte(password)) //nolint:gosec // the protocol's
	twice := sha1.Sum(once[:])         //nolint:gosec // the protocol's
	h := sha1.New()                    //nolint:gosec // the protocol's
	h.Write(scramble[:min(len(scramble), 20)])
	h.Write(twice[:])
	sum := h.Sum(nil)
	for i := range sum {
		sum[i] ^= once[i]
	}
	return sum
}

// answerEd25519 signs the challenge as RFC 8032 does, with the password, of any length,
// in the place of the seed: section "client_ed25519".
func answerEd25519(password string, scramble []byte) ([]byte, error) {
	if len(scramble) < 32 {
		return nil, errPacket
	}
	message := scramble[:32]
	expanded := sha512.Sum512([]byte(password))
	secret, err := edwards25519.NewScalar().SetBytesWithClamping(expanded[:32])
	if err != nil {
		return nil, err
	}
	public := new(edwards25519.Point).ScalarBaseMult(secret).Bytes()
	scalar := func(parts ...[]byte) (*edwards25519.Scalar, error) {
		h := sha512.New()
		for _, p := range parts {
			h.Write(p)
		}
		return edwards25519.NewScalar().SetUniformBytes(h.Sum(nil))
	}
	nonce, err := scalar(expanded[32:], message)
	if err != nil {
		return nil, err
	}
	commitment := new(edwards25519.Point).ScalarBaseMult(nonce).Bytes()
	challenge, err := scalar(commitment, public, message)
	if err != nil {
		return nil, err
	}
	response := edwards25519.NewScalar().MultiplyAdd(challenge, secret, nonce)
	return append(commitment, response.Bytes()...), nil
}
