package reason

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEveryReasonSaysWhatToDo(t *testing.T) {
	seen := map[Code]bool{}
	for _, c := range Codes() {
		assert.Regexp(t, regexp.MustCompile(`^[a-z]+(-[a-z]+)*$`), string(c))
		assert.False(t, seen[c], "%s stands twice", c)
		seen[c] = true
		advice := c.Advice()
		assert.Regexp(t, regexp.MustCompile(`^[A-Z].*[.?]$`), advice, c)
	}
	assert.Greater(t, len(seen), 30)
	assert.Empty(t, Code("no-such").Advice())
}

func TestAReasonIsFoundBehindWhatWrapsIt(t *testing.T) {
	inner := New(Hung, "It fell silent: %w.", io.ErrUnexpectedEOF)
	err := fmt.Errorf("at ng-acc-1: %w", inner)
	assert.Equal(t, Hung, Of(err, Storage))
	assert.Equal(t, Storage, Of(io.EOF, Storage))
	assert.Equal(t, Storage, Of(nil, Storage))
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	assert.Equal(t, "It fell silent: unexpected EOF.", inner.Error())
	var given *Error
	assert.True(t, errors.As(err, &given))
}
