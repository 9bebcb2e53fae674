package project

import (
	"net"
	"net/netip"
	"net/url"
	"strconv"

	"github.com/goccy/go-yaml/ast"

	"orilla.example/orilla/internal/core/visits"
)

// EdgeConfig is what edge.yaml says of an edge node: all that the options of orilla
// edge say. Zero values are the defaults (docs/edge.md).
//
//	store: /srv/orilla
//	cache: {folder: /var/cache/orilla, size: 20GB}
//	memory: 512MB
//	trust: [127.0.0.1]
//
// Sizes are decimal, times as in orilla.yaml. Lists may be one value.
type EdgeConfig struct {
	Store       string // as orilla.yaml has it; a folder is relative to the file
	Listen      string // host:port
	Announce    string // host:port
	Region      string // what its operator calls the place where it is
	Log         string // a file, relative to edge.yaml
	Requests    bool   // tell of each request
	AccessLog   EdgeAccessLog
	Metrics     string // host:port; "" for none
	Traffic     EdgeTraffic
	LocalNames  bool            // names below .localhost answer everybody
	Memory      Size            // of the process
	Cache       EdgeCache       // on disk
	Stale       EdgeStale       // without the store
	Connections EdgeConnections // of visitors
	Upstream    EdgeUpstream    // of proxy rules
	TLS         EdgeTLS         // with certificates of one's own
	Trust       []string        // networks of proxies
	Drain       *Duration       // before it stops
}

// EdgeCache is where a node keeps what it has read.
type EdgeCache struct {
	Folder string
	Size   Size
}

// EdgeAccessLog is where a node writes a line for each request. Without a file it does not.
type EdgeAccessLog struct {
	File   string // relative to edge.yaml; "-" for standard output
	Format string // combined or json
	Whole  bool   // addresses of visitors are written whole
}

// Nodes of one store know each other's visitors if they have the same secret:
//
//	traffic: {secret: /var/lib/orilla/secret}
//	traffic: {count: false}

// EdgeTraffic is how a node counts visits.
type EdgeTraffic struct {
	Not bool // it does not
	// Secret is a file, relative to edge.yaml, with what nodes share to know each other's visitors;
	// "": that of certificates, if there is one.
	Secret string
}

// EdgeTLS is how a node speaks TLS. Without certificates it does not.
type EdgeTLS struct {
	Listen       string // host:port
	Certificates []EdgeCertificate
	ACME         EdgeACME
}

// What a node needs to have certificates issued; with less it does not begin:
//
//	tls:
//	  listen: 0.0.0.0:443
//	  acme:
//	    directory: https://ca.example/directory
//	    secret: /etc/orilla/secret
//	    dns: {key: /etc/orilla/orilla.key}     # for previews
//
// The rest is for authorities and networks that are not the world's.

// EdgeACME is how a node has certificates issued (RFC 8555). Without a directory it does not.
type EdgeACME struct {
	Directory string // of the authority: a URL
	Contact   string // an address for mail
	Secret    string // a file, relative to edge.yaml
	Authority string // a file of certificates in PEM that the authority's own is checked with
	Resolver  string // host:port; as ORILLA_RESOLVER
	HTTPPort  int64  // at which authorities ask; 80
	DNS       EdgeDNS
}

// EdgeDNS is how a node writes validation records. Without a key it does not.
type EdgeDNS struct {
	Key    string // a TSIG key, a file relative to edge.yaml
	Server string // host:port; the primary of the zone
}

// EdgeCertificate names two files in PEM, relative to edge.yaml; Key may be unset if the
// chain's file has it.
type EdgeCertificate struct{ Chain, Key string }

// EdgeStale is for how long a node serves what it knows while its store does not
// answer. Unset is the default: public environments for ever, others for an hour.
type EdgeStale struct {
	Public    *Duration // 0: for ever
	Protected *Duration
}

// EdgeConnections bounds the connections of visitors.
type EdgeConnections struct {
	Most      int64 // in all
	PerClient int64
	Rate      Size // bytes a second that must move
}

// EdgeUpstream bounds what proxy rules may do.
type EdgeUpstream struct {
	Reach []string // private networks, or "all"
	Most  int64    // requests at once to one upstream
}

// ParseEdge reads a configuration of an edge node, as Parse reads that of a site. name
// is what messages call the file.
func ParseEdge(data []byte, name string) (EdgeConfig, error) {
	var config EdgeConfig
	p := &parse{name: name, topic: "edge-nodes"}
	body, err := treeOf(p, data)
	if err != nil {
		return EdgeConfig{}, err
	}
	p.mapping(body, edgeKeys(p, &config))
	return config, p.problem()
}

// edgeKeys are the keys of edge.yaml.
func edgeKeys(p *parse, c *EdgeConfig) keys {
	optional := func(to **Duration) func(ast.Node) {
		return func(node ast.Node) { *to = new(Duration); durationTo(p, *to)(node) }
	}
	return keys{
		"store": p.text(&c.Store), "listen": hostPortTo(p, &c.Listen),
		"announce": hostPortTo(p, &c.Announce), "log": p.text(&c.Log),
		"region": func(node ast.Node) {
			if p.text(&c.Region)(node); !IsLabel(c.Region) {
				p.at(node, "not a region's name: %q; write %s", c.Region, Label(c.Region))
			}
		},
		"requests": flagTo(p, &c.Requests), "local_names": flagTo(p, &c.LocalNames),
		"access_log": p.inner(func() keys {
			return keys{"file": p.text(&c.AccessLog.File),
				"format": oneOfTo(p, &c.AccessLog.Format, string(visits.Combined),
					string(visits.JSON)),
				"whole_addresses": flagTo(p, &c.AccessLog.Whole)}
		}),
		"metrics": p.inner(func() keys { return keys{"listen": hostPortTo(p, &c.Metrics)} }),
		"memory":  sizeTo(p, &c.Memory),
		"cache": p.inner(func() keys {
			return keys{"folder": p.text(&c.Cache.Folder), "size": sizeTo(p, &c.Cache.Size)}
		}),
		"stale": p.inner(func() keys {
			return keys{"public": func(node ast.Node) {
				c.Stale.Public = new(Duration)
				expiry(p, node,
					c.Stale.Public)
			},
				"protected": optional(&c.Stale.Protected)}
		}),
		"connections": p.inner(func() keys {
			return keys{"most": countTo(p, &c.Connections.Most), "per_client": countTo(p,
				&c.Connections.PerClient),
				"rate": sizeTo(p, &c.Connections.Rate)}
		}),
		"upstream": p.inner(func() keys {
			return keys{"reach": p.list(&c.Upstream.Reach, isReach(p)), "most": countTo(p, &c.Upstream.Most)}
		}),
		"tls": p.inner(func() keys {
			return keys{"listen": hostPortTo(p, &c.TLS.Listen),
				"certificates": certificatesTo(p, &c.TLS.Certificates),
				"acme":         p.inner(func() keys { return acmeKeys(p, &c.TLS.ACME) })}
		}),
		"traffic": p.inner(func() keys {
			return keys{"secret": p.text(&c.Traffic.Secret), "count": func(node ast.Node) {
				count := true
				flagTo(p, &count)(node)
				c.Traffic.Not = !count
			}}
		}),
		"trust": p.list(&c.Trust, isNetwork(p)),
		"drain": optional(&c.Drain),
	}
}

// acmeKeys are the keys below tls.acme.
func acmeKeys(p *parse, c *EdgeACME) keys {
	return keys{
		"directory": func(node ast.Node) {
			p.text(&c.Directory)(node)
			if at, err := url.Parse(c.Directory); err != nil || at.Scheme != "https" || at.Host == "" {
				p.at(node, "not the address of a directory: %q; write https://ca.example/directory",
					c.Directory)
			}
		},
		"contact": p.text(&c.Contact), "secret": p.text(&c.Secret), "authority": p.text(&c.Authority),
		"resolver": hostPortTo(p, &c.Resolver), "http_port": countTo(p, &c.HTTPPort),
		"dns": p.inner(func() keys {
			return keys{"key": p.text(&c.DNS.Key), "server": hostPortTo(p, &c.DNS.Server)}
		}),
	}
}

// certificatesTo reads the files of certificates: mappings of chain and key, or files that
// have both.
func certificatesTo(p *parse, to *[]EdgeCertificate) func(ast.Node) {
	return func(node ast.Node) {
		for _, item := range itemsOf(node) {
			var one EdgeCertificate
			switch item.(type) {
			case *ast.MappingNode, *ast.MappingValueNode:
				p.mapping(item, keys{"chain": p.text(&one.Chain), "key": p.text(&one.Key)})
			default:
				one.Chain, _ = p.scalar(item)
			}
			if one.Chain == "" {
				p.at(item, "name the file of the certificate: chain: /etc/orilla/corvane.pem")
			}
			*to = append(*to, one)
		}
	}
}

// hostPortTo reads an address with a port.
func hostPortTo(p *parse, to *string) func(ast.Node) {
	return func(node ast.Node) {
		p.text(to)(node)
		_, port, err := net.SplitHostPort(*to)
		if number, err2 := strconv.Atoi(port); err != nil || err2 != nil || number < 0 || number > 65535 {
			p.at(node, "not an address with a port: %q; write 127.0.0.1:7420", *to)
		}
	}
}

// isReach checks a network that proxy rules may reach.
func isReach(p *parse) func(ast.Node, string) {
	return func(node ast.Node, value string) {
		if value != "all" {
			isNetwork(p)(node, value)
		}
	}
}

// isNetwork checks a network in CIDR notation (RFC 4632), or an address.
func isNetwork(p *parse) func(ast.Node, string) {
	return func(node ast.Node, value string) {
		_, err := netip.ParsePrefix(value)
		if _, err2 := netip.ParseAddr(value); err != nil && err2 != nil {
			p.at(node, "not a network: %q; write 10.1.0.0/16, or an address", value)
		}
	}
}
