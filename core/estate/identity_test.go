package estate_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/estate"
)

func TestNormalizeUsualNotations(t *testing.T) {
	for _, group := range []struct {
		scheme Scheme
		same   []string
	}{
		{WWN, []string{"500601603b20110a", "50:06:01:60:3b:20:11:0a", "50:06:01:60:3B:20:11:0A", "0x500601603b20110a", "50-06-01-60-3b-20-11-0a", " 500601603B20110A "}},
		{NAA, []string{"6001405f00000000000000000000000e", "naa.6001405f00000000000000000000000e", "0x6001405F00000000000000000000000E",
			"36001405f00000000000000000000000e", "wwn-0x6001405f00000000000000000000000e", "scsi-36001405f00000000000000000000000e", "60:01:40:5f:00:00:00:00:00:00:00:00:00:00:00:0e"}},
		{NAA, []string{"naa.5000c500a1b2c3d4", "0x5000c500a1b2c3d4", "35000c500a1b2c3d4"}},
		{EUI, []string{"eui.0025385b71b0a1c2", "0x0025385b71b0a1c2", "00:25:38:5b:71:b0:a1:c2"}},
		{NGUID, []string{"eui.0025385b71b0a1c20025385b71b0a1c2", "0025385B71B0A1C20025385B71B0A1C2"}},
		{IQN, []string{"iqn.2026-03.example.tidewrack:Host-07", "IQN.2026-03.example.tidewrack:host-07"}},
		{NQN, []string{"nqn.2026-03.example.tidewrack:h7", "NQN.2026-03.example.tidewrack:H7"}},
		{UUID, []string{"6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e07", "{6F1C24D0-0B5E-4A53-9D6C-1D2A5A1C0E07}", "6f1c24d00b5e4a539d6c1d2a5a1c0e07", "urn:uuid:6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e07"}},
		{Export, []string{"filer.example:/drift", "FILER.example.:/drift/", "filer.example://drift"}},
		{Export, []string{"[fd00::1]:/drift", "[FD00::1]:/drift/"}},
		{Serial, []string{"ab12", " AB12 "}},
	} {
		first, err := Normalize(group.scheme, group.same[0])
		require.NoError(t, err)
		for _, s := range group.same[1:] {
			id, err := Normalize(group.scheme, s)
			require.NoError(t, err, s)
			assert.Equal(t, first, id, s)
		}
	}
}

func TestNormalizeRefusesWithReason(t *testing.T) {
	for _, c := range []struct {
		scheme Scheme
		text   string
	}{
		{WWN, ""}, {WWN, "500601603b20110"}, {WWN, "500601603b20110g"}, {WWN, "hello"}, {NAA, "naa.6001"}, {NAA, "naa.zz"}, {EUI, "12"}, {NGUID, "0025385b71b0a1c2"},
		{IQN, "host-07"}, {IQN, "iqn.2026 x"}, {NQN, "iqn.x"}, {UUID, "6f1c24d0"}, {Export, "drift"}, {Export, "filer:drift"}, {Export, ":/x"}, {Serial, " "},
	} {
		_, err := Normalize(c.scheme, c.text)
		if assert.Error(t, err, "%s %q", c.scheme, c.text) {
			assert.Contains(t, err.Error(), "expected")
		}
	}
	_, err := Normalize("other", "x")
	assert.Error(t, err)
}

// Whatever notation an identifier is written in, and however often it is normalised, it stays one.
func TestNormalizeIsStable(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	const digits = "0123456789abcdef"
	for range 500 {
		var b strings.Builder
		n := 16 << r.IntN(2)
		for range n {
			b.WriteByte(digits[r.IntN(16)])
		}
		hex := b.String()
		id, err := Normalize(NAA, "naa."+hex)
		require.NoError(t, err)
		require.Equal(t, hex, id.Value)
		again, err := Normalize(NAA, id.Display())
		require.NoError(t, err)
		require.Equal(t, id, again)
		upper, err := Normalize(NAA, "0x"+strings.ToUpper(hex))
		require.NoError(t, err)
		require.Equal(t, id, upper)
	}
}

func TestNormalizePortTellsSchemes(t *testing.T) {
	for text, scheme := range map[string]Scheme{"iqn.2026-03.example:a": IQN, "NQN.2026-03.example:a": NQN, "50:06:01:60:3b:20:11:0a": WWN} {
		id, err := NormalizePort(text)
		require.NoError(t, err)
		assert.Equal(t, scheme, id.Scheme)
	}
}
