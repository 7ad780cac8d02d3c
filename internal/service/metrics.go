package service

import (
	"fmt"
	"os"
	"strings"

	"plumbbob/internal/api"
)

// metrics reads what /metrics shows, and what opens it.
func (s *Service) metrics() (m api.Metrics, err error) {
	for _, p := range s.o.MetricsReadings {
		if err := api.CheckReading(p); err != nil {
			return m, fmt.Errorf("--metrics-readings %q: %w", p, err)
		}
	}
	m.Readings = s.o.MetricsReadings
	if s.o.MetricsToken == "" {
		return m, nil
	}
	text, err := os.ReadFile(s.o.MetricsToken)
	if err != nil {
		return m, fmt.Errorf("--metrics-token-file: %w", err)
	}
	if m.Token = strings.TrimSpace(string(text)); len(m.Token) < api.LeastToken {
		return m, fmt.Errorf("--metrics-token-file: the token in %s is shorter than %d characters", s.o.MetricsToken, api.LeastToken)
	}
	return m, nil
}

// acts says whether this service, of several, is the one that acts.
func (s *Service) acts() bool { return !s.o.Safe && !s.lease.Other() }
