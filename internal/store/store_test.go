package store_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store"
	"orilla.example/orilla/internal/store/memory"
	"orilla.example/orilla/internal/store/ssh"
)

func TestWhereAStoreLies(t *testing.T) {
	t.Parallel()
	root, data := t.TempDir(), t.TempDir()
	for address, want := range map[string]string{
		"": filepath.Join(data, "store"), "../beside": filepath.Join(filepath.Dir(root),
			"beside"), "sub/store": filepath.Join(root, "sub", "store"),
		filepath.Join(data, "absolute"):                          filepath.Join(data, "absolute"),
		"file://" + filepath.ToSlash(filepath.Join(data, "url")): filepath.Join(data, "url"),
	} {
		t.Run(address, func(t *testing.T) {
			opened, err := store.Open(t.Context(), address, root, data, true)
			require.NoError(t, err, address)
			assert.Equal(t, want, opened.Address())
			require.NoError(t, opened.Create(t.Context(), "pins/x", nil))
		})
	}
	_, err := store.Open(t.Context(), "nowhere", root, "", false)
	assert.Equal(t, "no-store", fault.Code(err))
	_, err = store.Open(t.Context(), "ftp://host/path", root, "", true)
	assert.Equal(t, "store-address", fault.Code(err))
	require.NoError(t, os.WriteFile(filepath.Join(root, "thesis.txt"), nil, 0o644))
	_, err = store.Open(t.Context(), ".", root, "", true)
	assert.Equal(t, "not-a-store", fault.Code(err))
}

func TestWhatAStoreLedToIsExplained(t *testing.T) {
	t.Parallel()
	for code, err := range map[string]error{
		"store-read-only": storage.ErrReadOnly, "store-full": storage.ErrFull, "store-trouble": errors.New(
			"input/output error"), "clock": storage.ErrClock,
		"store-credentials": storage.ErrCredentials, "no-bucket": storage.ErrNoBucket,
		"store-denied":      storage.ErrDenied,
		"store-unreachable": storage.ErrUnreachable, "untrusted": storage.ErrUntrusted,
		"store-unable":     storage.ErrUnable,
		"host-key-unknown": &ssh.HostError{Host: "corvane.test:22", Line: "corvane.test ssh-ed25519 AAAA"},
		"host-key-changed": &ssh.HostError{Host: "corvane.test:22", Changed: true},
		"too-slow":         pins.ErrLapsed, "site-removed": pins.ErrRemoved,
	} {
		t.Run(code, func(t *testing.T) {
			got := store.Explain(fmt.Errorf("reading a claim: %w", storage.Wrap(err, &memory.Store{}, "get",
				"sites/corvane/claim")), "elsewhere")
			require.Equal(t, code, fault.Code(got))
			require.ErrorIs(t, got, err)
			problem, _ := errors.AsType[*fault.Error](got)
			assert.NotEmpty(t, problem.Next)
			assert.Equal(t, "memory", problem.Where, "the error knows which store it was")
		})
	}
}

func TestWhatIsNoTroubleOfAStoreIsHandedOn(t *testing.T) {
	t.Parallel()
	for name, err := range map[string]error{
		"nothing": nil, "an interrupt": context.Canceled, "a message already": fault.New(fault.Refused, "own",
			"said already"),
		"an error of Git": errors.New("fatal: bad object"), "an error of a file": &fs.PathError{Op: "open",
			Path: "dist", Err: fs.ErrPermission},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, err, store.Explain(err, "elsewhere"))
		})
	}
}
