package moment

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
)

// command puts a command into the server's folder, which writes down in a file what it is called with.
func (s *server) command(name, more string) {
	s.t.Helper()
	place := filepath.Join(s.settings, "commands", name)
	require.NoError(s.t, os.MkdirAll(filepath.Dir(place), 0o755))
	require.NoError(s.t, os.WriteFile(place, []byte("#!/bin/sh\necho "+name+" $1 >> "+filepath.Join(s.settings, "said")+"\n"+more+"\n"), 0o755))
}

// said is what commands were called with since it was asked last.
func (s *server) said() string {
	place := filepath.Join(s.settings, "said")
	body, err := os.ReadFile(place)
	require.NoError(s.t, err)
	require.NoError(s.t, os.Remove(place))
	return string(body)
}

// Applications come to rest in their order before the file systems do, and go on in the opposite one, whatever fails; of an agent that died, the
// next one has them go on.
func TestApplicationsComeToRest(t *testing.T) {
	s := newServer(t, 64<<20, "mkfs.ext4 -q $f")
	still := "touch " + s.Mounted + "/alive" // it would hang if the file systems stood still already, or still
	s.command("tickets", still)
	s.command("ledger", still)
	settle := line.Settle{Freeze: true, Longest: 5 * time.Second, Applications: []line.Application{{Name: "tickets", Within: 5 * time.Second}, {Name: "ledger", Within: 5 * time.Second}}}
	got, err := s.tryImage(s.receiver(), image.NewID(), "", settle)
	require.NoError(t, err)
	require.True(t, got.Held)
	require.Len(t, got.Rested, 2)
	for _, r := range got.Rested {
		require.Empty(t, r.Failed)
		require.Positive(t, r.Before)
		require.Positive(t, r.After)
	}
	require.Equal(t, "tickets before\nledger before\nledger after\ntickets after\n", s.said())

	s.command("ledger", `[ "$1" = after ] || { echo it is busy >&2; exit 3; }`)
	got, err = s.tryImage(s.receiver(), image.NewID(), "", settle)
	require.NoError(t, err)
	require.True(t, got.Held, "preferred: the file systems stood still without")
	require.Contains(t, got.Warnings[0], "application ledger, before: command ledger: exit status 3: it is busy")
	require.Contains(t, got.Rested[1].Failed, "it is busy")
	require.Equal(t, "tickets before\nledger before\nledger after\ntickets after\n", s.said())
	settle.Required = true
	_, err = s.tryImage(s.receiver(), image.NewID(), "", settle)
	require.ErrorContains(t, err, "it is busy")
	require.Equal(t, "tickets before\nledger before\nledger after\ntickets after\n", s.said())

	s.command("ledger", `[ "$1" = after ] || sleep 60`)
	settle.Applications[1].Within = time.Second
	begun := time.Now()
	_, err = s.tryImage(s.receiver(), image.NewID(), "", settle)
	require.ErrorContains(t, err, "longer than 1s")
	require.Less(t, time.Since(begun), 30*time.Second)
	require.Equal(t, "tickets before\nledger before\nledger after\ntickets after\n", s.said())

	s.command("ledger", "")
	s.command("tickets", `[ "$1" = before ] || { echo it will not >&2; exit 1; }`)
	got, err = s.tryImage(s.receiver(), image.NewID(), "", settle)
	require.NoError(t, err)
	require.Contains(t, got.Rested[0].Failed, "it will not")
	s.said()
	found, left, err := GoOn(s.folder, s.settings)
	require.NoError(t, err)
	require.Equal(t, 1, left, "it is told again until it does")
	require.Contains(t, found[0], "it will not")
	require.Equal(t, "tickets after\n", s.said())
	s.command("tickets", "")
	found, left, err = GoOn(s.folder, s.settings)
	require.NoError(t, err)
	require.Zero(t, left)
	require.Equal(t, []string{"application tickets was at rest, and was told to go on"}, found)
	s.said()

	c := &Capture{folder: s.folder, settings: s.settings}
	_, err = c.rest(t.Context(), settle.Applications) // and there the agent dies
	require.NoError(t, err)
	found, err = Tidy(s.folder, s.settings)
	require.NoError(t, err)
	require.Equal(t, []string{"application ledger was at rest, and was told to go on", "application tickets was at rest, and was told to go on"}, found)
	require.Equal(t, "tickets before\nledger before\nledger after\ntickets after\n", s.said())
	found, err = Tidy(s.folder, s.settings)
	require.NoError(t, err)
	require.Empty(t, found)
}
