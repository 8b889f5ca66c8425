// Package fingerprint names certificates by their SHA-256, as people compare
// them. It depends on nothing.
package fingerprint

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

// Fingerprint is the SHA-256 of a certificate in DER.
type Fingerprint [sha256.Size]byte

// Of returns the fingerprint of a certificate in DER.
func Of(certificate []byte) Fingerprint { return sha256.Sum256(certificate) }

// String returns it as sha256 and pairs of hexadecimal digits, parted by colons.
func (f Fingerprint) String() string {
	var b strings.Builder
	b.WriteString("sha256")
	for _, c := range f {
		fmt.Fprintf(&b, ":%02X", c)
	}
	return b.String()
}

// Parse reads what String gives, and what other programs print: sha256 (or
// sha-256) and the colons may be missing, and letter case does not matter.
func Parse(s string) (f Fingerprint, err error) {
	digits := strings.ReplaceAll(strings.ToLower(strings.TrimSpace(s)), ":", "")
	digits = strings.TrimPrefix(strings.TrimPrefix(digits, "sha-256"), "sha256")
	b, err := hex.DecodeString(digits)
	if err != nil || len(b) != len(f) {
		return f, errors.New("a fingerprint is the SHA-256 of a certificate, 64 hexadecimal digits")
	}
	copy(f[:], b)
	return f, nil
}
