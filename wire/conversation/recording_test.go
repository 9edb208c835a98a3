package conversation_test

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/standin"
	"vergekeep/wire/conversation"
	"vergekeep/wire/ssh"
)

var record = flag.Bool("record", false, "write testdata/sessions anew")

// recorded holds a conversation with a stand-in and writes it down.
func recorded(t *testing.T, d *standin.Device, dl *dialect.Dialect) (conversation.Result, *conversation.Recording) {
	t.Helper()
	fleet := standin.NewFleet()
	t.Cleanup(fleet.Close)
	addr, err := fleet.Add(d)
	require.NoError(t, err)
	conn, err := ssh.Dial(t.Context(), ssh.Target{Addresses: []string{addr}, Login: ssh.Login{User: good.User, Password: good.Password}, Connect: time.Minute, Silence: time.Minute})
	require.NoError(t, err)
	defer conn.Close()
	result, rec, err := conversation.Record(t.Context(), conn, dl, conversation.Settings{Credential: good})
	require.NoError(t, err)
	return result, rec
}

// TestARecordedSessionIsHeldAgain records each stand-in, through the file and
// back; what is brought the second time is what was brought the first, but for
// the secrets.
func TestARecordedSessionIsHeldAgain(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	for _, platform := range []standin.Platform{standin.Tidegate, standin.Capstan, standin.Coaming, standin.Sounder} {
		t.Run(string(platform), func(t *testing.T) {
			dl := set[string(platform)]
			first, rec := recorded(t, device(platform), dl)
			file := rec.String()
			for _, secret := range []string{good.Password, good.Elevation, "hunter2"} {
				assert.NotContains(t, file, secret)
			}
			if *record {
				require.NoError(t, os.WriteFile(filepath.Join("testdata", "sessions", string(platform)+".yaml"), []byte(file), 0o644))
			}
			again, err := conversation.ParseRecording(file)
			require.NoError(t, err)
			second, err := conversation.Replay(t.Context(), again, dl, nil)
			require.NoError(t, err)
			require.Len(t, second.Answers, len(first.Answers))
			for i, a := range first.Answers {
				b := second.Answers[i]
				assert.Equal(t, a.Name+"/"+a.Item, b.Name+"/"+b.Item)
				assert.Equal(t, strings.Count(a.Text, "\n"), strings.Count(b.Text, "\n"), a.Name)
				if dl.CheckComplete(dl.Tree(dl.CleanText(a.Text))) == nil {
					assert.NoError(t, dl.CheckComplete(dl.Tree(dl.CleanText(b.Text))), "%s", b.Text)
				}
			}
		})
	}
}

func TestAPagerIsHeldAgainToo(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	dl := *set["tidegate"]
	dl.Conversation.States = map[string]*dialect.State{}
	for k, v := range set["tidegate"].Conversation.States {
		dl.Conversation.States[k] = v
	}
	paging := *dl.Conversation.States["paging"]
	paging.Send = "session paging on"
	dl.Conversation.States["paging"] = &paging
	d := device(standin.Tidegate)
	d.Config[""] = strings.Repeat("interface port1/1\n  description x\n", 100)
	first, rec := recorded(t, d, &dl)
	assert.Greater(t, len(rec.Exchanges), 20, "a key for each page")
	second, err := conversation.Replay(t.Context(), rec, &dl, nil)
	require.NoError(t, err)
	assert.Equal(t, kept(first, "running", ""), kept(second, "running", ""))
}

// TestRecordedSessions replays what is kept in testdata: built-in dialects go on
// understanding the devices of the day when it was recorded.
func TestRecordedSessions(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	files, err := filepath.Glob("testdata/sessions/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		t.Run(filepath.Base(f), func(t *testing.T) {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			rec, err := conversation.ParseRecording(string(text))
			require.NoError(t, err)
			dl := set[rec.Platform]
			r, err := conversation.Replay(t.Context(), rec, dl, nil)
			require.NoError(t, err)
			texts := 0
			for _, c := range dl.Captures {
				for _, a := range r.Answers {
					if a.Name == c.From && (a.Text != "" || !c.Optional) {
						texts++
						assert.NoError(t, dl.CheckComplete(dl.Tree(dl.CleanText(a.Text))), a.Name)
					}
				}
			}
			assert.Positive(t, texts)
		})
	}
}

// TestTheGuidesExample holds the dialect of the guide in docs/dialects.md against
// the session that was recorded while it was written.
func TestTheGuidesExample(t *testing.T) {
	const folder = "../../docs/examples/fairlead/"
	text, err := os.ReadFile(folder + "fairlead.yaml")
	require.NoError(t, err)
	dl, err := dialect.Parse("fairlead.yaml", string(text))
	require.NoError(t, err)
	session, err := os.ReadFile(folder + "fairlead.session.yaml")
	require.NoError(t, err)
	rec, err := conversation.ParseRecording(string(session))
	require.NoError(t, err)
	r, err := conversation.Replay(t.Context(), rec, dl, nil)
	require.NoError(t, err)
	for _, name := range []string{"running", "startup"} {
		clean := dl.CleanText(kept(r, name, ""))
		require.NoError(t, dl.CheckComplete(dl.Tree(clean)))
		assert.Contains(t, clean, "\n phrase "+dialect.Mask+"\n")
	}
	assert.Equal(t, dialect.Nameplate{Name: "fl-07", Model: "Fairlead 16", Serial: "FL16-0042", Version: "2.3"}, dl.ReadNameplate(map[string]string{"self": kept(r, "self", "")}))
}

func TestAReplayTellsWhereTheDialectDiffers(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	change := func(platform, state, send string) *dialect.Dialect {
		dl := *set[platform]
		dl.Conversation.States = map[string]*dialect.State{}
		for k, v := range set[platform].Conversation.States {
			copied := *v
			if k == state {
				copied.Send = send
			}
			dl.Conversation.States[k] = &copied
		}
		return &dl
	}
	_, shell := recorded(t, device(standin.Tidegate), set["tidegate"])
	_, err = conversation.Replay(t.Context(), shell, change("tidegate", "running", "list configuration"), nil)
	assert.ErrorContains(t, err, `The dialect types "list configuration\n" where the recording has "list config running\n".`)
	_, err = conversation.Replay(t.Context(), shell, set["capstan"], nil)
	assert.ErrorContains(t, err, "recorded on the channel pty")
	_, calls := recorded(t, device(standin.Capstan), set["capstan"])
	_, err = conversation.Replay(t.Context(), calls, change("capstan", "running", "print all"), nil)
	assert.ErrorContains(t, err, `The dialect asks for "print all"`)

	// A prompt that is never recognised, and a recording that breaks off.
	short := *shell
	short.Exchanges = []conversation.Exchange{{Read: "something else entirely: "}, {Sent: "x"}}
	_, err = conversation.Replay(t.Context(), &short, set["tidegate"], nil)
	assert.Equal(t, reason.NoPrompt, reason.Of(err, ""), "%v", err)
	short.Exchanges = shell.Exchanges[:3]
	_, err = conversation.Replay(t.Context(), &short, set["tidegate"], nil)
	require.Error(t, err)
}

func FuzzRecording(f *testing.F) {
	set, err := dialect.Load()
	require.NoError(f, err)
	f.Add("platform: capstan\nchannel: exec\nexchanges:\n  - { sent: print identity, read: [x] }\n")
	f.Add("channel: pty\nexchanges: [{read: ['x | ']}]")
	f.Fuzz(func(t *testing.T, text string) {
		rec, err := conversation.ParseRecording(text)
		if err != nil {
			require.ErrorIs(t, err, conversation.ErrRecording)
			return
		}
		if rec.Channel == dialect.Exec {
			_, _ = conversation.Replay(t.Context(), rec, set["capstan"], nil)
		}
	})
}
