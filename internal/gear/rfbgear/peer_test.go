package rfbgear

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/gear"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/rfb"
)

// vncPassword is "made up" as servers keep it: under a key that all of them know, with the bits
// of its bytes the other way round.
var vncPassword = []byte{0x20, 0x76, 0x21, 0x46, 0x75, 0xf2, 0x9c, 0xce}

// display is a server of somebody else's, with a terminal on it that writes what is typed into a
// file.
type display struct {
	address string
	typed   string
}

func startDisplay(t *testing.T, args ...string) display {
	dir := t.TempDir()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := ln.Addr().(*net.TCPAddr).Port
	require.NoError(t, ln.Close())
	name := ":" + strconv.Itoa(port)
	x := exec.CommandContext(t.Context(), "Xtigervnc", append([]string{name, "-rfbport", strconv.Itoa(port), "-localhost", "-geometry", "800x600", "-depth", "24", "-AlwaysShared", "-nolisten", "tcp"}, args...)...)
	x.Env = append(os.Environ(), "HOME="+dir)
	require.NoError(t, x.Start())
	d := display{address: ln.Addr().String(), typed: filepath.Join(dir, "typed")}
	// It takes programs before it takes viewers.
	for network, at := range map[string]string{"unix": "/tmp/.X11-unix/X" + name[1:], "tcp": d.address} {
		require.Eventually(t, func() bool {
			c, err := net.Dial(network, at)
			return err == nil && c.Close() == nil
		}, time.Minute, 20*time.Millisecond, "%s %s", network, at)
	}
	term := exec.CommandContext(t.Context(), "xterm", "-bg", "#102030", "-fg", "white", "-fullscreen", "-geometry", "200x80+0+0", "+sb", "-b", "0", "-e", "sh", "-c", fmt.Sprintf("printf 'ready\\n'; cat > %s", d.typed))
	term.Env = append(os.Environ(), "DISPLAY="+name)
	require.NoError(t, term.Start())
	t.Cleanup(func() {
		_ = term.Process.Kill()
		_ = x.Process.Kill()
		_, _ = term.Process.Wait()
		_, _ = x.Process.Wait()
	})
	return d
}

// certificateFiles are for a server that speaks under TLS.
func certificateFiles(t *testing.T) (cert, key string) {
	dir := t.TempDir()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, c, c, k.Public(), k)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(k)
	require.NoError(t, err)
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
	return cert, key
}

// TestAnothersServer: Debian's server, in clear with a password, and under TLS with a certificate
// that is pinned: what is typed arrives, and all encodings show the same picture.
func TestAnothersServer(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "password")
	require.NoError(t, os.WriteFile(file, vncPassword, 0o600))
	cert, key := certificateFiles(t)
	for name, args := range map[string][]string{
		"VncAuth": {"-SecurityTypes", "VncAuth", "-rfbauth", file},
		"X509Vnc": {"-SecurityTypes", "X509Vnc", "-rfbauth", file, "-X509Cert", cert, "-X509Key", key},
	} {
		t.Run(name, func(t *testing.T) {
			d := startDisplay(t, args...)
			learned := ""
			open := func(password string, known string) *Driver {
				x, err := Open(Options{
					Name: "x", Addresses: []string{d.address}, Secret: secret.Value{Kind: secret.Token, Password: password}, Timeout: 20 * time.Second,
					Known: func(string) string { return known }, Learn: func(_, pin string) error { learned = pin; return nil },
				})
				require.NoError(t, err)
				return x
			}
			a, err := open("made up", "").Attach(t.Context())
			require.NoError(t, err)
			defer func() { require.NoError(t, a.Close()) }()
			require.NoError(t, a.Look(true))
			c := a.Canvas()
			blue := func() (n int) {
				for _, p := range c.Picture().Pix {
					if p == 0x102030 {
						n++
					}
				}
				return n
			}
			require.Eventually(t, func() bool { return blue() > 200_000 }, time.Minute, 50*time.Millisecond, "the terminal is seen")
			require.NoError(t, a.Point(300, 300, 0)) // the keyboard is where the pointer is
			strokes, err := keyboard.Strokes("Tide is 3.2 m @ 11:20\n", "us")
			require.NoError(t, err)
			require.Eventually(t, func() bool {
				for _, s := range strokes {
					press(t, a, s)
				}
				text, _ := os.ReadFile(d.typed)
				return strings.Contains(string(text), "Tide is 3.2 m @ 11:20\n")
			}, time.Minute, time.Second, "what was typed, once the terminal is there that takes it")
			require.True(t, a.Takes().ByPosition)
			lock, err := keyboard.Parse("num-lock")
			require.NoError(t, err)
			before, known := a.Lights()
			require.True(t, known, "it tells of the keyboard's lights")
			for range 2 {
				press(t, a, lock)
				require.Eventually(t, func() bool { now, _ := a.Lights(); return now == before^rfb.NumLight }, time.Minute, time.Millisecond)
				before ^= rfb.NumLight
			}

			sameInAll(t, d.address, "made up", c)
			_, err = open("guessed", "").Attach(t.Context())
			require.Equal(t, gear.BadSecret, gear.KindOf(err), "%v", err)
			if name == "X509Vnc" {
				require.Len(t, learned, 64)
				_, err = open("made up", "00"+learned[2:]).Attach(t.Context())
				require.ErrorContains(t, err, "its certificate is not the one that is pinned")
			}
		})
	}
}

func press(t *testing.T, a gear.Attached, c keyboard.Chord) {
	require.NoError(t, c.Press(func(down bool, k keyboard.Key) error { return a.Key(down, k.Sym, k.Code) }, func() {}))
}

// sameInAll looks in each encoding by itself, and in fewer colours.
func sameInAll(t *testing.T, address, password string, c interface{ Picture() *picture.Picture }) {
	for name, o := range map[string]rfb.Options{"raw": {Only: "raw"}, "rre": {Only: "rre"}, "hextile": {Only: "hextile"}, "zrle": {Only: "zrle"}, "tight": {Only: "tight"}, "in 16 bits": {Format: rfb.High}, "in 8 bits": {Format: rfb.Few}} {
		o.Password, o.Within = password, time.Minute
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		v, err := rfb.Connect(t.Context(), conn, o)
		require.NoError(t, err, name)
		a := wrap(v)
		go func() { _ = v.Run(a) }()
		require.NoError(t, v.Look(true))
		require.Eventually(t, func() bool { return alike(c.Picture(), a.canvas.Picture(), o.Format != (rfb.Format{})) }, time.Minute, 50*time.Millisecond, name)
		require.NoError(t, v.Close())
	}
}

// alike says whether two pictures are the same, or nearly so, but for a cursor that blinks.
func alike(a, b *picture.Picture, nearly bool) bool {
	if a.W != b.W || a.H != b.H {
		return false
	}
	other := 0
	for i := range a.Pix {
		if a.Pix[i] != b.Pix[i] && !(nearly && near(a.Pix[i], b.Pix[i])) {
			other++
		}
	}
	return other < 400
}

func near(a, b uint32) bool {
	for shift := 0; shift <= 16; shift += 8 {
		if d := int(a>>shift&255) - int(b>>shift&255); d > 64 || d < -64 {
			return false
		}
	}
	return true
}
