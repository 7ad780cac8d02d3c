package rmcp

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"fmt"
	"hash"
)

// A Suite is a cipher suite: an id for three algorithms (table 22-20).
type Suite uint8

// The suites that are implemented. Suite 0, which checks nothing, is not.
const (
	Suite1  Suite = 1  // HMAC-SHA1, no integrity, no confidentiality
	Suite2  Suite = 2  // HMAC-SHA1, SHA1-96, no confidentiality
	Suite3  Suite = 3  // HMAC-SHA1, SHA1-96, AES-CBC-128
	Suite15 Suite = 15 // HMAC-SHA256, no integrity, no confidentiality
	Suite16 Suite = 16 // HMAC-SHA256, SHA256-128, no confidentiality
	Suite17 Suite = 17 // HMAC-SHA256, SHA256-128, AES-CBC-128
)

// Algorithms are the three algorithm numbers of a suite (sections 13.28 to 13.28.5).
type Algorithms struct{ Auth, Integrity, Confidentiality uint8 }

// The algorithm numbers.
const (
	authSHA1        = 0x01
	authSHA256      = 0x03
	integrityNone   = 0x00
	integritySHA1   = 0x01
	integritySHA256 = 0x04
	confNone        = 0x00
	confAES         = 0x01
)

var suites = map[Suite]Algorithms{
	Suite1:  {authSHA1, integrityNone, confNone},
	Suite2:  {authSHA1, integritySHA1, confNone},
	Suite3:  {authSHA1, integritySHA1, confAES},
	Suite15: {authSHA256, integrityNone, confNone},
	Suite16: {authSHA256, integritySHA256, confNone},
	Suite17: {authSHA256, integritySHA256, confAES},
}

// Known says whether the suite is implemented.
func (s Suite) Known() bool { _, ok := suites[s]; return ok }

// Algorithms returns the suite's algorithm numbers.
func (s Suite) Algorithms() Algorithms { return suites[s] }

// SuiteOf finds the suite of three algorithm numbers.
func SuiteOf(a Algorithms) (Suite, bool) {
	for s, has := range suites {
		if has == a {
			return s, true
		}
	}
	return 0, false
}

// Sound says whether the suite both checks and hides what is sent.
func (s Suite) Sound() bool {
	a := suites[s]
	return a.Integrity != integrityNone && a.Confidentiality != confNone
}

func (s Suite) String() string {
	a, ok := suites[s]
	if !ok {
		return fmt.Sprintf("cipher suite %d", uint8(s))
	}
	words := map[uint8]string{authSHA1: "HMAC-SHA1", authSHA256: "HMAC-SHA256"}[a.Auth]
	switch {
	case a.Integrity == integrityNone:
		words += ", nothing checked, nothing encrypted"
	case a.Confidentiality == confNone:
		words += ", not encrypted"
	default:
		words += ", AES-128"
	}
	return fmt.Sprintf("cipher suite %d (%s)", uint8(s), words)
}

// newHash is the hash under the suite's HMACs.
func (s Suite) newHash() func() hash.Hash {
	if suites[s].Auth == authSHA256 {
		return sha256.New
	}
	return sha1.New
}

// mac is the keyed hash of the suite.
func (s Suite) mac(key []byte, parts ...[]byte) []byte {
	h := hmac.New(s.newHash(), key)
	for _, p := range parts {
		h.Write(p)
	}
	return h.Sum(nil)
}

// tagLen is the length of the integrity value of RAKP 4 and of session packets.
func (s Suite) tagLen() int {
	if suites[s].Auth == authSHA256 {
		return 16 // HMAC-SHA256-128
	}
	return 12 // HMAC-SHA1-96
}

// Choose returns the suite to propose: the best that the controller offers and
// that is allowed. Sound ones are always allowed, SHA256 before SHA1.
func Choose(offered []Suite, allowed []Suite) (Suite, bool) {
	for _, s := range append([]Suite{Suite17, Suite3}, allowed...) {
		for _, o := range offered {
			if o == s && s.Known() {
				return s, true
			}
		}
	}
	return 0, false
}

// ParseSuites reads cipher suite records (table 22-18); of standard suites the
// ids, in the order of the controller, implemented here or not.
func ParseSuites(b []byte) []Suite {
	const (
		standard = 0xc0
		oem      = 0xc1
	)
	var out []Suite
	for i := 0; i < len(b); i++ {
		switch {
		case b[i] == standard && i+1 < len(b):
			out = append(out, Suite(b[i+1]))
			i++
		case b[i] == oem:
			i += 4 // its id and an enterprise number
		}
	}
	return out
}

// AppendSuites is the inverse of ParseSuites for suites that are implemented.
func AppendSuites(b []byte, list []Suite) []byte {
	const (
		integrityTag = 0x40
		confTag      = 0x80
	)
	for _, s := range list {
		a := suites[s]
		b = append(b, 0xc0, byte(s), a.Auth, integrityTag|a.Integrity, confTag|a.Confidentiality)
	}
	return b
}

// md5Sum is for IPMI 1.5 alone.
func md5Sum(parts ...[]byte) (sum [md5.Size]byte) {
	h := md5.New()
	for _, p := range parts {
		h.Write(p)
	}
	h.Sum(sum[:0])
	return sum
}
