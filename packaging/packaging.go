// Package packaging has what ships with the program beside it.
package packaging

import _ "embed"

// AgentUnit is the systemd unit of a server's agent.
//
//go:embed keenlodge-agent.service
var AgentUnit []byte
