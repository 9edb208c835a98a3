package store

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestABackupFinishesUnderSteadyWriting(t *testing.T) {
	dir := t.TempDir()
	db, err := Open(t.Context(), filepath.Join(dir, "keep.db"))
	require.NoError(t, err)
	defer db.Close()
	insert := func(name string) error {
		return db.Write(context.Background(), func(tx *Tx) error {
			_, err := tx.Exec(`INSERT INTO groups (name, selector, description) VALUES (?, '', ?)`, name, string(make([]byte, 2000)))
			return err
		})
	}
	for i := range 2000 {
		require.NoError(t, insert("before-"+string(rune('a'+i%26))+filepath.Base(t.Name())+string(rune(0x4e00+i))))
	}
	stop, stopped := make(chan struct{}), make(chan int)
	go func() {
		n := 0
		for ; ; n++ {
			select {
			case <-stop:
				stopped <- n
				return
			default:
				if insert("during-"+string(rune(0x4e00+n%20000))+string(rune(0x4e00+n/20000))) != nil {
					stopped <- -1
					return
				}
			}
		}
	}()
	backup := filepath.Join(dir, "backup.db")
	require.NoError(t, db.Backup(t.Context(), backup))
	close(stop)
	written := <-stopped
	assert.Positive(t, written, "others went on writing")
	require.Error(t, db.Backup(t.Context(), backup), "nothing is overwritten")
	info, err := os.Stat(backup)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	back := filepath.Join(dir, "restored", "keep.db")
	require.NoError(t, Restore(t.Context(), backup, back))
	require.ErrorContains(t, Restore(t.Context(), backup, back), "move it away first")
	again, err := Open(t.Context(), back)
	require.NoError(t, err)
	defer again.Close()
	var n int
	require.NoError(t, again.QueryRow(t.Context(), `SELECT count(*) FROM groups`).Scan(&n))
	assert.GreaterOrEqual(t, n, 2000)
	assert.LessOrEqual(t, n, 2000+written+1)
	require.NoError(t, again.Examine(t.Context()))
}

func TestADamagedFileIsRefusedWithTheWayBack(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keep.db")
	db, err := Open(t.Context(), path)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	for name, damage := range map[string]func([]byte){
		"its head":  func(b []byte) { copy(b, "no database at all") },
		"its roots": func(b []byte) { copy(b[100:], make([]byte, 400)) },
	} {
		t.Run(name, func(t *testing.T) {
			data := append([]byte(nil), whole...)
			damage(data)
			damagedPath := filepath.Join(t.TempDir(), "keep.db")
			require.NoError(t, os.WriteFile(damagedPath, data, 0o600))
			_, err := Open(t.Context(), damagedPath)
			require.ErrorIs(t, err, ErrDamaged)
			require.ErrorContains(t, err, "vergekeep restore BACKUP")
			require.Error(t, Restore(t.Context(), damagedPath, filepath.Join(t.TempDir(), "x.db")), "and is no backup to restore")
		})
	}
}
