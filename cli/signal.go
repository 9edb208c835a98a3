package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"vergekeep/core/syslog"
)

func (a *app) signalCommand() *cli.Command {
	return &cli.Command{
		Name: "signal", Usage: "what tells that a device's configuration may have changed", Category: "Keeping",
		Commands: []*cli.Command{
			{
				Name: "test", Usage: "show what is understood of a syslog message; this takes no service", ArgsUsage: "LINE",
				Description: example("vergekeep signal test '<189>Nov 20 02:14:07 np-acc-2 config[812]: changed by neteng'"),
				Flags:       []cli.Flag{&cli.StringFlag{Name: "zone", Value: "UTC", Usage: "the device's time zone, where the message names none"}},
				Action: func(_ context.Context, cmd *cli.Command) error {
					if err := exactly(cmd, 1, "a line"); err != nil {
						return err
					}
					zone, err := time.LoadLocation(cmd.String("zone"))
					if err != nil {
						return fmt.Errorf("%q is no time zone; write for example Europe/Oslo", cmd.String("zone"))
					}
					m := syslog.Parse([]byte(cmd.Args().First()), time.Now(), zone)
					t := &table{head: []string{"field", "value"}}
					add := func(field, value string) {
						if value != "" {
							t.add(field, value)
						}
					}
					add("form", string(m.Form))
					if m.Facility >= 0 {
						add("facility", fmt.Sprint(m.Facility))
						add("severity", fmt.Sprintf("%d (%s)", m.Severity, severities[m.Severity]))
					}
					if !m.Time.IsZero() {
						said := m.Time.Format("2006-01-02 15:04:05 MST")
						if !m.Sure {
							said += ", of which the message has no zone or no year"
						}
						add("time", said)
					}
					add("host", m.Host)
					add("program", m.App)
					add("process", m.Process)
					add("id", m.ID)
					for _, id := range slices.Sorted(maps.Keys(m.Data)) {
						for _, name := range slices.Sorted(maps.Keys(m.Data[id])) {
							add(id+" "+name, m.Data[id][name])
						}
					}
					add("text", m.Text)
					return a.print(cmd, m, t)
				},
			},
		},
	}
}

// severities are the words of RFC 5424, 6.2.1.
var severities = [...]string{"emergency", "alert", "critical", "error", "warning", "notice", "informational", "debug"}
