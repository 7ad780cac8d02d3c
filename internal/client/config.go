// Package client is the command line of plumb.
//
//	client.go     the command, its exit status, errors
//	config.go     where the client is logged in
//	output.go     tables, JSON, YAML, CSV
//	board.go      plumb board, plumb show, plumb draw
//	operate.go    plumb on, off, cycle, op
//	follow.go     drawing what changes, live
//	estate.go     plumb estate, secret
//	inside.go     plumb sensors, events, sheet
//	controller.go plumb controller, identify
//	journal.go    plumb journal
package client

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"plumbbob/internal/whole"
)

// Config is where the client is logged in.
type Config struct {
	URL         string `json:"url"`
	Account     string `json:"account"`
	Token       string `json:"token"`
	Fingerprint string `json:"fingerprint,omitempty"` // of a self-signed certificate that is trusted
}

// ConfigPath is the file that Config is kept in: $PLUMB_CONFIG, or
// plumb/client.json in the user's configuration directory.
func ConfigPath() (string, error) {
	if p := os.Getenv("PLUMB_CONFIG"); p != "" {
		return p, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("where the client is logged in: %w: set PLUMB_CONFIG", err)
	}
	return filepath.Join(dir, "plumb", "client.json"), nil
}

// ReadConfig reads the file. Without one the Config is empty.
func ReadConfig(path string) (Config, error) {
	var c Config
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &c)
	}
	if err != nil {
		return c, fmt.Errorf("%s: %w: remove it and log in again with plumb login URL", path, err)
	}
	return c, nil
}

// Write writes the file, for this user's eyes only.
func (c Config) Write(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("keep the log-in: %w", err)
	}
	text, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return fmt.Errorf("keep the log-in: %w", err)
	}
	if err := whole.Write(path, append(text, '\n')); err != nil {
		return fmt.Errorf("keep the log-in: %w", err)
	}
	return nil
}
