package cli_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vergekeep/demo"
)

// changesAndSignals runs the commands about what happened, as somebody who may do
// everything.
func changesAndSignals(t *testing.T, d *demo.Demo) {
	lead := shell{t, map[string]string{"VERGEKEEP_LOGIN": filepath.Join(t.TempDir(), "login.json")}}
	lead.run("a-long-password\n", "login", d.Daemon.URL, "--account", "lead")
	split := func(line string) []string {
		args := words(line)
		for i := range args {
			args[i] = strings.ReplaceAll(args[i], "|", " ")
		}
		return args
	}
	for _, c := range []struct {
		name   string
		status int
		args   string
	}{
		{"signal-test-changed", 0, "signal test <189>Nov|20|02:14:07|np-acc-2|config[812]:|changed|by|neteng|from|198.51.100.7|over|ssh"},
		{"signal-test-ours", 0, "signal test <189>Nov|20|02:14:07|np-acc-2|config[812]:|changed|by|keeper"},
		{"signal-test-nobody", 0, "signal test <189>Nov|20|02:14:07|nobody|config[812]:|changed|by|neteng"},
		{"signal-list", 0, "signal list -s name=np-acc-2"},
		{"signal-assign", 0, "signal assign log|host --relay --address 192.0.2.20"},
		{"signal-assign-host", 0, "signal assign gate --device np-edge-1 --address 203.0.113.9 --host router"},
		{"signal-unassign", 0, "signal unassign gate"},
		{"question-set", 0, "signal question set silent -s site=\"Dry|Dock\" --every 60m"},
		{"question-list", 0, "signal question list"},
		{"question-ask", 0, "signal ask name=dd-acc-1|name=dd-fw-1 --format csv"},
		{"question-delete", 0, "signal question delete silent"},
		{"change-list", 1, "change list -s name=np-acc-2"},
		{"change-undone", 0, "change list -s name=hh-dist-1"},
		{"change-none", 0, "change list -s name=np-acc-2 --from 10m"},
		{"change-take", 0, "change take 164"},
		{"change-show", 0, "change show 164"},
		{"change-leave", 0, "change leave #164"},
		{"change-authorise", 0, "change authorise 164 --reference ticket|2077 --remark found|out|later"},
		{"change-authorised", 0, "change list -s name=np-acc-2 --verdict authorised"},
		{"change-reopen", 0, "change reopen 164"},
		{"change-patterns", 0, "change patterns -s name=np-acc-2 --by account"},
		{"change-flapping", 0, "change patterns -s name=hh-dist-1 --by undone"},
		{"change-rules", 0, "change rule list"},
		{"change-rule-set", 0, "change rule set night|work -s role=core --account lead --inside --reference standing|order|8"},
		{"change-rule-delete", 0, "change rule delete night|work"},
		{"change-announce", 0, "change announcement set trunk --from 2026-11-24T22:00 --to 2026-11-25T02:00 --reference ticket|2077 -s name=ng-edge-1"},
		{"change-announced", 0, "change announcement list"},
		{"change-announce-delete", 0, "change announcement delete trunk"},
		{"window-set", 0, "window set once --start 2030-01-01T22:00 --length 2h --zone UTC --remark once"},
		{"window-delete", 0, "window delete once"},
		{"channel-list", 0, "channel list"},
		{"channel-set", 0, "channel set desk --hook https://desk.skerry.example/hooks/changes"},
		{"channel-delete", 0, "channel delete desk"},
		{"subscription-set", 0, "subscription set firewalls --event change -s role=firewall --quiet 22:00-06:00 --zone UTC"},
		{"subscription-list", 0, "subscription list --format csv"},
		{"subscription-preview", 0, "subscription preview --event change -s name=np-acc-2"},
		{"subscription-delete", 0, "subscription delete firewalls"},
		{"report-list", 0, "change report list"},
	} {
		t.Run(c.name, func(t *testing.T) {
			status, out, said := lead.run("", split(c.args)...)
			assert.Equal(t, c.status, status, said)
			golden(t, c.name, out)
		})
	}
	for _, c := range []struct{ args, says string }{
		{"signal test x --dialect nothing", "no dialect"},
		{"signal assign x", "--device or --relay"},
		{"signal assign x --device np-acc-2", "say an address"},
		{"signal assign x --relay", "by its address"},
		{"signal assign x --relay --address nowhere", "is no address"},
		{"signal assign x --device nobody --address 192.0.2.1", "no such device"},
		{"signal unassign nothing", "no such sender"},
		{"signal question set x --every 5s", "minutes"},
		{"signal ask name=nobody", "matches no device"},
		{"change show x", "is no number"},
		{"change show 999999", "no such change"},
		{"change authorise 164", "reference"},
		{"change authorise 999999 --reference x", "no such change"},
		{"change take", "is missing"},
		{"change list --severity grave", "severity"},
		{"change list --place nowhere", "place"},
		{"change list --from yesterday", "no moment is named"},
		{"change list --from 1d --to 2d", "end before it begins"},
		{"change list --taken --untaken", "leave nothing over"},
		{"change patterns --by colour", "--by is"},
		{"change rule set x --reference y", "on every change"},
		{"change rule set x -s role=core", "reference"},
		{"change rule delete x", "none of that name"},
		{"change announcement set x --from 2026-11-24 --to 2026-11-23 --reference y", "ends before it begins"},
		{"change report write -o x.doc", "names no form"},
		{"change report set x --at sometimes", "write for example"},
		{"change report set x --at 0|7|*|*|1", "is mailed"},
		{"window set x --start tuesday --length 4h", "is no time"},
		{"window set x --start 2026-11-24T22:00 --length 4h --rule every|tuesday", "FREQ=WEEKLY"},
		{"window set x --start 2026-11-24T22:00 --length 4h --rule FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", "never opens"},
		{"window set x --start 2026-11-24T22:00 --length 1s", "whole minutes"},
		{"window delete x", "none of that name"},
		{"channel set x", "say one of"},
		{"channel set x --mail nobody", "not a mail address"},
		{"channel set x --hook ftp://desk", "no web address"},
		{"channel set x --hook http://192.0.2.1/x", "without TLS"},
		{"channel set x --syslog desk", "no syslog server"},
		{"channel delete team", "goes there"},
		{"channel test nothing", "none of that name"},
		{"subscription set x", "at least one --event"},
		{"subscription set x --event weather", "event"},
		{"subscription set x --event change --channel nowhere", "none of that name"},
		{"subscription set x --event change --digest sometimes", "0 7 * * *"},
		{"subscription set x --event change --idle", "only a digest"},
		{"subscription set x --event change --quiet night", "are no hours"},
		{"subscription set x --event change --subject {{.Nothing}}", "it can use"},
		{"notice retry 999999", "waits or is dead"},
		{"notice retry x", "no number of a delivery"},
	} {
		status, out, said := lead.run("", split(c.args)...)
		assert.Equal(t, 2, status, c.args)
		assert.Empty(t, out, c.args)
		assert.Contains(t, said, c.says, c.args)
		assert.True(t, strings.HasPrefix(said, "vergekeep: "), said)
		assert.LessOrEqual(t, strings.Count(said, "\n"), 4, said)
	}
}
