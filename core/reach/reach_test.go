package reach

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWorld(t *testing.T) {
	for text, want := range map[string]bool{
		"93.184.216.34": true, "2606:2800:220:1::1": true, "172.32.0.1": true, "100.128.0.1": true,
		"127.0.0.1": false, "127.9.9.9": false, "10.1.2.3": false, "172.16.0.1": false, "172.31.255.255": false, "192.168.1.1": false,
		"169.254.169.254": false, "100.64.0.1": false, "0.0.0.0": false, "255.255.255.255": false, "224.0.0.1": false,
		"::1": false, "::": false, "fe80::1": false, "fe80::1%eth0": false, "fd00::1": false, "ff02::1": false,
		"::ffff:127.0.0.1": false, "::ffff:93.184.216.34": true,
		"64:ff9b::7f00:1": false, "64:ff9b::5db8:d822": true, "2002:7f00:1::": false, "2002:5db8:d822::": true,
	} {
		assert.Equal(t, want, World(netip.MustParseAddr(text)), text)
	}
	assert.False(t, World(netip.Addr{}), "no address is none of the world")
}

func TestWhatIsLetThrough(t *testing.T) {
	var p Policy
	for _, text := range []string{"depot.tidewick.example:8123", "10.2.0.0/16", "192.168.7.9:443", "[fd00::]/8", "127.0.0.1:9999"} {
		a, err := ParseAllowance(text)
		if text == "[fd00::]/8" {
			assert.Error(t, err, "brackets go around all of it")
			continue
		}
		require.NoError(t, err, text)
		p.Through = append(p.Through, a)
	}
	assert.True(t, p.Named("Depot.tidewick.example.", 8123))
	assert.False(t, p.Named("depot.tidewick.example", 8124))
	assert.False(t, p.Named("tidewick.example", 8123))
	for text, want := range map[string]bool{"10.2.3.4:22": true, "10.3.0.1:22": false, "192.168.7.9:443": true, "192.168.7.9:80": false, "127.0.0.1:9999": true,
		"127.0.0.1:5432": false, "93.184.216.34:80": true} {
		at := netip.MustParseAddrPort(text)
		assert.Equal(t, want, p.May(at.Addr(), at.Port()), text)
	}
	for _, text := range []string{"", "name", "name:", "name:0", "name:70000", "*.example:80", "a b:1", "10.0.0.0/33", "https://x:1"} {
		_, err := ParseAllowance(text)
		assert.Error(t, err, text)
	}
	assert.False(t, Policy{}.May(netip.MustParseAddr("127.0.0.1"), 80), "a zero value grants nothing more")
}

func TestAllowancesAreRead(t *testing.T) {
	for text, wanted := range map[string]Allowance{
		"[2001:db8::1]:443":    {Range: netip.MustParsePrefix("2001:db8::1/128"), Port: 443},
		"[2001:db8::/32]:80":   {Range: netip.MustParsePrefix("2001:db8::/32"), Port: 80},
		"2001:db8::1":          {Range: netip.MustParsePrefix("2001:db8::1/128")},
		"10.2.3.4/16":          {Range: netip.MustParsePrefix("10.2.0.0/16")},
		"10.2.3.4:1":           {Range: netip.MustParsePrefix("10.2.3.4/32"), Port: 1},
		"Depot.Example.:65535": {Name: "depot.example", Port: 65535},
	} {
		got, err := ParseAllowance(text)
		assert.NoError(t, err, text)
		assert.Equal(t, wanted, got, text)
	}
	for _, text := range []string{"depot", "depot:0", "depot:65536", "depot:x", ":80", "a b:80", "a/b:80", "a@b:80", "*:80", ""} {
		_, err := ParseAllowance(text)
		assert.Error(t, err, text)
	}
}

func TestInnerRangesAreOfIPv4AndNotOfTheWorld(t *testing.T) {
	list := Inner()
	assert.Contains(t, list, netip.MustParsePrefix("10.0.0.0/8"))
	for _, p := range list {
		assert.True(t, p.Addr().Is4(), "%s", p)
		assert.False(t, World(p.Addr()), "%s", p)
	}
	assert.False(t, World(netip.Addr{}))
	assert.False(t, World(netip.MustParseAddr("::ffff:10.1.2.3")), "the same in other clothes")
	assert.False(t, World(netip.MustParseAddr("fe80::1%eth0")))
	assert.True(t, World(netip.MustParseAddr("1.1.1.1")))
}
