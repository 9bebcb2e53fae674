// Package store opens and makes stores, and explains to people what went wrong
// with one. The engines lie below it.
//
//	/srv/orilla                          a folder
//	sftp://deploy@harbour.example/srv    a folder of a server
//	s3://corvane/stores?region=north     a bucket
//
//	s, err := store.At(ctx, address, root, data)
//	err = store.Explain(err, address)    // at the edge of the program, once
//
// Explain turns a *storage.Error into what a person can act on (no right to write,
// no such bucket, the disk is full), and hands on whatever it does not know, so
// that an error of Git is never told as trouble with a store.
package store

import (
	"context"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/file"
	"orilla.example/orilla/internal/store/s3"
	"orilla.example/orilla/internal/store/ssh"
)

// At returns the store at an address for whoever makes it: ""
// for the default one, a folder, a file: URL, an sftp: or an
// s3: URL. A folder, which is relative to root, is made a
// store at once, and made says so. Of others nothing is asked.
func At(ctx context.Context, address, root string, data string) (store storage.Store, made bool, err error) {
	if scheme, _, isURL := strings.Cut(address, "://"); isURL && scheme != "file" {
		store, err := remote(scheme, address)
		return store, false, err
	}
	_, err = Open(ctx, address, root, data, false)
	made = errors.Is(err, storage.ErrNone)
	store, err = Open(ctx, address, root, data, true)
	return store, made, err
}

// remote returns a store that is not on this machine. Nothing is asked of it.
func remote(scheme, address string) (storage.Remote, error) {
	var store storage.Remote
	var err error
	switch scheme {
	case "s3":
		var config s3.Config
		if config, err = s3.Parse(address, os.Getenv); err == nil {
			store, err = s3.Open(config, os.Getenv)
		}
	case "sftp":
		var config ssh.Config
		if config, err = ssh.Parse(address); err == nil {
			store = ssh.Open(config)
		}
	default:
		return nil, fault.New(fault.Usage, "store-address", "not a store address: %q",
			address).
			Then("use a folder, such as store: ../releases").
			Then("or a folder over SSH: sftp://USER@HOST/FOLDER").Then("or a bucket: s3://BUCKET/PREFIX")
	}

	if errors.Is(err, s3.ErrAddress) || errors.Is(err, ssh.ErrAddress) {
		return nil, fault.New(fault.Usage, "store-address",
			"invalid store address").At("%s", address).Because(err)
	}
	if err != nil {
		return nil, Explain(err, address)
	}
	return store, nil
}

// Open opens the store at an address, as At takes it. With
// mayMake, a folder that is not a store yet is made one; a
// store elsewhere is made by orilla store init.
func Open(ctx context.Context, address, root string, data string, mayMake bool) (storage.Store, error) {
	if scheme, _, isURL := strings.Cut(address, "://"); isURL && scheme != "file" {
		store, err := remote(scheme, address)
		if err != nil {
			return nil, err
		}
		if _, err := storage.Marked(ctx, store); err != nil {
			return nil, NotOpen(address, err)
		}
		return store, nil
	}

	folder, err := storeFolder(address, root, data)
	if err != nil {
		return nil, err
	}
	open := file.Open
	if mayMake {
		open = file.Make
	}

	store, err := open(folder)
	if err != nil {
		return nil, NotOpen(folder, err)
	}
	return store, nil
}

// NotOpen says why there is no store at a place.
func NotOpen(place string, err error) error {
	isFolder := !strings.Contains(place, "://")
	switch {
	case errors.Is(err, storage.ErrNone) && isFolder:
		return fault.New(fault.Failed, "no-store", "no store there yet").Marked(storage.ErrNone).
			At("%s", place).Then("the first deploy creates it: orilla deploy")
	case errors.Is(err, storage.ErrNone):
		return fault.New(fault.Failed, "no-store", "no store there yet").Marked(storage.ErrNone).
			At("%s", place).
			Then("to check the server and create it: orilla store init").
			Then("or check the address")
	case errors.Is(err, storage.ErrOther):
		return fault.New(fault.Refused, "not-a-store", "this folder is not empty and is not an "+
			"Orilla store").
			At("%s", place).
			Then("use an empty folder or prefix, or an existing store (store: in orilla.yaml, or " +
				"--store)")
	case errors.Is(err, storage.ErrFormat):
		return fault.New(fault.Refused, "store-format", "the store was made by another version of Orilla").
			At("%s", place).Because(err).Then("use that version, or a newer one")
	}

	return Explain(err, place)
}

// Folder returns the folder of this machine that a store's address means, as
// Open takes it; "" for one that is elsewhere.
//
// Commands that watch a working tree leave the store's folder out by it.
func Folder(address, root string, data string) (string, error) {
	if scheme, _, isURL := strings.Cut(address, "://"); isURL && scheme != "file" {
		return "", nil
	}
	return storeFolder(address, root, data)
}

// storeFolder turns the address of a store on this machine into a path. A
// relative one is relative to the project, so that everybody who clones it
// means the same place.
func storeFolder(address, root string, data string) (string, error) {
	if address == "" {
		return filepath.Join(data, "store"), nil
	}
	if strings.HasPrefix(address, "file://") {
		parsed, err := url.Parse(address)
		if err != nil || parsed.Host != "" && parsed.Host != "localhost" {
			return "", fault.New(fault.Usage, "store-address", "not a folder on this machine: %q", address).
				Then("use a folder, such as store: ../releases")
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

// Unasked returns the store at an address, as At takes it, of which nothing was asked:
// it may not be there.
func Unasked(address, root, data string) (storage.Store, error) {
	if scheme, _, isURL := strings.Cut(address, "://"); isURL && scheme != "file" {
		return remote(scheme, address)
	}
	folder, err := storeFolder(address, root, data)
	if err != nil {
		return nil, err
	}
	return file.Unasked(folder), nil
}
