package nameservers

import (
	"errors"
	"net"
)

// ErrNoResolver: this machine does not say which resolver it asks.
var ErrNoResolver = errors.New("this machine names no resolver")

// What this machine's own programs are told is asked too, since that is what its user sees: a
// cache between here and the name servers may know less than they do.

// Resolver returns the resolver that this machine asks first: host:port.
func Resolver() (string, error) {
	servers, err := systemResolvers()
	if err != nil {
		return "", err
	}
	if len(servers) == 0 {
		return "", ErrNoResolver
	}
	return net.JoinHostPort(servers[0], "53"), nil
}
