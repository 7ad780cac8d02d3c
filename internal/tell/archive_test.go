package tell

import (
	"bufio"
	"bytes"
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/journal"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// TestWhatIsOldGoesToFiles: the chain goes on, in the files and behind them; what a
// collector has not got yet stays, and so does what does not hold.
func TestWhatIsOldGoesToFiles(t *testing.T) {
	c := storetest.Config(t)
	s, err := store.Open(t.Context(), c)
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	a := &JournalArchive{Store: s, Health: health.New(slog.New(slog.DiscardHandler)), Bus: &bus.Bus{}, Dir: filepath.Join(t.TempDir(), "journal"), Keep: time.Hour}
	write := func(n int) {
		for range n {
			require.NoError(t, s.Write(t.Context(), store.Entry{At: time.Now(), Who: "ann", Kind: store.EntryService, Text: "something"}))
		}
	}
	once := func(now time.Time) {
		_, err := a.Once(t.Context(), now)
		require.NoError(t, err)
	}
	files := func() []string {
		list, _ := filepath.Glob(filepath.Join(a.Dir, "*"))
		return list
	}
	write(3)
	_, err = s.Copied(t.Context(), "syslog")
	require.NoError(t, err)
	write(2)
	once(time.Now())
	require.Empty(t, files(), "nothing is old")
	later := time.Now().Add(2 * time.Hour)
	once(later)
	require.Equal(t, []string{filepath.Join(a.Dir, "journal-000000001-000000003.jsonl")}, files(), "the collector has no more")
	require.NoError(t, s.SetCopied(t.Context(), "syslog", 99))
	once(later)
	require.Len(t, files(), 2)

	proof, err := s.VerifyJournal(t.Context())
	require.NoError(t, err)
	require.Empty(t, proof.Open)
	require.EqualValues(t, 7, proof.Last, "five, and one for each archive")
	left, err := s.Journal(t.Context(), store.JournalFilter{Limit: 10})
	require.NoError(t, err)
	require.Contains(t, left[0].Text, "Entries 4 to 6 archived in journal-000000004-000000006.jsonl, which ends with ")

	chain := journal.Proof{Whole: true}
	for _, f := range files() {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		lines := bufio.NewScanner(bytes.NewReader(text))
		require.True(t, lines.Scan())
		var head journal.Archive
		require.NoError(t, json.Unmarshal(lines.Bytes(), &head))
		for lines.Scan() {
			var e journal.Entry
			require.NoError(t, json.Unmarshal(lines.Bytes(), &e))
			chain.Add(&e)
		}
		require.Equal(t, head.Archive.Hash, chain.Head)
	}
	chain.Add(&left[0])
	chain.End(7)
	require.Empty(t, chain.Open)

	write(1)
	db := sqlx.MustConnect("mysql", c.FormatDSN())
	defer func() { _ = db.Close() }()
	db.MustExec(`UPDATE journal SET text = 'nothing' WHERE id = 8`)
	_, err = a.Once(t.Context(), later)
	require.ErrorContains(t, err, "does not hold at entry 8")
}
