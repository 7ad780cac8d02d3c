package people

import (
	"context"
	"crypto/rsa"
	"crypto/sha256"
	"errors"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumbbob/internal/store"
)

const (
	mostKeys    = 20   // of an account
	leastRSA    = 2048 // bits
	mostKeyName = 64   // characters, as its column has
)

// keyTypes are those that count: what is older is too weak.
var keyTypes = []string{
	ssh.KeyAlgoED25519, ssh.KeyAlgoSKED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoSKECDSA256, ssh.KeyAlgoRSA,
}

// PrintOf is that of a key.
func PrintOf(k ssh.PublicKey) store.KeyPrint { return sha256.Sum256(k.Marshal()) }

// readKey reads a public key as it stands in a file .pub or authorized_keys.
func readKey(text string) (k store.AccountKey, err error) {
	if strings.Contains(text, "PRIVATE KEY") {
		return k, usage("that is a private key, which is for nobody else's eyes: give the public one, in the file whose name ends in .pub")
	}
	key, name, options, rest, err := ssh.ParseAuthorizedKey([]byte(text))
	switch {
	case err != nil:
		return k, usage("that is no public key: it begins with its type, as in ssh-ed25519 AAAA… somebody@there")
	case len(options) > 0:
		return k, usage("options in front of a key are not understood here, and would be left out: give the key alone")
	case strings.TrimSpace(string(rest)) != "":
		return k, usage("that is more than one key: add them one after the other")
	case !slices.Contains(keyTypes, key.Type()):
		return k, usage("a key of the type %s does not count here: make one of ssh-ed25519", key.Type())
	}
	if c, ok := key.(ssh.CryptoPublicKey); ok {
		if r, ok := c.CryptoPublicKey().(*rsa.PublicKey); ok && r.N.BitLen() < leastRSA {
			return k, usage("an RSA key of %d bits is too short: %d at the least, or make one of ssh-ed25519", r.N.BitLen(), leastRSA)
		}
	}
	n := []rune(strings.ToValidUTF8(name, ""))
	return store.AccountKey{Print: PrintOf(key), Type: key.Type(), Name: string(n[:min(len(n), mostKeyName)]), AddedAt: time.Now().UTC()}, nil
}

// AddKey has a public key let somebody in.
func (d *Desk) AddKey(ctx context.Context, by, name, text string) (store.AccountKey, error) {
	k, err := readKey(text)
	if err != nil {
		return k, err
	}
	if name == Rescue {
		return k, usage("%s comes in with a code alone", Rescue)
	}
	err = d.Store.AddAccountKey(ctx, name, k, mostKeys, entry(by, "Key %s (%s) lets %s in from now on", k.Print, k.Name, name))
	if errors.Is(err, store.ErrConflict) {
		return k, usage("%s has that key already, or has %d keys, which is the most: plumb account key list shows them", name, mostKeys)
	}
	if err != nil {
		return k, problem(err, name)
	}
	d.changed(name, "")
	return k, nil
}

// RemoveKey has a key let nobody in any more. Who is in by it stays until they leave.
func (d *Desk) RemoveKey(ctx context.Context, by, name, print string) error {
	p, err := store.ParseKeyPrint(print)
	if err != nil {
		return usage("%s", err)
	}
	err = d.Store.RemoveAccountKey(ctx, name, p, entry(by, "Key %s lets %s in no more", p, name))
	if errors.Is(err, store.ErrNotFound) {
		return usage("%s has no key %s: plumb account key list shows them", name, p)
	}
	if err == nil {
		d.changed(name, "")
	}
	return err
}

// HasKey says whether a key is one of an account's.
func (d *Desk) HasKey(ctx context.Context, account string, p store.KeyPrint) bool {
	if !accountName.MatchString(account) {
		return false
	}
	all, err := d.Store.AccountKeys(ctx, account)
	if errors.Is(err, store.ErrAway) {
		k, _ := d.remembered(account)
		return slices.Contains(k.Keys, p)
	}
	return err == nil && slices.ContainsFunc(all, func(k store.AccountKey) bool { return k.Print == p })
}

// ComeWithKey logs somebody in who has proved to have a key.
func (d *Desk) ComeWithKey(ctx context.Context, account string, p store.KeyPrint, from, kind, name string, lasts time.Duration) (LogIn, error) {
	if !d.HasKey(ctx, account, p) {
		return LogIn{}, ErrWrong
	}
	a, err := d.account(ctx, account)
	if err != nil {
		return LogIn{}, err
	}
	return d.comes(ctx, a, "Logged in from "+from+" with the key "+p.String(), kind, name, lasts)
}
