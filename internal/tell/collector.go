package tell

import (
	"context"
	"fmt"
	"os"

	"plumbbob/internal/core/telling"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/names"
	"plumbbob/internal/wire/syslog"
)

// incidentData names what stands in a message of syslog beside its text.
const incidentData = "incident@32473"

var syslogSeverity = map[telling.Severity]syslog.Severity{telling.Warning: syslog.Warning, telling.Critical: syslog.Critical}

func (s *Settings) checkSyslog() error {
	if s.Secret != "" {
		return fmt.Errorf("secret: syslog has none: leave it out")
	}
	_, err := syslog.Parse(s.URL)
	if err != nil {
		return fmt.Errorf("url: %w", err)
	}
	return nil
}

// sendSyslog sends a message for each incident to a collector (RFC 5424).
func (s Settings) sendSyslog(ctx context.Context, _ secret.Value, _ string, m telling.Message) (says string, err error) {
	to, err := syslog.Parse(s.URL)
	if err != nil {
		return "", err
	}
	to.Dial = names.Default.DialContext
	defer func() { _ = to.Close() }()
	host, _ := os.Hostname()
	one := syslog.Message{Facility: syslog.LogAlert, Severity: syslogSeverity[m.Severity], At: m.At, Host: host, App: "plumbd", ID: "test", Text: m.Subject}
	if len(m.Items) == 0 {
		err = to.Send(ctx, one)
	}
	for _, x := range m.Items {
		i := x.Incident
		one.ID, one.Severity = "incident-"+string(x.Note.What), syslogSeverity[telling.SeverityOf(i.Kind)]
		if x.Note.What == telling.Over {
			one.Severity = syslog.Notice
		}
		one.DataID, one.Keys = incidentData, []string{"id", "kind", "device", "site"}
		one.Data = map[string]string{"id": i.ID, "kind": i.Kind, "device": string(i.Device), "site": string(i.Site)}
		one.Text = m.Subject + ": " + i.Text
		if err = to.Send(ctx, one); err != nil {
			break
		}
	}
	return "sent; syslog confirms nothing", err
}
