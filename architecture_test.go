package vergekeep_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rooms says which of our own packages each room may import; docs/architecture.md
// explains why. A room may always import itself.
var rooms = map[string][]string{
	"core":    {},
	"wire":    {"core"},
	"store":   {},
	"archive": {"core", "store"},
	"service": {"core", "wire", "store", "archive"},
	"api":     {"core", "service", "archive", "store", "wire"},
	"client":  {},
	"cli":     {"client", "core", "wire/conversation", "wire/git"}, // to replay sessions; repositories in and out
	"console": {},
	"daemon":  {"api", "archive", "console", "core", "service", "store", "wire"},
	"standin": {"wire/netconf"},
	"demo":    {"archive", "cli", "client", "core", "daemon", "service", "standin", "wire/inlet"}, // messages of thirty days
	"cmd":     {"cli", "daemon", "demo"},
	"bench":   {"archive", "core", "daemon", "demo", "service", "standin", "store", "wire"},
	"real":    {"core", "wire", "standin"},
	"scripts": {},
}

// notInCore are packages that the computation has no business with.
var notInCore = []string{"net/http", "os/exec", "database/sql", "net"}

type pkg struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) []pkg {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	dec := json.NewDecoder(strings.NewReader(string(out)))
	var list []pkg
	for dec.More() {
		var p pkg
		require.NoError(t, dec.Decode(&p))
		list = append(list, p)
	}
	return list
}

func TestEachRoomImportsOnlyWhatItMay(t *testing.T) {
	for _, p := range packages(t) {
		path := strings.TrimPrefix(strings.TrimPrefix(p.ImportPath, "vergekeep"), "/")
		if path == "" {
			continue
		}
		room, _, _ := strings.Cut(path, "/")
		may, known := rooms[room]
		if !assert.True(t, known, "%s is in no room that the table knows", path) {
			continue
		}
		for _, imported := range p.Imports {
			if room == "core" {
				assert.NotContains(t, notInCore, imported, path)
			}
			ours, isOurs := strings.CutPrefix(imported, "vergekeep/")
			if !isOurs || strings.HasPrefix(ours+"/", room+"/") {
				continue
			}
			allowed := false
			for _, m := range may {
				allowed = allowed || strings.HasPrefix(ours+"/", m+"/")
			}
			assert.True(t, allowed, "%s may not import %s", path, ours)
		}
	}
}

// TestGeneratedCodeIsCurrent generates again and compares.
func TestGeneratedCodeIsCurrent(t *testing.T) {
	for _, name := range []string{"api", "client"} {
		config, err := os.ReadFile(filepath.Join(name, "gen", "config.yaml"))
		require.NoError(t, err)
		want, err := os.ReadFile(filepath.Join(name, "gen", name+".gen.go"))
		require.NoError(t, err)
		dir := t.TempDir()
		fresh := filepath.Join(dir, "fresh.go")
		moved := strings.Replace(string(config), filepath.Join(name, "gen", name+".gen.go"), fresh, 1)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "config.yaml"), []byte(moved), 0o600))
		out, err := exec.Command("go", "tool", "-modfile=tools/go.mod", "oapi-codegen", "-config", filepath.Join(dir, "config.yaml"), "api/openapi.yaml").CombinedOutput()
		require.NoError(t, err, "%s", out)
		got, err := os.ReadFile(fresh)
		require.NoError(t, err)
		assert.True(t, string(got) == string(want), "%s is not current: run 'make generate'", name)
	}
	fresh := filepath.Join(t.TempDir(), "contract.gen.ts")
	gen := exec.Command("npx", "--no-install", "openapi-typescript", "../api/openapi.yaml", "-o", fresh)
	gen.Dir = "console"
	out, err := gen.CombinedOutput()
	require.NoError(t, err, "%s", out)
	got, err := os.ReadFile(fresh)
	require.NoError(t, err)
	want, err := os.ReadFile("console/src/api/contract.gen.ts")
	require.NoError(t, err)
	assert.True(t, string(got) == string(want), "the console's types are not current: run 'make generate'")
}
