// Package pipeline takes a commit, a working tree or an output to a live release: it joins source, builder, core and store,
// and decides nothing that a visitor sees.
package pipeline

import (
	"context"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/file"
)

// Places is where Orilla keeps things on this machine.
type Places struct {
	Data  string // the default store lies here
	Cache string // work in progress, remembered digests; may be removed at any time
}

// FindPlaces returns the folders that the system means for this. ORILLA_HOME, if set, holds both.
func FindPlaces() (Places, error) {
	if home := os.Getenv("ORILLA_HOME"); home != "" {
		home, err := filepath.Abs(home)
		return Places{Data: home, Cache: filepath.Join(home, "cache")}, err
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return Places{}, fault.New(fault.Failed, "no-home", "this machine has no folder for a user's files").Because(err).
			Then("set ORILLA_HOME to a folder of your own")
	}
	data := os.Getenv("XDG_DATA_HOME")
	if data == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return Places{}, err
		}
		switch runtime.GOOS {
		case "darwin":
			data = filepath.Join(home, "Library", "Application Support")
		case "windows":
			data = cache
		default:
			data = filepath.Join(home, ".local", "share")
		}
	}
	return Places{Data: filepath.Join(data, "orilla"), Cache: filepath.Join(cache, "orilla")}, nil
}

// OpenStore opens the store at an address: "" for the default one, a folder, or a file: URL. A folder is relative to root.
// With make, a store that is not there yet is made.
func OpenStore(address, root string, places Places, make bool) (storage.Store, error) {
	folder, err := storeFolder(address, root, places)
	if err != nil {
		return nil, err
	}
	open := file.Open
	if make {
		open = file.Make
	}
	store, err := open(folder)
	switch {
	case err == nil:
		return store, nil
	case errors.Is(err, storage.ErrNone):
		return nil, fault.New(fault.Failed, "no-store", "there is no store yet").At("%s", folder).Then("orilla deploy makes it with the first release")
	case errors.Is(err, storage.ErrOther):
		return nil, fault.New(fault.Refused, "not-a-store", "the folder is not empty and is not a store").At("%s", folder).
			Then("name an empty folder, or one that is a store, as store: in orilla.yaml or with --store")
	case errors.Is(err, storage.ErrFormat):
		return nil, fault.New(fault.Refused, "store-format", "the store was made by another version of Orilla").At("%s", folder).Then("use that version, or a newer one")
	}
	return nil, fault.New(fault.Failed, "store-unreachable", "the store cannot be opened").At("%s", folder).Because(err).
		Then("look at the folder and its rights; orilla doctor tells more")
}

func storeFolder(address, root string, places Places) (string, error) {
	if address == "" {
		return filepath.Join(places.Data, "store"), nil
	}
	if scheme, _, ok := strings.Cut(address, "://"); ok {
		parsed, err := url.Parse(address)
		if scheme != "file" || err != nil || parsed.Host != "" && parsed.Host != "localhost" {
			return "", fault.New(fault.Usage, "store-address", "%q is not a store that this version can use", address).
				Then("name a folder, such as store: ../releases")
		}
		return filepath.FromSlash(parsed.Path), nil
	}
	if rest, ok := strings.CutPrefix(address, "~/"); ok {
		home, err := os.UserHomeDir()
		return filepath.Join(home, rest), err
	}
	if filepath.IsAbs(address) {
		return address, nil
	}
	return filepath.Join(root, filepath.FromSlash(address)), nil
}

// Probe writes to the store and reads back what it wrote, so that a store that cannot be written stops a deploy before the
// build and not after it.
func Probe(ctx context.Context, store storage.Store, token string) error {
	key := "probe/" + token
	err := store.Create(ctx, key, []byte(token))
	if err == nil {
		var data []byte
		if data, err = store.Get(ctx, key); err == nil && string(data) != token {
			err = errors.New("it gave back something else than was written")
		}
		err = errors.Join(err, store.Delete(context.WithoutCancel(ctx), key))
	}
	return StoreTrouble(store, err)
}

// StoreTrouble makes the message for an error of a store. Other errors, and nil, come back as they are.
func StoreTrouble(store storage.Store, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	if _, known := errors.AsType[*fault.Error](err); known {
		return err
	}
	switch {
	case errors.Is(err, storage.ErrReadOnly):
		return fault.New(fault.Failed, "store-read-only", "the store cannot be written").At("%s", store.Address()).Because(err).
			Then("give the user who runs this command the right to write there")
	case errors.Is(err, storage.ErrFull):
		return fault.New(fault.Failed, "store-full", "there is no room left in the store").At("%s", store.Address()).Because(err).
			Then("make room on that disk and run the command again: what was uploaded whole is kept")
	}
	return fault.New(fault.Failed, "store-trouble", "the store did not do what was asked").At("%s", store.Address()).Because(err).
		Then("run the command again: what was uploaded whole is kept; orilla doctor looks at the store")
}
