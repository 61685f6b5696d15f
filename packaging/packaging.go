// Package packaging has what ships with the program beside it.
package packaging

import _ "embed"

// AgentUnit is the systemd unit of a server's agent.
//
//go:embed keenlodge-agent.service
var AgentUnit []byte

// AgentWritable is a drop-in for it, which lets files be put back onto the server.
//
//go:embed keenlodge-agent-writable.conf
var AgentWritable []byte
