package service_test

import (
	"encoding/json"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/client"
	"plumbbob/internal/service"
)

// TestTheJournalCanBeProven: the chain holds, by the service and by a copy that
// was taken away; it does not once somebody has been at the database; and every
// entry has gone to the collector.
func TestTheJournalCanBeProven(t *testing.T) {
	collector, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = collector.Close() }()
	var dsn string
	s := start(t, func(o *service.Options) {
		dsn = o.Database
		o.Syslog = "udp://" + collector.LocalAddr().String()
	})
	s.logIn("admin", s.FirstPassword)
	for _, account := range []string{"nobody", "nobody", "no-one", "admin"} { // those that nobody has are one
		s.asks("POST", "/api/v1/session", `{"account":"`+account+`","password":"wrong"}`)
	}
	s.logIn("admin", s.FirstPassword)
	seal := func() (v contract.JournalSeal) {
		res, text := s.asks("GET", "/api/v1/journal/verify", "")
		require.Equal(t, http.StatusOK, res.StatusCode, text)
		require.NoError(t, json.Unmarshal([]byte(text), &v))
		return v
	}
	whole := seal()
	require.True(t, whole.Holds)
	require.Equal(t, 4, whole.Entries)

	_, lines := s.asks("GET", "/api/v1/journal/export", "")
	require.Equal(t, 4, strings.Count(lines, "\n"))
	file := filepath.Join(t.TempDir(), "journal.jsonl")
	verify := func(lines string) (int, string) {
		require.NoError(t, os.WriteFile(file, []byte(lines), 0o600))
		var out strings.Builder
		code := client.Main([]string{"journal", "verify", file}, strings.NewReader(""), &out, &out)
		return code, out.String()
	}
	code, said := verify(lines)
	require.Zero(t, code, said)
	require.Contains(t, said, "The journal holds: 4 entries, none altered, none removed.")
	require.Contains(t, said, whole.Head)
	code, said = verify(strings.Replace(lines, "Wrong password", "Right password", 1))
	require.Equal(t, client.ExitFailed, code)
	require.Contains(t, said, "was altered")
	code, said = verify("{}\n")
	require.Equal(t, client.ExitFailed, code, said)
	code, said = verify("what is this")
	require.Equal(t, client.ExitUsage, code)
	require.Contains(t, said, "journal.jsonl:1: is not an entry of a journal")
	_, part := s.asks("GET", "/api/v1/journal/export?after=2", "")
	require.Equal(t, 2, strings.Count(part, "\n"))
	code, said = verify(part)
	require.Zero(t, code, said)

	b := make([]byte, 4096)
	require.NoError(t, collector.SetReadDeadline(time.Now().Add(20*time.Second)))
	for _, want := range []string{"log-in", "log-in-refused"} {
		n, _, err := collector.ReadFrom(b)
		require.NoError(t, err)
		require.Contains(t, string(b[:n]), " plumbd - "+want+" [journal@32473 id=")
	}

	db := sqlx.MustConnect("mysql", dsn)
	defer func() { _ = db.Close() }()
	db.MustExec(`DELETE FROM journal WHERE id = 3`)
	broken := seal()
	require.False(t, broken.Holds)
	require.Equal(t, contract.JournalBreak{Entry: 3, Text: "is missing, up to 3: it was removed"}, broken.Breaks[0])

	status, _ := s.kind("POST", "/api/v1/journal/breaks/7", `{"why":"nothing is wrong there"}`)
	require.Equal(t, http.StatusNotFound, status)
	status, _ = s.kind("POST", "/api/v1/journal/breaks/3", `{"why":"an exercise"}`)
	require.Equal(t, http.StatusNoContent, status)
	mended := seal()
	require.True(t, mended.Holds, "it has been seen: %+v", mended)
	require.Equal(t, "an exercise", *mended.Breaks[0].Why)
	db.MustExec(`UPDATE journal SET text = 'Nothing happened' WHERE id = 2`)
	worse := seal()
	require.False(t, worse.Holds, "what is done later shows all the same")
	require.Len(t, worse.Breaks, 2)
	require.EqualValues(t, 2, worse.Breaks[0].Entry)
}
