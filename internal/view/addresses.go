package view

import (
	"net/url"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/edge"
)

// DefaultEdge is where an edge node listens unless told otherwise.
const DefaultEdge = "127.0.0.1:7420"

// NearbyPort returns the port of an edge node that runs on
// this machine, or the usual one.
func NearbyPort(nodes []edge.Presence) string {
	address := DefaultEdge
	if len(nodes) > 0 {
		address = nodes[0].Address
	}
	return address[strings.LastIndexByte(address, ':')+1:]
}

// BasePath returns the path of an address, with its final slash.
func BasePath(address string) string {
	parsed, err := url.Parse(address)
	if err != nil {
		return "/"
	}
	return parsed.EscapedPath()
}

// Itoa writes a number in decimal digits.
func Itoa(n int64) string { return strconv.FormatInt(n, 10) }
