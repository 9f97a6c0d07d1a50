package shape

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
)

// AppendMask appends what stands in place of a masked value.
func AppendMask(dst []byte) []byte { return append(dst, "***"...) }

// NewHasher makes a function that appends the HMAC-SHA256 (RFC 2104) of a value's
// canonical text, in hexadecimal digits. It is not safe for several goroutines.
func NewHasher(key []byte) func(dst, canonical []byte) []byte {
	mac := hmac.New(sha256.New, key)
	var sum []byte
	return func(dst, canonical []byte) []byte {
		mac.Reset()
		mac.Write(canonical) // a hash takes everything
		sum = mac.Sum(sum[:0])
		return hex.AppendEncode(dst, sum)
	}
}
