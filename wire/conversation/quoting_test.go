package conversation_test

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vergekeep/core/dialect"
	"vergekeep/core/reason"
	"vergekeep/wire/conversation"
)

// careless is a device that repeats even what should stay hidden, and ends a
// command badly after it has printed a configuration.
type careless struct{ bytes.Buffer }

func (c *careless) Shell(int, int) (io.ReadWriteCloser, error) {
	c.WriteString("Password: ")
	return &echoing{c}, nil
}

func (c *careless) Exec(string, int) ([]byte, int, error) {
	return []byte("snmp key hush-hush\nmore\n"), 1, nil
}

func (c *careless) Subsystem(string) (io.ReadWriteCloser, error) {
	return nil, errors.New("there is none")
}

func (c *careless) Why(error) error { return reason.New(reason.Hung, "It fell silent.") }

// echoing gives back what is written, and then nothing more.
type echoing struct{ c *careless }

func (e *echoing) Read(p []byte) (int, error)  { return e.c.Read(p) }
func (e *echoing) Write(p []byte) (int, error) { return e.c.Write(bytes.TrimRight(p, "\n")) }
func (e *echoing) Close() error                { return nil }

func TestReasonsQuoteNoSecret(t *testing.T) {
	set, err := dialect.Load()
	require.NoError(t, err)
	_, err = conversation.Run(t.Context(), &careless{}, set["tidegate"], conversation.Settings{Credential: good})
	require.Error(t, err)
	assert.Equal(t, reason.NoPrompt, reason.Of(err, ""))
	assert.NotContains(t, err.Error(), good.Password)

	_, err = conversation.Run(t.Context(), &careless{}, set["capstan"], conversation.Settings{Credential: good})
	require.Error(t, err)
	assert.Equal(t, reason.DeviceError, reason.Of(err, ""))
	assert.NotContains(t, err.Error(), "hush-hush", "a line that is no error answer may be of a configuration")
	assert.True(t, strings.Contains(err.Error(), "status 1"), err.Error())
}
