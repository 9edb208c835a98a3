package report

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func changed() *Changes {
	return &Changes{Sentence: "A change <outside> agreed hours", By: "noc", Made: time.Date(2026, 11, 20, 3, 0, 0, 0, time.UTC), Zone: time.UTC, Items: []Change{
		{ID: 7, Device: "np-acc-2", Site: "Ness Point", When: "2026-11-20 02:10", By: "svc-night", Hours: "outside nights", Alarm: true, Severity: "high", Verdict: "open", Differences: "1 changed"},
		{ID: 8, Device: "np-acc-3", When: "2026-11-20 02:20", Hours: "inside nights", Severity: "low", Verdict: "open", Differences: "1 added"},
	}}
}

func TestWhatIsAlarmingIsSaidOnceAndMarked(t *testing.T) {
	var page bytes.Buffer
	require.NoError(t, changed().HTML(&page))
	assert.Equal(t, 1, strings.Count(page.String(), "outside nights"))
	assert.Contains(t, page.String(), `<td class="alarm">▲ outside nights</td>`)
	assert.Contains(t, page.String(), `<td>inside nights</td>`)
	assert.Contains(t, page.String(), "A change &lt;outside&gt; agreed hours")
}
