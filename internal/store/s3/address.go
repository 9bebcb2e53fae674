package s3

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/minio/minio-go/v7/pkg/s3utils"
	"gopkg.in/ini.v1"

	"orilla.example/orilla/internal/core/storage"
)

// Config says where a store is and how it is reached.
type Config struct {
	Bucket    string
	Prefix    string   // of all keys, without slashes at its ends; may be empty
	Endpoint  *url.URL // http or https, without a path
	Region    string   // empty: the server is asked
	PathStyle bool     // the bucket stands in the path, not in the host name
	Profile   string   // in the files of credentials; empty: as the environment says
	Timeout   time.Duration

	given string
}

// defaultTimeout is how long a server may take to begin its answer.
const defaultTimeout = 30 * time.Second

// ErrAddress: an address of a store is not written as it should be.
var ErrAddress = errors.New("not an address of a bucket")

// Parse reads an address:
//
//	s3://BUCKET/PREFIX?endpoint=URL&region=NAME&style=path|host&profile=NAME&timeout=DURATION
//
// Everything but the bucket may be left out. The endpoint comes from
// AWS_ENDPOINT_URL_S3, AWS_ENDPOINT_URL or the profile's endpoint_url
// then, else it is Amazon's; the region from AWS_REGION,
// AWS_DEFAULT_REGION or the profile. The style is path for an
// endpoint that is given, host for Amazon's. getenv is os.Getenv.
func Parse(address string, getenv func(string) string) (Config, error) {
	parsed, err := url.Parse(address)
	if err != nil || parsed.Scheme != "s3" || parsed.Host == "" || parsed.User != nil ||
		parsed.Fragment != "" {
		return Config{}, fmt.Errorf("%w: it is written s3://BUCKET/PREFIX", ErrAddress)
	}

	if err := s3utils.CheckValidBucketNameStrict(parsed.Host); err != nil {
		return Config{}, fmt.Errorf("%w: %q: %w", ErrAddress, parsed.Host, err)
	}
	config := Config{Bucket: parsed.Host, Prefix: strings.Trim(parsed.Path, "/"), Timeout: defaultTimeout,
		given: address}
	// The prefix is a part of every key, and keys have a longest length.
	if config.Prefix != "" {
		if err := storage.CheckKey(config.Prefix); err != nil || len(config.Prefix) > 300 {
			return Config{}, fmt.Errorf(
				"%w: the prefix may hold lower-case letters, digits, dots, dashes and "+
					"underscores between its slashes", ErrAddress)
		}
	}

	query := parsed.Query()
	get := func(name string) string {
		value := query.Get(name)
		query.Del(name)
		return value
	}

	endpoint, style := get("endpoint"), get("style")
	config.Region, config.Profile = get("region"), get("profile")
	if text := get("timeout"); text != "" {
		if config.Timeout, err = time.ParseDuration(text); err != nil || config.Timeout <= 0 {
			return Config{}, fmt.Errorf("%w: timeout=%s is no duration, such as 30s", ErrAddress, text)
		}
	}

	// A misspelled parameter would otherwise be a store at another place.
	for name := range query {
		return Config{}, fmt.Errorf("%w: it knows endpoint, region, style, profile and timeout, not %s",
			ErrAddress, name)
	}
	if err := config.locate(endpoint, style, getenv); err != nil {
		return Config{}, err
	}
	return config, nil
}

// locate fills in the endpoint, the region and the style: as the address says,
// else the environment, else the profile.
func (c *Config) locate(endpoint, style string, getenv func(string) string) (err error) {
	profile := readProfile(c.profileName(getenv), getenv)
	// The order in which other programs of the trade look: the address, the
	// environment, the profile.
	endpoint = first(endpoint, getenv("AWS_ENDPOINT_URL_S3"), getenv("AWS_ENDPOINT_URL"),
		profile("endpoint_url"))

	c.Region = first(c.Region, getenv("AWS_REGION"), getenv("AWS_DEFAULT_REGION"),
		profile("region"))
	// Servers other than the first one mostly have no wildcard certificate for
	// buckets as host names.
	c.PathStyle = endpoint != ""
	switch style {
	case "path", "host":
		c.PathStyle = style == "path"
	case "":
	default:
		return fmt.Errorf("%w: style is path or host, not %s", ErrAddress, style)
	}

	if endpoint == "" {
		endpoint = "https://s3.amazonaws.com"
	}
	c.Endpoint, err = url.Parse(endpoint)
	if err != nil || c.Endpoint.Scheme != "http" && c.Endpoint.Scheme != "https" ||
		c.Endpoint.Host == "" || strings.Trim(c.Endpoint.Path, "/") != "" {
		return fmt.Errorf("%w: the endpoint %q is no address such as https://storage.example",
			ErrAddress, endpoint)
	}

	return nil
}

// profileName is the profile whose keys are used: that of the address, of the
// environment as the tools of the trade name it, or the default one.
func (c Config) profileName(getenv func(string) string) string {
	return first(c.Profile, getenv("AWS_PROFILE"), getenv("AWS_DEFAULT_PROFILE"), "default")
}

// credentialsFile is where keys are kept by name.
func credentialsFile(getenv func(string) string) string {
	if file := getenv("AWS_SHARED_CREDENTIALS_FILE"); file != "" {
		return file
	}
	home, _ := os.UserHomeDir()
	return filepath.Join(home, ".aws", "credentials")
}

// readProfile returns what looks up the settings of a profile, in the file of
// settings and in that of credentials.
func readProfile(name string, getenv func(string) string) func(key string) string {
	home, _ := os.UserHomeDir()
	settings := first(getenv("AWS_CONFIG_FILE"), filepath.Join(home, ".aws", "config"))
	section := name
	if name != "default" {
		section = "profile " + name
	}

	return func(key string) string {
		for _, place := range []struct{ file, section string }{{settings, section},
			{credentialsFile(getenv), name}} {
			if file, err := ini.Load(place.file); err == nil {
				if value := file.Section(place.section).Key(key).String(); value != "" {
					return value
				}
			}
		}
		return ""
	}
}

// first returns the first text that is not empty.
func first(values ...string) string {
	for _, value := range values {
		if value != "" {
			return value
		}
	}
	return ""
}

// Place names bucket, prefix and server for people.
func (c Config) Place() string {
	place := "s3://" + c.Bucket
	if c.Prefix != "" {
		place += "/" + c.Prefix
	}
	place += " at " + c.Endpoint.Host
	if c.Region != "" {
		place += " (" + c.Region + ")"
	}
	return place
}
