package ipmi_test

import (
	"encoding/binary"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/lab/bmc/bmctest"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// wiretap stands between a client and a controller and writes down what passes,
// as a capture file of IP packets, so that no right to capture is needed.
type wiretap struct {
	mu   sync.Mutex
	file []byte
	at   int
}

func (w *wiretap) note(payload []byte, toController bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.file == nil {
		const rawIP = 101
		for _, v := range []uint32{0xa1b2c3d4, 0x00040002, 0, 0, 65535, rawIP} {
			w.file = binary.LittleEndian.AppendUint32(w.file, v)
		}
	}
	from, to := []byte{192, 0, 2, 1, 0xc0, 1}, []byte{192, 0, 2, 2, 0x02, 0x6f} // port 623
	if !toController {
		from, to = to, from
	}
	udp := append(append([]byte{}, from[4:]...), to[4:]...)
	udp = binary.BigEndian.AppendUint16(udp, uint16(8+len(payload)))
	udp = append(append(udp, 0, 0), payload...)
	ip := []byte{0x45, 0, 0, 0, 0, 0, 0, 0, 64, 17, 0, 0}
	binary.BigEndian.PutUint16(ip[2:], uint16(20+len(udp)))
	ip = append(append(ip, from[:4]...), to[:4]...)
	w.at++
	for _, v := range []uint32{uint32(w.at), 0, uint32(len(ip) + len(udp)), uint32(len(ip) + len(udp))} {
		w.file = binary.LittleEndian.AppendUint32(w.file, v)
	}
	w.file = append(append(w.file, ip...), udp...)
}

// listen passes packets on to a controller, and returns where to dial.
func (w *wiretap) listen(t *testing.T, controller string) string {
	here, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	there, err := net.Dial("udp", controller)
	require.NoError(t, err)
	t.Cleanup(func() { _, _ = here.Close(), there.Close() })
	var mu sync.Mutex
	var client netip.AddrPort
	go func() {
		b := make([]byte, rmcp.MaxPacket)
		for {
			n, from, err := here.ReadFromUDPAddrPort(b)
			if err != nil {
				return
			}
			mu.Lock()
			client = from
			mu.Unlock()
			w.note(b[:n], true)
			_, _ = there.Write(b[:n])
		}
	}()
	go func() {
		b := make([]byte, rmcp.MaxPacket)
		for {
			n, err := there.Read(b)
			if err != nil {
				return
			}
			w.note(b[:n], false)
			mu.Lock()
			to := client
			mu.Unlock()
			_, _ = here.WriteToUDPAddrPort(b[:n], to)
		}
	}()
	return here.LocalAddr().String()
}

// TestOthersUnderstandUs has another implementation read our packets: it finds
// nothing malformed, and the commands that we meant.
func TestOthersUnderstandUs(t *testing.T) {
	tshark, err := exec.LookPath("tshark")
	if err != nil {
		t.Skip("tshark is not installed (apt-get install tshark), so nobody else has read our packets")
	}
	t.Parallel()
	var tap wiretap
	for _, s := range []rmcp.Suite{rmcp.Suite1, rmcp.Suite3, rmcp.Suite17} {
		c := bmctest.Start(t, func(m *bmc.Model) { m.Suites = []rmcp.Suite{s} }, nil)
		client := c.Dial(t, func(o *ipmi.Options) { o.Address, o.Suites = tap.listen(t, c.Address), []rmcp.Suite{rmcp.Suite1} })
		ctx := t.Context()
		repo, err := client.Repository(ctx, nil)
		require.NoError(t, err)
		_, err = client.Read(ctx, repo.Sensors()[0])
		require.NoError(t, err)
		_, err = client.EventLog(ctx, nil)
		require.NoError(t, err)
		_, err = client.Inventory(ctx, 0)
		require.NoError(t, err)
		_, err = client.LAN(ctx)
		require.NoError(t, err)
		_, err = client.DeviceID(ctx)
		require.NoError(t, err)
		require.NoError(t, client.SetBoot(ctx, ipmi.BootFlags{Device: ipmi.BootNetwork, UEFI: true}))
		require.NoError(t, client.Control(ctx, ipmi.HardReset))
		_, err = client.Power(ctx)
		require.NoError(t, err)
		require.NoError(t, client.Close())
	}
	time.Sleep(50 * time.Millisecond) // the last reply
	file := filepath.Join(t.TempDir(), "ipmi.pcap")
	tap.mu.Lock()
	require.NoError(t, os.WriteFile(file, tap.file, 0o600))
	tap.mu.Unlock()
	const whole = "ipmi.dissect_bus_commands:TRUE"
	out, err := exec.Command(tshark, "-o", whole, "-r", file, "-Y", "_ws.malformed || _ws.expert.severity == error").CombinedOutput()
	require.NoError(t, err, string(out))
	require.NotContains(t, string(out), "IPMI", "a frame that is malformed")
	require.NotContains(t, string(out), "RMCP")
	listed, err := exec.Command(tshark, "-o", whole, "-r", file, "-V").CombinedOutput()
	require.NoError(t, err, string(listed))
	for _, name := range []string{
		"Get Channel Authentication Capabilities", "Get SDR", "Reserve SDR Repository", "Get Sensor Reading", "Get SEL Entry", "Read FRU Data", "Get LAN Configuration Parameters",
		"Get Device ID", "Get SDR Repository Info", "Set System Boot Options", "Chassis Control", "Close Session", "RAKP Message 3",
	} {
		require.Contains(t, string(listed), name)
	}
}
