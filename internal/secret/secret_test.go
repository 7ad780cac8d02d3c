package secret

import (
	"bytes"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

var sample = Value{Kind: SNMPv2c, Community: "do-not-show-me"}

func TestSealed(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(file, nil, 0o600), "a crash left nothing of it")
	s, made, err := OpenKey(file)
	require.NoError(t, err)
	require.True(t, made)
	sealed, err := s.Seal("pdu", sample)
	require.NoError(t, err)
	require.NotContains(t, string(sealed), sample.Community)

	again, made, err := OpenKey(file)
	require.NoError(t, err)
	require.False(t, made)
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	v, err := again.Open("pdu", sealed)
	require.NoError(t, err)
	require.Equal(t, sample, v)
	_, err = again.Open("other", sealed)
	require.ErrorContains(t, err, "set it again with plumb secret set", "one cannot stand in for another")
	sealed[20] ^= 1
	_, err = again.Open("pdu", sealed)
	require.Error(t, err)

	require.NoError(t, os.WriteFile(file, []byte("short"), 0o600))
	_, _, err = OpenKey(file)
	require.ErrorContains(t, err, "restore it from a backup")
}

func TestNeverShown(t *testing.T) {
	var log bytes.Buffer
	slog.New(slog.NewTextHandler(&log, nil)).Info("x", "secret", sample)
	for _, text := range []string{fmt.Sprint(sample), fmt.Sprintf("%+v %#v %s", sample, sample, &sample), log.String()} {
		require.NotContains(t, text, sample.Community)
	}
}

func TestCheck(t *testing.T) {
	require.NoError(t, sample.Check())
	good := Value{Kind: SNMPv3, User: "u", AuthProtocol: "sha256", AuthPass: "12345678", PrivProtocol: "aes128", PrivPass: "12345678"}
	require.NoError(t, good.Check())
	controller := Value{Kind: IPMI, User: "plumb", Password: "a-password-of-20-byt"}
	require.NoError(t, controller.Check())
	for name, spoil := range map[string]func(*Value){
		"no password":         func(v *Value) { v.Password = "" },
		"a password too long": func(v *Value) { v.Password += "x" },
		"a name too long":     func(v *Value) { v.User = "a-name-of-17-byte" },
		"a key too long":      func(v *Value) { v.ControllerKey = v.Password + "x" },
	} {
		v := controller
		spoil(&v)
		require.Error(t, v.Check(), name)
	}
	for name, spoil := range map[string]func(*Value){
		"no user":     func(v *Value) { v.User = "" },
		"weak digest": func(v *Value) { v.AuthProtocol = "md5" },
		"weak cipher": func(v *Value) { v.PrivProtocol = "des" },
		"too short":   func(v *Value) { v.PrivPass = "1234567" },
		"no kind":     func(v *Value) { v.Kind = "telnet" },
	} {
		v := good
		spoil(&v)
		require.Error(t, v.Check(), name)
	}
}
