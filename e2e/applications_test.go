package e2e

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// shell runs a script in a guest and returns what it said.
func shell(t *testing.T, guest, script string) string {
	t.Helper()
	asked, err := json.Marshal(map[string]any{"execute": "guest-exec", "arguments": map[string]any{"path": "/bin/sh", "arg": []string{"-c", script}, "capture-output": true}})
	require.NoError(t, err)
	var begun struct{ Return struct{ PID int } }
	require.NoError(t, json.Unmarshal([]byte(virsh(t, "qemu-agent-command", guest, string(asked))), &begun))
	var ended struct {
		Return struct {
			Exited   bool
			Exitcode int
			Out      string `json:"out-data"`
		}
	}
	require.Eventually(t, func() bool {
		told := virsh(t, "qemu-agent-command", guest, fmt.Sprintf(`{"execute":"guest-exec-status","arguments":{"pid":%d}}`, begun.Return.PID))
		return json.Unmarshal([]byte(told), &ended) == nil && ended.Return.Exited
	}, 20*time.Second, 50*time.Millisecond)
	require.Zero(t, ended.Return.Exitcode)
	said, err := base64.StdEncoding.DecodeString(ended.Return.Out)
	require.NoError(t, err)
	return string(said)
}

// An application in a guest is called before the guest stands still, and after it; one that is busy fails what requires it, and is called all the
// same.
func TestAnApplicationInAGuest(t *testing.T) {
	shell(t, "timetable", `mkdir -p /etc/keenlodge/commands; printf '#!/bin/sh\necho $1 >> /tmp/said\n[ -e /tmp/busy ] && [ $1 = before ] && { echo sailing; exit 1; }\nexit 0\n' > /etc/keenlodge/commands/timetable; chmod 755 /etc/keenlodge/commands/timetable`)
	t.Cleanup(func() { shell(t, "timetable", "rm -rf /etc/keenlodge /tmp/said /tmp/busy") })
	withPolicy(t, "with-timetable", policyText("timetable", "shelf-rest", "    quiesce: required\n    applications: [timetable]\n"), storeText("shelf-rest", t.TempDir()))
	backUp(t, "with-timetable")
	m := in(t, "shelf-rest")[0]
	require.EqualValues(t, "application", m.Consistency)
	require.Contains(t, keenOK(t, "image", "show", m.ID), "timetable at rest: before")
	require.True(t, strings.HasSuffix(shell(t, "timetable", "cat /tmp/said"), "before\nafter\n"))
	shell(t, "timetable", "rm /tmp/said; touch /tmp/busy")
	s := keen(t, "policy", "run", "with-timetable", "--wait")
	require.Equal(t, 1, s.code, s.out)
	require.Contains(t, s.out, "application timetable, before: it ended with 1: sailing")
	require.Equal(t, "before\nafter\n", shell(t, "timetable", "cat /tmp/said"))
	requireClean(t, "timetable")
}
