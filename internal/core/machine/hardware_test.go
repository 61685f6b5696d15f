package machine

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestHardwareOf(t *testing.T) {
	for definition, want := range map[string]Hardware{
		`<domain type='kvm'><memory unit='MiB'>512</memory><vcpu placement='static'>2</vcpu><os firmware='efi'/><devices><interface type='network'><mac address='52:54:00:12:34:56'/></interface></devices></domain>`: {CPUs: 2, Memory: 512 << 20, UEFI: true, Cards: []string{"52:54:00:12:34:56"}},
		`<domain><memory>1048576</memory><vcpu>1</vcpu><os><loader type='pflash'>/usr/share/OVMF/OVMF_CODE.fd</loader></os></domain>`:                                                                                 {CPUs: 1, Memory: 1 << 30, UEFI: true, Cards: []string{}},
		`<domain><memory unit='furlong'>7</memory></domain>`:                                                                         {Cards: []string{}},
		`{"kind": "server", "system": "Debian GNU/Linux 12", "kernel": "6.1.0-26", "boot": "uefi", "cpus": 4, "memory": 8589934592}`: {UEFI: true, CPUs: 4, Memory: 8 << 30, System: "Debian GNU/Linux 12, kernel 6.1.0-26", Cards: []string{}},
		"": {Cards: []string{}}, "<domain>": {Cards: []string{}},
	} {
		require.Equal(t, want, HardwareOf(definition), definition)
	}
}
