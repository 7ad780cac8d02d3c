package act

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"sync"
	"syscall"

	"plumbbob/internal/core/operation"
	"plumbbob/internal/health"
	"plumbbob/internal/whole"
)

// ledger is a file of operations, one JSON document a line, that is on disk
// when a write returns. Of each operation the last line counts.
type ledger struct {
	path string

	mu    sync.Mutex
	ops   map[string]*operation.Operation
	lines int // in the file
}

func openLedger(path string, book *health.Book) (*ledger, error) {
	l := &ledger{path: path, ops: map[string]*operation.Operation{}}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return nil, fmt.Errorf("ledger: %w", err)
	}
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 16<<20)
	for n := 1; lines.Scan(); n++ {
		l.lines++
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		var o operation.Operation
		if err := json.Unmarshal(lines.Bytes(), &o); err == nil {
			l.ops[o.ID] = &o
		} else if bytes.HasSuffix(lines.Bytes(), []byte("}")) { // a torn line was never acted upon
			book.Grave(fmt.Sprintf("ledger line %d", n), fmt.Sprintf("line %d of %s cannot be read, and is left out: see whether what it is about has power: %s", n, path, err))
		}
	}
	return l, lines.Err()
}

// find returns how an operation stands in the file, or nil.
func (l *ledger) find(id string) *operation.Operation {
	l.mu.Lock()
	defer l.mu.Unlock()
	if o := l.ops[id]; o != nil {
		return o.Clone()
	}
	return nil
}

func (l *ledger) has(id string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.ops[id] != nil
}

// newest returns the operations in the order in which they were asked for.
func (l *ledger) newest() []*operation.Operation {
	l.mu.Lock()
	defer l.mu.Unlock()
	var ops []*operation.Operation
	for _, o := range l.ops {
		ops = append(ops, o.Clone())
	}
	slices.SortFunc(ops, func(a, b *operation.Operation) int { return a.Asked.Compare(b.Asked) })
	return ops
}

func (l *ledger) write(o *operation.Operation) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	line, err := json.Marshal(o)
	if err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	// A line of its own even behind one that was torn by a full disk.
	line = append(append([]byte{'\n'}, line...), '\n')
	err = l.add(line)
	if errors.Is(err, syscall.ENOSPC) && os.Remove(l.path+reserve) == nil {
		err = l.add(line)
	}
	if err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	l.ops[o.ID] = o.Clone()
	l.lines++
	return nil
}

// add is on disk when it returns.
func (l *ledger) add(line []byte) error {
	f, err := os.OpenFile(l.path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(line)
	return errors.Join(err, f.Sync(), f.Close())
}

// A file that only takes room lies beside the ledger: on a full disk it is given up, so
// that what is under way can be recorded to its end.
const (
	reserve     = ".reserve"
	reserveSize = 4 << 20
)

// keepRoom takes room for the ledger, if there is any.
func (l *ledger) keepRoom() error {
	file := l.path + reserve
	if info, err := os.Stat(file); err == nil && info.Size() == reserveSize {
		return nil
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	_, err = f.Write(make([]byte, reserveSize)) // written, and not only said to be so long
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(fmt.Errorf("ledger: %w", err), os.Remove(file))
	}
	return nil
}

// forget drops an operation that is in the database, unless it has moved on
// meanwhile, and empties the file when it was the last.
func (l *ledger) forget(o *operation.Operation) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now := l.ops[o.ID]; now == nil || now.Saved.After(o.Saved) || now.State != o.State {
		return nil
	}
	return l.drop(o.ID)
}

// ended drops an operation.
func (l *ledger) ended(id string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.ops[id] == nil {
		return nil
	}
	return l.drop(id)
}

// linesMost is how many lines a file has that is written anew when more than these are
// of operations that are not in it any more.
const linesMost = 1000

func (l *ledger) drop(id string) error {
	delete(l.ops, id)
	if len(l.ops) > 0 {
		return l.shorten()
	}
	l.lines = 0
	if err := os.Remove(l.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("ledger: %w", err)
	}
	return nil
}

// shorten writes the file anew once most of it counts no more.
func (l *ledger) shorten() error {
	if l.lines < linesMost || l.lines < 4*len(l.ops) {
		return nil
	}
	var text bytes.Buffer
	for _, o := range l.ops {
		line, err := json.Marshal(o)
		if err != nil {
			return fmt.Errorf("ledger: %w", err)
		}
		text.Write(append(line, '\n'))
	}
	if err := whole.Write(l.path, text.Bytes()); err != nil {
		return fmt.Errorf("ledger: %w", err)
	}
	l.lines = len(l.ops)
	return nil
}
