package ssh

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"os/user"
	"path"
	"strings"
	"time"
)

// Config says where a store is and how it is reached.
type Config struct {
	User    string
	Host    string // name or number and port
	Folder  string // absolute, or relative to the user's home there
	Key     string // the file of the private key; empty: those in the usual places
	Known   string // the file of known hosts; empty: the usual one
	Timeout time.Duration

	given string
}

// defaultTimeout is how long a server may stay silent.
const defaultTimeout = 30 * time.Second

// ErrAddress: an address of a store is not written as it should be.
var ErrAddress = errors.New("not an address on an SSH server")

// Parse reads an address:
//
//	sftp://USER@HOST:PORT/FOLDER?key=FILE&known_hosts=FILE&timeout=DURATION
//
// The user may be left out if it is the one here, the port if it is 22.
// /~/FOLDER lies in the user's home there.
func Parse(address string) (Config, error) {
	parsed, err := url.Parse(address)
	if err != nil || parsed.Scheme != "sftp" || parsed.Hostname() == "" || parsed.Fragment != "" {
		return Config{}, fmt.Errorf("%w: it is written sftp://USER@HOST/FOLDER", ErrAddress)
	}
	if _, secret := parsed.User.Password(); secret {
		return Config{}, fmt.Errorf("%w: a password has no place in it; keys and the agent are used",
			ErrAddress)
	}

	config := Config{User: parsed.User.Username(), Timeout: defaultTimeout, given: address}
	if config.User == "" {
		current, err := user.Current()
		if err != nil {
			return Config{}, fmt.Errorf("%w: it names no user", ErrAddress)
		}
		config.User = current.Username
	}

	port := parsed.Port()
	if port == "" {
		port = "22"
	}
	config.Host = net.JoinHostPort(parsed.Hostname(), port)
	config.Folder = path.Clean(parsed.Path)
	if inside, ok := strings.CutPrefix(config.Folder, "/~/"); ok {
		config.Folder = inside
	}

	if config.Folder == "." || config.Folder == "/" || config.Folder == "/~" {
		return Config{}, fmt.Errorf("%w: it names no folder", ErrAddress)
	}
	for name, values := range parsed.Query() {
		switch name {
		case "key":
			config.Key = values[0]
		case "known_hosts":
			config.Known = values[0]
		case "timeout":
			if config.Timeout, err = time.ParseDuration(values[0]); err != nil || config.Timeout <= 0 {
				return Config{}, fmt.Errorf("%w: timeout=%s is no duration, such as 30s", ErrAddress,
					values[0])
			}
		default:
			return Config{}, fmt.Errorf("%w: it knows key, known_hosts and timeout, not %s", ErrAddress, name)
		}
	}

	return config, nil
}

// Place names folder and server for people.
func (c Config) Place() string {
	return c.Folder + " at " + c.User + "@" + strings.TrimSuffix(c.Host, ":22")
}
