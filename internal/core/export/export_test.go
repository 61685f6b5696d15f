package export

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What is mandatory comes in any case; what is not may be left out, or chosen.
func TestChoose(t *testing.T) {
	has := []Part{{Name: "routing", Mandatory: true}, {Name: "greetings"}, {Name: "history"}}
	names := func(parts []Part) (out []string) {
		for _, p := range parts {
			out = append(out, p.Name)
		}
		return out
	}
	for _, c := range []struct {
		wanted, leaveOut, parts, left []string
		wrong                         string
	}{
		{nil, nil, []string{"routing", "greetings", "history"}, nil, ""},
		{nil, []string{"history"}, []string{"routing", "greetings"}, []string{"history"}, ""},
		{[]string{"greetings"}, nil, []string{"routing", "greetings"}, []string{"history"}, ""},
		{nil, []string{"routing"}, nil, nil, "mandatory"},
		{nil, []string{"histroy"}, nil, nil, `no part "histroy"`},
		{[]string{"voices"}, nil, nil, nil, `no part "voices"`},
	} {
		parts, left, err := Choose(has, c.wanted, c.leaveOut)
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c.parts, names(parts))
		require.Equal(t, c.left, left)
	}
}

// A definition is read as it was written, and nothing else is taken for one; an export goes back to the build that wrote it only.
func TestTold(t *testing.T) {
	told := Told{Product: "sound", Release: "7.4", Build: "118", Name: "sound-gateway", Parts: []Part{{Name: "routing", Mandatory: true, Bytes: 3}}, File: "sound-gateway.tar.age", Bytes: 99}
	got, ok := Parse(told.Definition())
	require.True(t, ok)
	told.Kind = KindOf
	require.Equal(t, told, got)
	for _, text := range []string{"", "<domain/>", `{"kind": "server"}`, "[]"} {
		_, ok := Parse(text)
		require.False(t, ok, text)
	}
	require.NoError(t, told.Fits("sound", "7.4", "118"))
	require.ErrorContains(t, told.Fits("sound", "7.4", "119"), "build 118, and the appliance is sound 7.4, build 119")
	require.Error(t, told.Fits("sound", "7.5", "118"))
}

func TestSettings(t *testing.T) {
	require.NoError(t, (*Settings)(nil).Check("x", "$"))
	require.NoError(t, (&Settings{PassphraseFile: "/etc/keenlodge/p", By: BySFTP, Listen: "192.0.2.7:7440", Spare: "exchange-spare"}).Check("x", "$"))
	for why, s := range map[string]Settings{"no absolute path": {PassphraseFile: "p"}, "carrier": {By: "carrier"}, "no address": {Listen: "here:1"}, "no source's name": {Spare: "A B"}} {
		require.ErrorContains(t, s.Check("x", "$"), why)
	}
}
