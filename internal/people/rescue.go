package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"plumbbob/internal/core/operation"
	"plumbbob/internal/store"
	"plumbbob/internal/whole"
)

// Rescue is the account of who comes in with a rescue code: when the database is away, so
// that no password can be looked up, or when nobody has one any more. The code is made on
// the machine itself, by who may write to its data directory; it counts once.
const Rescue = "rescue"

const (
	rescueFile  = "rescue-code"
	rescueGroup = 5 // characters, for who copies it by hand
)

// MakeRescueCode makes a code, in place of the one before, and keeps its hash in the data
// directory, for its owner.
func MakeRescueCode(dataDir string) (code string, err error) {
	text := rand.Text()[:20] // 100 bits
	for i := rescueGroup; i < len(text); i += rescueGroup {
		code += text[i-rescueGroup:i] + "-"
	}
	code += text[len(text)-rescueGroup:]
	h := hashCode(code)
	file := filepath.Join(dataDir, rescueFile)
	if err := whole.Write(file, []byte(hex.EncodeToString(h[:])+"\n")); err != nil {
		return "", err
	}
	return code, giveToOwner(file, dataDir)
}

// giveToOwner gives a file to whoever the directory is of: the service need not be root.
func giveToOwner(file, dir string) error {
	info, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) != os.Geteuid() {
		return os.Chown(file, int(st.Uid), int(st.Gid))
	}
	return nil
}

// RevokeRescueCode has no code count any more.
func RevokeRescueCode(dataDir string) error {
	return os.Remove(filepath.Join(dataDir, rescueFile))
}

// hashCode needs no salt and no work: nobody tries 2^100 codes.
func hashCode(code string) [sha256.Size]byte {
	return sha256.Sum256([]byte(strings.ToUpper(strings.NewReplacer("-", "", " ", "").Replace(code))))
}

// rescue logs somebody in with a rescue code.
func (d *Desk) rescue(ctx context.Context, c Credentials, kind, name string) (LogIn, error) {
	begun, err := d.tries.begin(Rescue, c.From)
	if err != nil {
		return LogIn{}, err
	}
	if !d.useCode(c.Password) {
		d.refused(ctx, c, true)
		return LogIn{}, ErrWrong
	}
	begun.succeeded()
	in := LogIn{Token: newToken(), Account: Rescue, Role: string(operation.Keeper)}
	d.Log.Warn("somebody has logged in with a rescue code", "from", c.From)
	return d.note(ctx, in, store.Entry{Kind: store.EntryLogIn, Who: Rescue, Text: "Logged in with a rescue code from " + c.From, Result: "done"}, kind, name), nil
}

// useCode says whether a code is the one that was made; then it is that no more.
func (d *Desk) useCode(code string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	file := filepath.Join(d.DataDir, rescueFile)
	text, err := os.ReadFile(file)
	if err != nil {
		return false
	}
	has, err := hex.DecodeString(strings.TrimSpace(string(text)))
	want := hashCode(code)
	if err != nil || subtle.ConstantTimeCompare(has, want[:]) != 1 || d.used[want] {
		return false
	}
	d.used[want] = true // also when its file cannot be removed now
	if err := os.Remove(file); err != nil {
		d.Log.Error("the file of a rescue code that was used cannot be removed: remove it before the next start", "file", file, "because", err)
	}
	return true
}
