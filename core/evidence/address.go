package evidence

import (
	"slices"

	"ironledger.example/core/value"
)

// HardwareAddresses lists the addresses of network interfaces that sources report, as [value.HardwareAddress] writes
// them.
func (r *Record) HardwareAddresses() (out []string) {
	for reading := range r.Of("network.macs") {
		for _, m := range reading.Value.Members() {
			if a := value.HardwareAddress(m.Str()); a != "" && !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	return out
}

// Network is the source of what access points say of devices on their networks. It says nothing while nobody joins.
const Network = "network"
