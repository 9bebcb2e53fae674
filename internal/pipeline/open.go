package pipeline

import (
	"context"
	"crypto/rand"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/file"
	"orilla.example/orilla/internal/store/s3"
	"orilla.example/orilla/internal/store/ssh"
)

// StoreAt returns the store at an address for whoever makes it: "" for the default one, a folder, a file: URL, an sftp: or an s3: URL.
// A folder, which is relative to root, is made a store at once, and made says so. Of others nothing is asked.
func StoreAt(ctx context.Context, address, root string, places Places) (store storage.Store, made bool, err error) {
	if scheme, _, isURL := strings.Cut(address, "://"); isURL && scheme != "file" {
		store, err := remote(scheme, address)
		return store, false, err
	}
	_, err = OpenStore(ctx, address, root, places, false)
	made = fault.Code(err) == "no-store"
	store, err = OpenStore(ctx, address, root, places, true)
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
		return nil, fault.New(fault.Usage, "store-address", "%q is not a store that this version can use", address).
			Then("name a folder, such as store: ../releases").Then("or a folder over SSH: sftp://USER@HOST/FOLDER").Then("or a bucket: s3://BUCKET/PREFIX")
	}
	if errors.Is(err, s3.ErrAddress) || errors.Is(err, ssh.ErrAddress) {
		return nil, fault.New(fault.Usage, "store-address", "the store's address is not written as it should be").At("%s", address).Because(err)
	}
	if err != nil {
		return nil, troubleAt(address, err)
	}
	return store, nil
}

// OpenStore opens the store at an address, as StoreAt takes it. With make, a folder that is not a store yet is made one; a store
// elsewhere is made by orilla store init.
func OpenStore(ctx context.Context, address, root string, places Places, make bool) (storage.Store, error) {
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
	folder, err := storeFolder(address, root, places)
	if err != nil {
		return nil, err
	}
	open := file.Open
	if make {
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
		return fault.New(fault.Failed, "no-store", "there is no store yet").At("%s", place).Then("orilla deploy makes it with the first release")
	case errors.Is(err, storage.ErrNone):
		return fault.New(fault.Failed, "no-store", "there is no store yet").At("%s", place).
			Then("orilla store init makes it, once it has seen that the server can hold one").Then("or look whether the address is right")
	case errors.Is(err, storage.ErrOther):
		return fault.New(fault.Refused, "not-a-store", "what is there is not empty and is not a store").At("%s", place).
			Then("name an empty folder or prefix, or one that is a store, as store: in orilla.yaml or with --store")
	case errors.Is(err, storage.ErrFormat):
		return fault.New(fault.Refused, "store-format", "the store was made by another version of Orilla").At("%s", place).Because(err).Then("use that version, or a newer one")
	}
	return troubleAt(place, err)
}

// StoreFolder returns the folder of this machine that a store's address means, as OpenStore takes it; "" for one that is elsewhere.
func StoreFolder(address, root string, places Places) (string, error) {
	if scheme, _, isURL := strings.Cut(address, "://"); isURL && scheme != "file" {
		return "", nil
	}
	return storeFolder(address, root, places)
}

func storeFolder(address, root string, places Places) (string, error) {
	if address == "" {
		return filepath.Join(places.Data, "store"), nil
	}
	if strings.HasPrefix(address, "file://") {
		parsed, err := url.Parse(address)
		if err != nil || parsed.Host != "" && parsed.Host != "localhost" {
			return "", fault.New(fault.Usage, "store-address", "%q is no folder of this machine", address).Then("name a folder, such as store: ../releases")
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

// Pin takes a pin in a store for whoever works for a project.
func (p *Project) Pin(ctx context.Context, store storage.Store, site, what string) (*pins.Hold, error) {
	return pins.Take(ctx, store, strings.ToLower(rand.Text()), pins.Pin{Site: site, Who: p.Person(ctx), What: what})
}

// StoreTrouble makes the message for an error of a store. Other errors, and nil, come back as they are.
func StoreTrouble(store storage.Store, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	if _, known := errors.AsType[*fault.Error](err); known {
		return err
	}
	return troubleAt(store.Address(), err)
}

// troubleAt says what went wrong with the store at an address, and what to do.
func troubleAt(address string, err error) error {
	trouble := func(kind fault.Kind, code, what string) *fault.Error {
		return fault.New(kind, code, "%s", what).At("%s", address).Because(err)
	}
	var host *ssh.HostError
	switch {
	case errors.As(err, &host) && host.Changed:
		return trouble(fault.Refused, "host-key-changed", "the server shows another key than it did before").
			Then("ask who runs it whether the key was changed; else somebody stands in between").
			Then("if it was, take the old one out: ssh-keygen -R %q -f %s", knownName(host.Host), host.File)
	case errors.As(err, &host):
		return trouble(fault.Refused, "host-key-unknown", "the server is not known, so it could be another one").
			With("the line to add to "+host.File+", once you know that it is right:", host.Line).
			Then("compare the key with what the server's owner says, and add the line")
	case errors.Is(err, journal.ErrInDoubt):
		return trouble(fault.Failed, "in-doubt", "the store stopped answering while the entry was written: whether it counts is not known").
			Then("orilla status, once the store answers again, shows what is live; run the command again only if this did not arrive")
	case errors.Is(err, storage.ErrUntrusted):
		return trouble(fault.Refused, "untrusted", "the server cannot prove who it is").Then("look at its certificate, or at the file of known hosts")
	case errors.Is(err, storage.ErrClock):
		return trouble(fault.Refused, "clock", "the clock of this machine and that of the store are more than 5 minutes apart").
			Then("set this machine's clock (or the store's), and run the command again")
	case errors.Is(err, storage.ErrCredentials):
		return trouble(fault.Failed, "store-credentials", "the store does not accept who you are").
			Then("look at the keys: for a bucket AWS_ACCESS_KEY_ID or a profile, over SSH the agent (ssh-add -l) or ?key=FILE in the address")
	case errors.Is(err, storage.ErrNoBucket):
		return trouble(fault.Failed, "no-bucket", "there is no such bucket").Then("look at its name and at the endpoint").Then("or make it: orilla store init")
	case errors.Is(err, storage.ErrDenied):
		return trouble(fault.Failed, "store-denied", "the store knows you and does not let you do this").
			Then("orilla store shows which rights there are; orilla store init --policy prints those that are needed")
	case errors.Is(err, storage.ErrReadOnly):
		return trouble(fault.Failed, "store-read-only", "the store cannot be written").Then("give the user who runs this command the right to write there")
	case errors.Is(err, storage.ErrFull):
		return trouble(fault.Failed, "store-full", "there is no room left in the store").
			Then("make room there (orilla store prune removes what nothing needs) and run the command again: what was uploaded whole is kept")
	case errors.Is(err, storage.ErrUnable):
		return trouble(fault.Refused, "store-unable", "the server lacks what a store needs").Then("use another server; docs/stores.md says what one must be able to do")
	case errors.Is(err, storage.ErrUnreachable):
		return trouble(fault.Failed, "store-unreachable", "the store does not answer").
			Then("look at the address and the network, and run the command again: what was uploaded whole is kept")
	case errors.Is(err, pins.ErrLapsed):
		return trouble(fault.Refused, "too-slow", "too much time went by unnoticed").Then("run the command again: what was uploaded whole is kept")
	case errors.Is(err, pins.ErrRemoved):
		return trouble(fault.Refused, "site-removed", "the site is being removed").Then("ask who does it")
	}
	return trouble(fault.Failed, "store-trouble", "the store did not do what was asked").
		Then("run the command again: what was uploaded whole is kept; orilla store looks at it")
}

// knownName is how a file of known hosts names a host and port.
func knownName(host string) string {
	name, port, ok := strings.Cut(host, ":")
	if !ok || port == "22" {
		return name
	}
	return "[" + name + "]:" + port
}
