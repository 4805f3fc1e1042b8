package hostcommand_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kestrel/internal/hostcommand"
)

func TestCommandsOfTheFolder(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string, mode os.FileMode) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), mode))
	}
	put("open-gate", "#!/bin/sh\necho \"$KESTREL_MACHINE $HOME\" > said\n", 0o755)
	put("refuse", "#!/bin/sh\necho first; printf 'the gate is\\033 stuck\\n' >&2; exit 3\n", 0o755)
	put("notes.txt", "no program", 0o644)
	put(".hidden", "#!/bin/sh\n", 0o755)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "sub"), 0o755))
	f := hostcommand.Folder(dir)
	require.Equal(t, []string{"open-gate", "refuse"}, f.Names())
	require.Empty(t, hostcommand.Folder(filepath.Join(dir, "nowhere")).Names())

	ctx := context.Background()
	require.NoError(t, f.Run(ctx, "open-gate", map[string]string{"KESTREL_MACHINE": "tick-db"}, time.Minute))
	said, err := os.ReadFile(filepath.Join(dir, "said"))
	require.NoError(t, err)
	require.Equal(t, "tick-db \n", string(said), "it is told the machine, and nothing of the service's environment")
	err = f.Run(ctx, "refuse", nil, time.Minute)
	require.ErrorContains(t, err, "exit status 3: the gate is stuck")
	for _, name := range []string{"", "notes.txt", ".hidden", "sub", "../" + filepath.Base(dir) + "/refuse", "refuse; true"} {
		require.ErrorIs(t, f.Run(ctx, name, nil, time.Minute), hostcommand.ErrUnknown, name)
	}
}

// What a command has started ends with it.
func TestWhatACommandStartedEndsWithIt(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "linger"), []byte("#!/bin/sh\nsleep 600 & echo on > begun; wait\n"), 0o755))
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- hostcommand.Folder(dir).Run(ctx, "linger", nil, time.Hour) }()
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "begun"))
		return err == nil
	}, 20*time.Second, 10*time.Millisecond)
	cancel()
	select {
	case err := <-done:
		require.Error(t, err)
	case <-time.After(20 * time.Second):
		t.Fatal("it goes on")
	}
}
