// Package snmpauth has an association of SNMP use a stored secret.
package snmpauth

import (
	"math/rand/v2"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/secret"
)

// Set has g speak the version of a secret, with what is in it: a community, or what the User-based
// Security Model needs (RFC 3414), always with authentication and privacy.
func Set(g *gosnmp.GoSNMP, v secret.Value) {
	switch v.Kind {
	case secret.SNMPv1:
		g.Version, g.Community = gosnmp.Version1, v.Community
		return
	case secret.SNMPv2c:
		g.Version, g.Community = gosnmp.Version2c, v.Community
		return
	}
	auth := map[string]gosnmp.SnmpV3AuthProtocol{"sha512": gosnmp.SHA512, "sha256": gosnmp.SHA256, "sha1": gosnmp.SHA}
	priv := map[string]gosnmp.SnmpV3PrivProtocol{"aes256": gosnmp.AES256, "aes128": gosnmp.AES}
	g.Version, g.SecurityModel, g.MsgFlags = gosnmp.Version3, gosnmp.UserSecurityModel, gosnmp.AuthPriv
	g.SecurityParameters = &gosnmp.UsmSecurityParameters{
		UserName:               v.User,
		AuthenticationProtocol: auth[v.AuthProtocol], AuthenticationPassphrase: v.AuthPass,
		PrivacyProtocol: priv[v.PrivProtocol], PrivacyPassphrase: v.PrivPass,
	}
}

// Connect opens the socket of g. The library writes the identifier of a message in four octets
// always, and one below 2^23 is no BER then (X.690, 8.3.2): strict agents drop every message of
// such a session. So it begins above, with room for 2^30 messages before it comes round.
func Connect(g *gosnmp.GoSNMP) error {
	if err := g.Connect(); err != nil {
		return err
	}
	const four = 1 << 23
	g.SetMsgID(four + rand.Uint32N(1<<30))
	return nil
}
