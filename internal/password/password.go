// Package password hashes passwords with Argon2id (RFC 9106) and checks them.
package password

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
)

// The second recommended choice of RFC 9106, section 4, with half the memory:
// the service runs on small machines, too.
const (
	passes  = 3
	memory  = 32 << 10 // KiB
	threads = 1        // whoever is in needs the other processors
	keyLen  = 32
	saltLen = 16
)

// Generate returns a password that nobody has to choose: 24 characters in
// groups, about 120 bits.
func Generate() string {
	text := strings.ToLower(rand.Text() + rand.Text())[:24]
	return text[:6] + "-" + text[6:12] + "-" + text[12:18] + "-" + text[18:24]
}

// Hash returns what is stored of a password.
func Hash(password string) string {
	salt := make([]byte, saltLen)
	_, _ = rand.Read(salt) // never fails
	key := argon2.IDKey([]byte(password), salt, passes, memory, threads, keyLen)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memory, passes, threads, enc.EncodeToString(salt), enc.EncodeToString(key))
}

var errHash = errors.New("password: not a hash of ours")

// Check says whether a password is the one that was hashed, in a time that
// does not tell how much of it is right.
func Check(password, hash string) (bool, error) {
	var version, m, t, p int
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, errHash
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &m, &t, &p); err != nil || version != argon2.Version {
		return false, errHash
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err := errors.Join(err1, err2); err != nil || len(want) == 0 {
		return false, errHash
	}
	got := argon2.IDKey([]byte(password), salt, uint32(t), uint32(m), uint8(p), uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1, nil
}

// Waste takes as long as a Check, for accounts that do not exist.
func Waste(password string) { _, _ = Check(password, nobody) }

var nobody = Hash("nobody has this password")
