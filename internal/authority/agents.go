package authority

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/field"
	"keenlodge/internal/core/site"
	"keenlodge/internal/pinned"
	"keenlodge/internal/records"
)

const (
	// agentTime is how long an agent's certificate is good for, forgiven how long after its end it can still be renewed: a server may have
	// been off. joinTime is how long a word to join with is good for.
	agentTime, forgiven, joinTime = 24 * time.Hour, 30 * 24 * time.Hour, time.Hour
)

// Agents admits servers' agents, certifies them, and tells them from others. What counts is the key that an agent shows, and what the records
// say of it: a certificate by itself opens nothing.
type Agents struct {
	rec       *records.Records
	authority *Authority
}

// NewAgents makes an Agents.
func NewAgents(rec *records.Records, a *Authority) *Agents { return &Agents{rec, a} }

// Enroll has an agent join under a name, with a word that is good for an hour, once; its server is one of a source of the site. The usual one is
// made, by change, where there is none.
func (g *Agents) Enroll(ctx context.Context, by, name, source string, change func(context.Context, func(site.Site) (site.Site, error)) error) (word string, until time.Time, err error) {
	if !field.IsName(name) {
		return "", time.Time{}, fmt.Errorf("%w: %q can't be an agent's name: up to 63 lower-case letters, digits, dots and dashes, such as gate-07", fault.ErrInvalid, name)
	}
	s, err := g.rec.Site(ctx)
	if err != nil {
		return "", time.Time{}, err
	}
	spec, ok := s.Hypervisors[source]
	switch {
	case ok && spec.SourceKind() != site.Agents:
		return "", time.Time{}, fmt.Errorf("%w: %s is no source of servers, but of kind %s", fault.ErrConflict, source, spec.SourceKind())
	case !ok && source != site.Servers:
		return "", time.Time{}, fault.Unknown("source of servers", source, s.SourcesOf(site.Agents))
	case !ok:
		if err := change(ctx, addServers); err != nil {
			return "", time.Time{}, err
		}
	}
	word = strings.ToLower(rand.Text())
	return word, time.Now().Add(joinTime), g.rec.AdmitAgent(ctx, name, source, by, word, joinTime)
}

// addServers adds the usual source of servers to a site.
func addServers(s site.Site) (site.Site, error) {
	if s.Hypervisors = maps.Clone(s.Hypervisors); s.Hypervisors == nil {
		s.Hypervisors = map[string]site.Hypervisor{}
	}
	if _, made := s.Hypervisors[site.Servers]; !made {
		s.Hypervisors[site.Servers] = site.Hypervisor{Kind: site.Agents}
	}
	return s, nil
}

// List lists all agents, by name.
func (g *Agents) List(ctx context.Context) ([]records.Agent, error) { return g.rec.Agents(ctx) }

// Issued is what an agent gets: its certificate, with the authority's behind it, as PEM, and the fingerprints that it is to pin.
type Issued struct {
	Name, Certificate string
	Ends              time.Time
	Fingerprint, Next string
}

// MayJoin is [fault.ErrNotFound] for an agent that does not know the word.
func (g *Agents) MayJoin(ctx context.Context, name, word string) error {
	may, err := g.rec.MayJoin(ctx, name, word)
	if err == nil && !may {
		err = fault.ErrNotFound
	}
	return err
}

// Join certifies an agent that knows the word. request is a PKCS #10 request (RFC 2986), as PEM. Whoever does not know the word gets
// [fault.ErrNotFound].
func (g *Agents) Join(ctx context.Context, name, word, request, address string) (Issued, error) {
	key, print, err := requested(request)
	if err != nil {
		return Issued{}, err
	}
	if err := g.rec.JoinAgent(ctx, name, word, print, address, agentTime); err != nil {
		return Issued{}, err
	}
	return g.issue(ctx, name, key)
}

// Renew certifies an agent anew, by the certificate that it shows. request may be for another key, which takes the place of the one that is
// shown when the agent shows it first. An agent that is not known, or was revoked, is [fault.ErrNotFound].
func (g *Agents) Renew(ctx context.Context, shown *x509.Certificate, request, address string) (Issued, error) {
	key, next, err := requested(request)
	if err != nil {
		return Issued{}, err
	}
	a, err := g.Known(ctx, shown)
	if err == nil {
		err = g.rec.CertifyAgent(ctx, a.Name, pinned.Fingerprint(shown), next, address, agentTime)
	}
	if err != nil {
		return Issued{}, err
	}
	return g.issue(ctx, a.Name, key)
}

// Known finds the agent that may be certified anew by what it shows; any other is [fault.ErrNotFound].
func (g *Agents) Known(ctx context.Context, shown *x509.Certificate) (records.Agent, error) {
	return g.rec.AgentOf(ctx, pinned.Fingerprint(shown), forgiven)
}

// Check finds the agent that shows a certificate. One that is not known, was revoked, or whose newest certificate has ended, is
// [fault.ErrNotFound].
func (g *Agents) Check(ctx context.Context, shown *x509.Certificate) (records.Agent, error) {
	return g.rec.AgentOf(ctx, pinned.Fingerprint(shown), 0)
}

// Revoke ends an agent, at once and in every process.
func (g *Agents) Revoke(ctx context.Context, name string) error {
	err := g.rec.RevokeAgent(ctx, name)
	if !errors.Is(err, fault.ErrNotFound) {
		return err
	}
	all, err := g.rec.Agents(ctx)
	if err != nil {
		return err
	}
	names := make([]string, len(all))
	for i, a := range all {
		names[i] = a.Name
	}
	if slices.Contains(names, name) {
		return fmt.Errorf("%w: agent %s was revoked already", fault.ErrConflict, name)
	}
	return fault.Unknown("agent", name, names)
}

// requested is the key that a request is for, and its fingerprint.
func requested(text string) (key any, print string, err error) {
	block, _ := pem.Decode([]byte(text))
	if block == nil || block.Type != "CERTIFICATE REQUEST" {
		return nil, "", fmt.Errorf("%w: this is no request for a certificate (PKCS #10, as PEM)", fault.ErrInvalid)
	}
	r, err := x509.ParseCertificateRequest(block.Bytes)
	if err == nil {
		err = r.CheckSignature()
	}
	if err != nil {
		return nil, "", fmt.Errorf("%w: the request for a certificate is not to be understood: %w", fault.ErrInvalid, err)
	}
	return r.PublicKey, pinned.KeyFingerprint(r.RawSubjectPublicKeyInfo), nil
}

// issue signs a certificate.
func (g *Agents) issue(ctx context.Context, name string, key any) (Issued, error) {
	s, err := g.authority.signer(ctx)
	if err != nil {
		return Issued{}, err
	}
	now := g.authority.now()
	t := &x509.Certificate{
		SerialNumber: newSerial(), Subject: pkix.Name{CommonName: name}, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
		NotBefore: now.Add(-clockSlack), NotAfter: now.Add(agentTime),
	}
	der, err := x509.CreateCertificate(rand.Reader, t, s.cert, key, s.key)
	if err != nil {
		return Issued{}, fmt.Errorf("%w: certify agent %s: %w", fault.ErrInvalid, name, err)
	}
	return Issued{name, encode("CERTIFICATE", der) + encode("CERTIFICATE", s.cert.Raw), t.NotAfter, pinned.Fingerprint(s.cert), s.next}, nil
}
