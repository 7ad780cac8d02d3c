// Package secret is what a stored credential holds, and how it is sealed.
// A Value never shows itself: not when it is printed, and not in a log.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"strings"

	"plumbbob/internal/whole"
)

// The kinds of secret.
const (
	SNMPv1  = "snmp-v1"
	SNMPv2c = "snmp-v2c"
	SNMPv3  = "snmp-v3"
	IPMI    = "ipmi"
	Login   = "login"   // a user and a password
	Token   = "token"   // a key or a bearer token, in Password
	SSHKey  = "ssh-key" // a user, and a private key in Password
)

// Kinds lists them.
var Kinds = []string{SNMPv3, SNMPv2c, SNMPv1, IPMI, Login, Token, SSHKey}

// AuthProtocols and PrivProtocols are those of SNMPv3 that can be named, the
// best first (RFC 7860, RFC 3826; the Blumenthal draft for AES-256).
var (
	AuthProtocols = []string{"sha512", "sha256", "sha1"}
	PrivProtocols = []string{"aes256", "aes128"}
)

// Value is a credential.
type Value struct {
	Kind         string `json:"kind"`
	Community    string `json:"community,omitempty"`
	User         string `json:"user,omitempty"`
	AuthProtocol string `json:"authProtocol,omitempty"`
	AuthPass     string `json:"authPass,omitempty"`
	PrivProtocol string `json:"privProtocol,omitempty"`
	PrivPass     string `json:"privPass,omitempty"`

	Password      string `json:"password,omitempty"`
	ControllerKey string `json:"controllerKey,omitempty"` // "Kg" of IPMI

	Bound string `json:"bound,omitempty"` // where it may be sent, parted by blanks; see MayGoTo
}

// String hides the value.
func (v Value) String() string { return "(" + v.Kind + " secret)" }

// GoString hides the value.
func (v Value) GoString() string { return v.String() }

// LogValue hides the value.
func (v Value) LogValue() slog.Value { return slog.StringValue(v.String()) }

// Check says what is missing or wrong.
func (v Value) Check() error {
	switch v.Kind {
	case SNMPv1, SNMPv2c:
		if v.Community == "" {
			return fmt.Errorf("an %s secret needs a community", v.Kind)
		}
	case Login:
		if v.User == "" || v.Password == "" {
			return errors.New("a login secret needs a user and a password")
		}
	case SSHKey:
		if v.User == "" || !strings.Contains(v.Password, "PRIVATE KEY") {
			return errors.New("an ssh-key secret needs a user and a private key")
		}
	case Token:
		if v.Password == "" {
			return errors.New("a token secret needs the token, as its password")
		}
	case SNMPv3:
		switch {
		case v.User == "":
			return errors.New("an snmp-v3 secret needs a user")
		case !slices.Contains(AuthProtocols, v.AuthProtocol):
			return fmt.Errorf("%q is not an authentication protocol: it can be one of %v", v.AuthProtocol, AuthProtocols)
		case !slices.Contains(PrivProtocols, v.PrivProtocol):
			return fmt.Errorf("%q is not a privacy protocol: it can be one of %v", v.PrivProtocol, PrivProtocols)
		case len(v.AuthPass) < 8 || len(v.PrivPass) < 8:
			return errors.New("SNMPv3 pass phrases have at least 8 characters (RFC 3414, section 11.2)")
		}
	case IPMI:
		switch {
		case v.Password == "":
			return errors.New("an ipmi secret needs a password")
		case len(v.User) > 16 || len(v.Password) > 20 || len(v.ControllerKey) > 20:
			return errors.New("with IPMI a user name has at most 16 bytes, and a password and a controller key 20 (sections 13.20 and 13.31)")
		}
	default:
		return fmt.Errorf("%q is not a kind of secret: it can be %s", v.Kind, strings.Join(Kinds, ", "))
	}
	return nil
}

// Sealer seals secrets with AES-256-GCM. The name of the secret is bound in,
// so that one cannot be put in the place of another.
type Sealer struct{ aead cipher.AEAD }

const keySize = 32

// OpenKey reads the key file, and makes one when there is none: then whatever was sealed
// before cannot be opened any more. The key must not be kept where the sealed secrets are.
func OpenKey(file string) (s *Sealer, made bool, err error) {
	key, err := os.ReadFile(file)
	if made = errors.Is(err, fs.ErrNotExist) || err == nil && len(key) == 0; made {
		key = make([]byte, keySize)
		_, _ = rand.Read(key) // never fails
		err = whole.Write(file, key)
	}
	if err != nil {
		return nil, made, fmt.Errorf("key of the secrets: %w", err)
	}
	if len(key) != keySize {
		return nil, made, fmt.Errorf("key of the secrets: %s has %d bytes instead of %d: restore it from a backup", file, len(key), keySize)
	}
	s, err = sealer(key)
	return s, made, err
}

func sealer(key []byte) (*Sealer, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, fmt.Errorf("key of the secrets: %w", err)
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	if err != nil {
		return nil, fmt.Errorf("key of the secrets: %w", err)
	}
	return &Sealer{aead}, nil
}

// Seal encrypts a value under its name.
func (s *Sealer) Seal(name string, v Value) ([]byte, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, fmt.Errorf("seal %s: %w", name, err)
	}
	return s.aead.Seal(nil, nil, text, []byte(name)), nil
}

// Open decrypts what Seal made of a value under that name.
func (s *Sealer) Open(name string, sealed []byte) (Value, error) {
	var v Value
	text, err := s.aead.Open(nil, nil, sealed, []byte(name))
	if err != nil {
		return v, fmt.Errorf("secret %s cannot be opened with this key: set it again with plumb secret set", name)
	}
	if err := json.Unmarshal(text, &v); err != nil {
		return v, fmt.Errorf("secret %s: %w", name, err)
	}
	return v, nil
}
