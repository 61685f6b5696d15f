package sound

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"keenlodge/internal/standin"
)

// Destination is where an export is to be pushed to: an https://, sftp:// or ftp:// address with the file's path, and what signs in there. KnownBy is what it
// is known by: a certificate (PEM), or a public key of SSH; of ftp it is the certificate that it shows when TLS is asked for (RFC 4217).
type Destination struct {
	To      string `json:"to"`
	Name    string `json:"name"`
	Secret  string `json:"secret"`
	KnownBy string `json:"known_by"`
}

// dialTime is how long the other side may take to answer.
const dialTime = 10 * time.Second

func (d Destination) push(ctx context.Context, in io.Reader, length int64) error {
	at, err := url.Parse(d.To)
	if err != nil || at.Host == "" || at.Path == "" {
		return standin.Refuse(http.StatusBadRequest, "it can't be pushed there: the address is none")
	}
	switch at.Scheme {
	case "https":
		err = d.byHTTPS(ctx, at, in, length)
	case "sftp":
		err = d.bySFTP(at, in)
	case "ftp":
		err = d.byFTP(ctx, at, in)
	default:
		err = standin.Refuse(http.StatusBadRequest, "it can't be pushed by %s", at.Scheme)
	}
	if err != nil {
		return fmt.Errorf("push to %s: %w", at.Host, err)
	}
	return nil
}

func (d Destination) secure(at *url.URL) (*tls.Config, error) {
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(d.KnownBy)) {
		return nil, errors.New("by what certificate it is known was not told")
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, ServerName: at.Hostname(), RootCAs: pool}, nil
}

func (d Destination) byHTTPS(ctx context.Context, at *url.URL, in io.Reader, length int64) error {
	secure, err := d.secure(at)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPut, at.String(), in)
	if err != nil {
		return err
	}
	r.ContentLength = length
	r.SetBasicAuth(d.Name, d.Secret)
	c := http.Client{Transport: &http.Transport{TLSClientConfig: secure, DisableKeepAlives: true}}
	answer, err := c.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode/100 != 2 {
		said, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<10)) // what does not come is not shown
		return fmt.Errorf("it answers %s: %s", answer.Status, said)
	}
	return nil
}

func (d Destination) bySFTP(at *url.URL, in io.Reader) (err error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(d.KnownBy))
	if err != nil {
		return fmt.Errorf("by what key it is known: %w", err)
	}
	conn, err := ssh.Dial("tcp", at.Host, &ssh.ClientConfig{User: d.Name, Auth: []ssh.AuthMethod{ssh.Password(d.Secret)}, HostKeyCallback: ssh.FixedHostKey(key), Timeout: dialTime})
	if err != nil {
		return err
	}
	defer conn.Close()
	c, err := sftp.NewClient(conn, sftp.UseConcurrentWrites(true))
	if err != nil {
		return err
	}
	defer c.Close()
	out, err := c.Create(at.Path)
	if err != nil {
		return err
	}
	_, err = out.ReadFrom(in)
	return errors.Join(err, out.Close())
}

func (d Destination) byFTP(ctx context.Context, at *url.URL, in io.Reader) error {
	options := []ftp.DialOption{ftp.DialWithContext(ctx), ftp.DialWithTimeout(dialTime)}
	if d.KnownBy != "" {
		secure, err := d.secure(at)
		if err != nil {
			return err
		}
		options = append(options, ftp.DialWithExplicitTLS(secure))
	}
	c, err := ftp.Dial(at.Host, options...)
	if err != nil {
		return err
	}
	if err = c.Login(d.Name, d.Secret); err == nil {
		err = c.Stor(at.Path, in)
	}
	return errors.Join(err, c.Quit())
}
