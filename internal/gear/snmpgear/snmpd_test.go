package snmpgear

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

// upsPass serves a piece of UPS-MIB to snmpd's "pass": exact and next, in the
// order of the lines.
const upsPass = `#!/bin/sh
table="%s"
case "$1" in
-g) echo "$table" | while read -r oid type value; do
      [ "$oid" = "$2" ] && printf '%%s\n%%s\n%%s\n' "$oid" "$type" "$value" && break
    done ;;
-n) take=""; [ "$2" = .1.3.6.1.2.1.33 ] && take=1
    echo "$table" | while read -r oid type value; do
      [ -n "$take" ] && printf '%%s\n%%s\n%%s\n' "$oid" "$type" "$value" && break
      [ "$oid" = "$2" ] && take=1
    done ;;
-s) ;; # accepted, and ignored
esac
exit 0
`

var upsRows = strings.Join([]string{
	".1.3.6.1.2.1.33.1.1.1.0 string Made Up", ".1.3.6.1.2.1.33.1.1.2.0 string MU-7",
	".1.3.6.1.2.1.33.1.2.1.0 integer 2", ".1.3.6.1.2.1.33.1.2.2.0 integer 0", ".1.3.6.1.2.1.33.1.2.3.0 integer 31", ".1.3.6.1.2.1.33.1.2.4.0 integer 88", ".1.3.6.1.2.1.33.1.2.5.0 integer 547",
	".1.3.6.1.2.1.33.1.3.2.0 integer 1", ".1.3.6.1.2.1.33.1.3.3.1.2.1 integer 499", ".1.3.6.1.2.1.33.1.3.3.1.3.1 integer 229",
	".1.3.6.1.2.1.33.1.4.1.0 integer 3", ".1.3.6.1.2.1.33.1.4.3.0 integer 1", ".1.3.6.1.2.1.33.1.4.4.1.4.1 integer 410", ".1.3.6.1.2.1.33.1.4.4.1.5.1 integer 17",
	".1.3.6.1.2.1.33.1.6.1.0 gauge 0", ".1.3.6.1.2.1.33.1.8.5.0 integer 2",
}, "\n")

// startSnmpd starts Debian's agent, which we did not write, on loopback.
func startSnmpd(t *testing.T) (address string) {
	t.Helper()
	dir := t.TempDir()
	script := filepath.Join(dir, "ups")
	require.NoError(t, os.WriteFile(script, fmt.Appendf(nil, upsPass, upsRows), 0o700))
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	address = c.LocalAddr().String()
	require.NoError(t, c.Close())
	conf := filepath.Join(dir, "snmpd.conf")
	require.NoError(t, os.WriteFile(conf, []byte(strings.Join([]string{
		"agentAddress udp:" + address, "rocommunity made-up-look 127.0.0.1", "rwcommunity made-up-write 127.0.0.1",
		`createUser made-up-ops SHA-256 "made up auth phrase" AES "made up priv phrase"`, "rwuser made-up-ops priv",
		"sysName made-up-agent", "pass .1.3.6.1.2.1.33 " + script, "",
	}, "\n")), 0o600))
	cmd := exec.Command("/usr/sbin/snmpd", "-f", "-C", "-c", conf, "-Lf", filepath.Join(dir, "log"), "-I", "-smux")
	cmd.Env = append(os.Environ(), "SNMP_PERSISTENT_DIR="+dir, "MIBS=")
	require.NoError(t, cmd.Start(), "scripts/packages installs it")
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	return address
}

// TestAnAgentOfOthers: v1, v2c and v3 against an agent that we did not write.
func TestAnAgentOfOthers(t *testing.T) {
	address := startSnmpd(t)
	p, err := profile.Parse("mixed", []byte("plumb-profile: 1\nname: mixed\nprotocol: snmp\nstandard: [ups, interfaces]\n"))
	require.NoError(t, err)
	open := func(s secret.Value) *Driver {
		d, err := Open(Options{Name: "agent", Addresses: []string{address}, Profile: p, Secret: s, Timeout: 20 * time.Second}) // every object costs it a process
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, d.Close()) })
		return d
	}
	v3 := secret.Value{Kind: secret.SNMPv3, User: "made-up-ops", AuthProtocol: "sha256", AuthPass: "made up auth phrase", PrivProtocol: "aes128", PrivPass: "made up priv phrase"}
	for name, s := range map[string]secret.Value{
		"v1": {Kind: secret.SNMPv1, Community: "made-up-look"}, "v2c": {Kind: secret.SNMPv2c, Community: "made-up-look"}, "v3": v3,
	} {
		t.Run(name, func(t *testing.T) {
			d := open(s)
			require.Eventually(t, func() bool { _, err := d.Identify(t.Context()); return err == nil }, 20*time.Second, 100*time.Millisecond)
			id, err := d.Identify(t.Context())
			require.NoError(t, err)
			require.Equal(t, "made-up-agent", id.Name)
			u, err := part[gear.Supply](t, d).ReadSupply(t.Context())
			require.NoError(t, err)
			require.Equal(t, "Made Up MU-7", u.Maker+" "+u.Model)
			require.InDelta(t, 31, *u.Battery.Minutes, 0)
			require.InDelta(t, 54.7, *u.Battery.V, 1e-9)
			require.InDelta(t, 229, *u.Inputs[0].V, 0)
			require.InDelta(t, 17, *u.Outputs[0].Load, 0)
			require.Nil(t, u.Config.OutW, "what the agent does not have is not known, and not zero")
			require.Equal(t, "on line", u.State())
			ports, err := part[gear.Neighbours](t, d).ReadNeighbours(t.Context())
			require.NoError(t, err)
			require.NotEmpty(t, ports)
			require.Contains(t, func() (names []string) {
				for _, p := range ports {
					names = append(names, p.Port)
				}
				return names
			}(), "lo")
		})
	}
	t.Run("a SET that is accepted and ignored", func(t *testing.T) {
		err := part[gear.SupplyControl](t, open(v3)).CommandSupply(t.Context(), gear.SupplyCommand{Do: gear.SupplyAutoStart, On: true})
		require.Error(t, err)
		require.Contains(t, err.Error(), "did not keep it")
	})
	t.Run("a community that may only read", func(t *testing.T) {
		err := part[gear.SupplyControl](t, open(secret.Value{Kind: secret.SNMPv2c, Community: "made-up-look"})).CommandSupply(t.Context(), gear.SupplyCommand{Do: gear.SupplyAutoStart, On: true})
		require.Equal(t, gear.NotPermitted, gear.KindOf(err), "%v", err)
	})
	t.Run("gear without what the profile says", func(t *testing.T) {
		p, err := profile.Find("poe-switch")
		require.NoError(t, err)
		d, err := Open(Options{Name: "agent", Addresses: []string{address}, Profile: p, Secret: v3, Timeout: 20 * time.Second})
		require.NoError(t, err)
		_, err = part[gear.Outlets](t, d).ReadOutlets(context.Background())
		require.ErrorContains(t, err, "does not implement POWER-ETHERNET-MIB")
		require.NoError(t, d.Close())
	})
}
