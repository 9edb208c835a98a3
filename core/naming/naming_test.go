package naming

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNamesAreRead(t *testing.T) {
	day := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		pattern, path string
		want          Name
	}{
		{"{device}/{date}.cfg", "backup/old/ng-acc-1/2026-11-20.cfg", Name{Device: "ng-acc-1", At: day}},
		{"{date}/{device}.txt", "20261120/ng-acc-1.txt", Name{Device: "ng-acc-1", At: day}},
		{"{device}_{date}_{time}*", "ng_acc_1_2026.11.20_02-10.cfg.bak", Name{Device: "ng_acc_1", At: day.Add(130 * time.Minute)}},
		{"{site}/{device}.{datastore}.cfg", "Dry Dock/dd-acc-1.startup.cfg", Name{Site: "Dry Dock", Device: "dd-acc-1", Datastore: "startup"}},
		{"{address}-{date}{time}", "192.0.2.7-20261120021005", Name{Address: "192.0.2.7", At: day.Add(130*time.Minute + 5*time.Second)}},
	} {
		p, err := Compile(c.pattern)
		require.NoError(t, err)
		got, ok := p.Read(c.path, time.UTC)
		require.True(t, ok, c.path)
		assert.Equal(t, c.want, got, c.path)
	}
	p, err := Compile("{device}/{date}.cfg")
	require.NoError(t, err)
	for _, path := range []string{"ng-acc-1/readme.cfg", "ng-acc-1/2026-13-20.cfg", "ng-acc-1/2026-11-20.txt", "2026-11-20.cfg"} {
		_, ok := p.Read(path, time.UTC)
		assert.False(t, ok, path)
	}
	assert.Equal(t, "_/2026-11-20.cfg", p.Write(Name{Device: "..", At: day}), "no way out of the folder")
	assert.Equal(t, "Front_desk_switch/2026-11-20.cfg", p.Write(Name{Device: "Front desk switch", At: day}))
}

func TestWhatIsNoPattern(t *testing.T) {
	for source, says := range map[string]string{"": "1 to 500", "{divice}.cfg": "there is no field", "{date}.cfg": "whose configuration", "{device}{device}": "stands twice", "{device": "not closed", strings.Repeat("x", 501): "1 to 500"} {
		_, err := Compile(source)
		require.ErrorIs(t, err, ErrPattern)
		assert.ErrorContains(t, err, says)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("{device}/{date}.cfg", "a/2026-11-20.cfg")
	f.Fuzz(func(t *testing.T, pattern, path string) {
		p, err := Compile(pattern)
		if err != nil {
			return
		}
		if n, ok := p.Read(path, time.UTC); ok && strings.Contains(p.Write(n), "..") && !strings.Contains(pattern, "..") && !strings.Contains(path, "..") {
			t.Fatal(p.Write(n))
		}
	})
}
