// Package site is a project on this machine: where it lies, what its configuration
// says, whose name it has, and what an order means for it.
//
//	project, err := site.Load(ctx, folder, places)
//	plan, err := site.MakePlan(ctx, project, site.Order{Ref: "main", To: "production"})
//
// An Order is what somebody asked for, with all its gaps; a Plan is what will be
// done, with none: the commit, the environment, the address, the steps, and from
// where each of them was taken. Making a plan changes nothing, so everything that
// can be wrong with an order is found before a build begins.
//
// Configuration is read at three places, and each answers another question:
// Config at the commit that is built, LocalConfig in the working tree, and
// ProductionConfig at the commit that production was last built from.
package site

import (
	"os"
	"os/user"
	"path/filepath"
	"runtime"

	"orilla.example/orilla/internal/core/fault"
)

// Places is where Orilla keeps things on this machine.
type Places struct {
	Data  string // the default store lies here
	Cache string // work in progress, remembered digests; may be removed at any time
}

// FindPlaces returns the folders that the system means for
// this. ORILLA_HOME, if set, holds both.
func FindPlaces() (Places, error) {
	if home := os.Getenv("ORILLA_HOME"); home != "" {
		home, err := filepath.Abs(home)
		return Places{Data: home, Cache: filepath.Join(home, "cache")}, err
	}
	// A service may have no $HOME, and a user has a home all the same.
	home, err := os.UserHomeDir()
	if own, err2 := user.Current(); err != nil && err2 == nil && own.HomeDir != "" {
		home, err = own.HomeDir, nil
	}
	if err != nil {
		return Places{}, fault.New(fault.Failed, "no-home", "this machine has no folder for user files").
			Because(err).
			Then("set ORILLA_HOME to a folder of your own")
	}
	cache, err := os.UserCacheDir()
	switch {
	case err == nil:
	case runtime.GOOS == "darwin":
		cache = filepath.Join(home, "Library", "Caches")
	default:
		cache = filepath.Join(home, ".cache")
	}
	data := os.Getenv("XDG_DATA_HOME")
	switch {
	case data != "":
	case runtime.GOOS == "darwin":
		data = filepath.Join(home, "Library", "Application Support")
	case runtime.GOOS == "windows":
		data = cache
	default:
		data = filepath.Join(home, ".local", "share")
	}

	return Places{Data: filepath.Join(data, "orilla"), Cache: filepath.Join(cache, "orilla")}, nil
}
