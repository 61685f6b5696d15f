package receive

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"keenlodge/internal/core/export"
)

// senders push content as others do, and tell how that ended.
var senders = map[export.Way]func(o *Offer, name, secret, file string, content []byte) error{
	export.ByHTTPS: func(o *Offer, name, secret, file string, content []byte) error {
		r, err := http.NewRequest(http.MethodPut, at(o, file), bytes.NewReader(content))
		if err != nil {
			return err
		}
		r.SetBasicAuth(name, secret)
		answer, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: trusting(o), DisableKeepAlives: true}}).Do(r)
		if err != nil {
			return err
		}
		defer answer.Body.Close()
		if answer.StatusCode != http.StatusCreated {
			return errors.New(answer.Status)
		}
		return nil
	},
	export.BySFTP: func(o *Offer, name, secret, file string, content []byte) error {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(o.KnownBy))
		if err != nil {
			return err
		}
		u, _ := url.Parse(o.To)
		conn, err := ssh.Dial("tcp", u.Host, &ssh.ClientConfig{User: name, Auth: []ssh.AuthMethod{ssh.Password(secret)}, HostKeyCallback: ssh.FixedHostKey(key)})
		if err != nil {
			return err
		}
		defer conn.Close()
		c, err := sftp.NewClient(conn, sftp.UseConcurrentWrites(true), sftp.MaxPacketUnchecked(4096))
		if err != nil {
			return err
		}
		if _, err := c.ReadDir("/"); err == nil {
			return errors.New("a list is served")
		}
		f, err := c.Create("/" + file)
		if err != nil {
			return err
		}
		_, err = f.ReadFrom(bytes.NewReader(content))
		return errors.Join(err, f.Close())
	},
	export.ByFTP: func(o *Offer, name, secret, file string, content []byte) error {
		u, _ := url.Parse(o.To)
		c, err := ftp.Dial(u.Host, ftp.DialWithExplicitTLS(trusting(o)), ftp.DialWithTimeout(5*time.Second))
		if err != nil {
			return err
		}
		defer c.Quit()
		if err := c.Login(name, secret); err != nil {
			return err
		}
		return c.Stor("/"+file, bytes.NewReader(content))
	},
}

func at(o *Offer, file string) string { return o.To[:len(o.To)-len(fileName)] + file }

func trusting(o *Offer) *tls.Config {
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(o.KnownBy))
	return &tls.Config{RootCAs: pool, ServerName: "127.0.0.1"}
}

// One file is received, as it was sent, by who was told the account; nobody else gets in, nothing else is taken, and no second one.
func TestReceive(t *testing.T) {
	for by, send := range senders {
		t.Run(string(by), func(t *testing.T) {
			t.Parallel()
			o, err := New(t.Context(), by, "127.0.0.1")
			require.NoError(t, err)
			content := bytes.Repeat([]byte("0123456789abcdef"), 200_000)
			require.Error(t, send(o, o.Name, "another", fileName, nil))
			require.Error(t, send(o, o.Name, o.Secret, "elsewhere", nil))
			sent := make(chan error, 1)
			go func() { sent <- send(o, o.Name, o.Secret, fileName, content) }()
			got, err := io.ReadAll(o)
			require.NoError(t, err)
			require.True(t, bytes.Equal(content, got))
			require.NoError(t, <-sent)
			require.Error(t, send(o, o.Name, o.Secret, fileName, nil), "a second one")
			require.NoError(t, o.Close())
			require.NoError(t, o.Close())
			require.Error(t, send(o, o.Name, o.Secret, fileName, nil))
		})
	}
}

// Whoever guesses has few tries. A reader learns why nothing comes, and what ends the offer ends the sender's wait.
func TestOffersEnd(t *testing.T) {
	o, err := New(t.Context(), export.ByHTTPS, "")
	require.NoError(t, err)
	for range mostWrong {
		require.ErrorContains(t, senders[export.ByHTTPS](o, o.Name, "a guess", fileName, nil), "401")
	}
	require.ErrorContains(t, senders[export.ByHTTPS](o, o.Name, o.Secret, fileName, nil), "401", "nobody any more")
	o.Fail(errors.New("the appliance was switched off"))
	_, err = io.ReadAll(o)
	require.ErrorContains(t, err, "switched off")
	require.NoError(t, o.Close())

	ctx, cancel := context.WithCancel(t.Context())
	o, err = New(ctx, export.BySFTP, "")
	require.NoError(t, err)
	sent := make(chan error, 1)
	go func() { sent <- senders[export.BySFTP](o, o.Name, o.Secret, fileName, make([]byte, 1<<20)) }()
	_, err = io.ReadFull(o, make([]byte, 1000)) // and nobody reads on
	require.NoError(t, err)
	cancel()
	require.Error(t, <-sent)
	require.NoError(t, o.Close())
	_, err = New(t.Context(), "carrier pigeon", "")
	require.ErrorContains(t, err, "nothing is received by")
}
