package nameservers

import (
	"net/netip"
	"unsafe"

	"golang.org/x/sys/windows"
)

// systemResolvers asks Windows for those of all adapters that are up.
func systemResolvers() (servers []string, err error) {
	size := uint32(15 << 10) // what its documentation recommends to begin with
	for {
		buffer := make([]byte, size)
		first := (*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0])) //nolint:gosec // its form
		err := windows.GetAdaptersAddresses(windows.AF_UNSPEC, windows.GAA_FLAG_SKIP_ANYCAST, 0, first, &size)
		if err == windows.ERROR_BUFFER_OVERFLOW && size > uint32(len(buffer)) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for adapter := first; adapter != nil; adapter = adapter.Next {
			if adapter.OperStatus != windows.IfOperStatusUp {
				continue
			}
			for server := adapter.FirstDnsServerAddress; server != nil; server = server.Next {
				ip, ok := netip.AddrFromSlice(server.Address.IP())
				// Old versions name addresses of a site that nobody has.
				if ok && !ip.Is6() || ok && !netip.MustParsePrefix("fec0::/10").Contains(ip) {
					servers = append(servers, ip.Unmap().String())
				}
			}
		}
		return servers, nil
	}
}
