package store

import (
	"context"
	"errors"
	"strings"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/ssh"
)

// Explain makes the message for people of an error that a store led to: it is
// called once, where a command ends, so that everything below hands errors on
// as they are. An error that is a message already, of which no store knows, or
// that says that somebody interrupted, comes back as it is, as does nil.
// address is the store's, for an error that does not say which store it was.
//
// An error that was explained already, and an interruption, come back as they
// are.
func Explain(err error, address string) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	if _, said := errors.AsType[*fault.Error](err); said {
		return err
	}

	// Of two stores, as in a copy, the error knows which one it was.
	failed, ofStore := errors.AsType[*storage.Error](err)
	if ofStore {
		address = failed.Store
	}
	if problem := explainServer(err, address); problem != nil {
		return problem
	}

	if problem := explainRefusal(err, address); problem != nil {
		return problem
	}
	// Not a store's: whoever called knows better what it means.
	if !ofStore {
		return err
	}
	return trouble(fault.Failed, "store-trouble", "the store operation failed", address, err).
		Then("run the command again (complete uploads are kept), or check the store: orilla store")
}

// trouble begins a message about the store at an address; "" for none.
func trouble(kind fault.Kind, code, what, address string, err error) *fault.Error {
	return fault.New(kind, code, "%s", what).At("%s", address).Because(err)
}

// explainServer explains errors about who answers at the
// address, and when; nil for others.
func explainServer(err error, address string) *fault.Error {
	trouble := func(kind fault.Kind, code, what string) *fault.Error {
		return trouble(kind, code, what,
			address, err)
	}
	var host *ssh.HostError
	switch {
	case errors.As(err, &host) && host.Changed:
		return trouble(fault.Refused, "host-key-changed", "the server's host key has changed").
			Then("ask its operator whether the key was changed; if not, someone may be "+
				"intercepting the connection").
			Then("if it was, remove the old one: ssh-keygen -R %q -f %s", knownName(host.Host), host.File)
	case errors.As(err, &host):
		return trouble(fault.Refused, "host-key-unknown",
			"unknown server: its host key is not in the known hosts").
			With("the line to add to "+host.File+", once you have verified it:", host.Line).
			Then("compare the key with its operator's, then add the line")
	case errors.Is(err, journal.ErrInDoubt):
		return trouble(fault.Failed, "in-doubt",
			"the store stopped answering during the last write: its result is unknown").
			Then("repeat the command only if this did not arrive; once the store answers again: " +
				"orilla status")
	case errors.Is(err, storage.ErrUntrusted):
		return trouble(fault.Refused, "untrusted", "the server's identity cannot be verified").
			Then("check its certificate, or the known_hosts file")
	case errors.Is(err, storage.ErrClock):
		return trouble(fault.Refused, "clock",
			"the clock of this machine and that of the store are more than 5 minutes apart").
			Then("correct the clock of this machine (or of the store), and run the command again")
	}

	return nil
}

// explainRefusal explains errors about what the store
// would not or could not do; nil for others.
func explainRefusal(err error, address string) *fault.Error {
	trouble := func(kind fault.Kind, code, what string) *fault.Error {
		return trouble(kind, code, what,
			address, err)
	}
	switch {
	case errors.Is(err, storage.ErrCredentials):
		return trouble(fault.Failed, "store-credentials", "the store does not accept your credentials").
			Then("check your credentials: for a bucket AWS_ACCESS_KEY_ID or a profile; over SSH " +
				"the agent (ssh-add -l) or ?key=FILE in the address")
	case errors.Is(err, storage.ErrNoBucket):
		return trouble(fault.Failed, "no-bucket", "no such bucket").
			Then("check its name and the endpoint").Then("or create it: orilla store init")
	case errors.Is(err, storage.ErrDenied):
		return trouble(fault.Failed, "store-denied", "you lack the permission to do this in the store").
			Then("to see your permissions: orilla store").
			Then("to see the required ones: orilla store init --policy")
	case errors.Is(err, storage.ErrReadOnly):
		return trouble(fault.Failed, "store-read-only", "the store is not writable").
			Then("give this user write permission there")
	case errors.Is(err, storage.ErrFull):
		return trouble(fault.Failed, "store-full", "the store is full").
			Then("free space there and run the command again (complete uploads are kept): orilla " +
				"store prune")
	case errors.Is(err, storage.ErrUnable):
		return trouble(fault.Refused, "store-unable", "the server lacks what a store needs").
			Then("use another server; docs/stores.md lists the requirements")
	case errors.Is(err, storage.ErrUnreachable):
		return trouble(fault.Failed, "store-unreachable", "the store does not answer").
			Then("check the address and the network, and run the command again; complete uploads " +
				"are kept")
	case errors.Is(err, pins.ErrLapsed):
		return trouble(fault.Refused, "too-slow", "the machine was paused or too slow for too long").
			Then("run the command again; complete uploads are kept")
	case errors.Is(err, pins.ErrRemoved):
		return trouble(fault.Refused, "site-removed", "the site is being removed").
			Then("ask the person who is removing it")
	}

	return nil
}

// knownName is how a file of known hosts names a host and port.
func knownName(host string) string {
	name, port, ok := strings.Cut(host, ":")
	if !ok || port == "22" {
		return name
	}
	return "[" + name + "]:" + port
}
