package client

import (
	"context"
	"crypto/tls"
	"net/http"
	"net/url"
	"strconv"

	"keenlodge/internal/wire"
)

// Me is who calls, and what he may do.
func (c *Client) Me(ctx context.Context) (out wire.Me, err error) {
	return out, c.call(ctx, http.MethodGet, "/api/v1/me", nil, &out)
}

// Redeem gives a code for what opens doors in its place; the client has it from then on.
func (c *Client) Redeem(ctx context.Context, code string) (out wire.Redeemed, err error) {
	if err = c.call(ctx, http.MethodPost, "/api/v1/redemptions", wire.Redemption{Code: code}, &out); err == nil {
		c.token = out.Secret
	}
	return out, err
}

// Tokens lists tokens, by name.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return list[wire.Token](ctx, c, "/api/v1/tokens")
}

// NewToken makes a token; what opens doors is told once.
func (c *Client) NewToken(ctx context.Context, name string, s wire.TokenSpec) (out wire.NewToken, err error) {
	return out, c.call(ctx, http.MethodPut, "/api/v1/tokens/"+url.PathEscape(name), s, &out)
}

// RenewToken gives a token another secret and more time.
func (c *Client) RenewToken(ctx context.Context, name string, t wire.TokenTime) (out wire.NewToken, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/tokens/"+url.PathEscape(name)+"/renewal", t, &out)
}

// RevokeToken ends a token and its sessions.
func (c *Client) RevokeToken(ctx context.Context, name string) (out wire.Token, err error) {
	return out, c.call(ctx, http.MethodDelete, "/api/v1/tokens/"+url.PathEscape(name), nil, &out)
}

// Sessions lists the browsers that are signed in.
func (c *Client) Sessions(ctx context.Context) ([]wire.Session, error) {
	return list[wire.Session](ctx, c, "/api/v1/sessions")
}

// EndSession signs a browser out.
func (c *Client) EndSession(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/sessions/"+url.PathEscape(id), nil, nil)
}

// EndSessions signs all browsers of the caller's token out, or everybody's.
func (c *Client) EndSessions(ctx context.Context, everybody bool) (out wire.Ended, err error) {
	return out, c.call(ctx, http.MethodDelete, "/api/v1/sessions?everybody="+strconv.FormatBool(everybody), nil, &out)
}

// Trust has the client speak TLS by a configuration.
func (c *Client) Trust(config *tls.Config) {
	c.http.Transport = &http.Transport{Proxy: http.ProxyFromEnvironment, TLSClientConfig: config, ForceAttemptHTTP2: true}
}

// Authority is how the lodge's own authority stands.
func (c *Client) Authority(ctx context.Context) (out wire.Authority, err error) {
	return out, c.call(ctx, http.MethodGet, "/api/v1/authority", nil, &out)
}

// ResealVault seals all secrets with the newest key.
func (c *Client) ResealVault(ctx context.Context) (out wire.Resealed, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/vault/reseal", nil, &out)
}

// TakeSpare takes the key of the next authority out of the vault.
func (c *Client) TakeSpare(ctx context.Context) (out wire.Spare, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/authority/spare", nil, &out)
}

// RenewAuthority has the next authority take the place of the one that is. spare is its key, where that was taken out, or "".
func (c *Client) RenewAuthority(ctx context.Context, spare string) (out wire.Authority, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/authority/renewal", wire.Spare{Key: spare}, &out)
}

// Agents lists servers' agents, by name.
func (c *Client) Agents(ctx context.Context) ([]wire.Agent, error) {
	return list[wire.Agent](ctx, c, "/api/v1/agents")
}

// AdmitAgent has an agent join, with a word that is told once; its server is one of a source, "" for the usual one.
func (c *Client) AdmitAgent(ctx context.Context, name, source string) (out wire.Admission, err error) {
	query := ""
	if source != "" {
		query = "?source=" + url.QueryEscape(source)
	}
	return out, c.call(ctx, http.MethodPut, "/api/v1/agents/"+url.PathEscape(name)+query, nil, &out)
}

// RevokeAgent ends an agent.
func (c *Client) RevokeAgent(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/api/v1/agents/"+url.PathEscape(name), nil, nil)
}

// JoinAgent joins as an agent.
func (c *Client) JoinAgent(ctx context.Context, name string, j wire.Joining) (out wire.Certificate, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/agents/"+url.PathEscape(name)+"/certificate", j, &out)
}

// RenewAgent has the agent that the client shows the certificate of certified anew.
func (c *Client) RenewAgent(ctx context.Context, r wire.CertificateRequest) (out wire.Certificate, err error) {
	return out, c.call(ctx, http.MethodPost, "/api/v1/agent/certificate", r, &out)
}
