package receive

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/fclairamb/ftpserverlib"
	"github.com/pkg/sftp"
	"github.com/spf13/afero"
	"golang.org/x/crypto/ssh"
)

// headTime is how long a sender may take to sign in.
const headTime = 30 * time.Second

// byHTTPS receives a PUT with a name and a secret (RFC 7617).
func (o *Offer) byHTTPS(host string) (func(), error) {
	pair, text, err := certificate(host)
	o.KnownBy = text
	server := &http.Server{ReadHeaderTimeout: headTime, TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}},
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			name, secret, _ := r.BasicAuth()
			switch {
			case !o.admits(name, secret):
				http.Error(w, "this name and secret are not known here", http.StatusUnauthorized)
			case r.Method != http.MethodPut || r.URL.Path != "/"+fileName:
				http.Error(w, "one file is received here, by PUT /"+fileName, http.StatusNotFound)
			case o.begin() != nil:
				http.Error(w, errSecond.Error(), http.StatusConflict)
			default:
				if _, err := io.Copy(upload{o}, r.Body); err != nil {
					o.end(err)
					http.Error(w, "it was not received whole", http.StatusBadRequest)
					return
				}
				o.end(io.EOF)
				w.WriteHeader(http.StatusCreated)
			}
		})}
	return func() {
		_ = server.ServeTLS(o.listener, "", "") // it ends with the offer
		server.Close()
	}, err
}

// bySFTP receives a file by SFTP: nothing is there to be read, listed or removed.
func (o *Offer) bySFTP(string) (func(), error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return nil, err
	}
	o.KnownBy = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	settings := &ssh.ServerConfig{MaxAuthTries: 3, PasswordCallback: func(c ssh.ConnMetadata, secret []byte) (*ssh.Permissions, error) {
		if o.admits(c.User(), string(secret)) {
			return nil, nil
		}
		return nil, errors.New("this name and secret are not known here")
	}}
	settings.AddHostKey(signer)
	return func() {
		var all sync.WaitGroup
		defer all.Wait()
		for {
			conn, err := o.listener.Accept()
			if err != nil {
				return // the offer has ended
			}
			all.Go(func() { o.session(conn, settings) })
		}
	}, nil
}

// session serves one connection of SSH.
func (o *Offer) session(conn net.Conn, settings *ssh.ServerConfig) {
	defer conn.Close()
	defer context.AfterFunc(o.ctx, func() { conn.Close() })()
	_ = conn.SetDeadline(time.Now().Add(headTime)) // one that can't be set is noticed by the handshake
	c, channels, requests, err := ssh.NewServerConn(conn, settings)
	if err != nil {
		return
	}
	defer c.Close()
	_ = conn.SetDeadline(time.Time{})
	go ssh.DiscardRequests(requests)
	for asked := range channels {
		if asked.ChannelType() != "session" {
			_ = asked.Reject(ssh.UnknownChannelType, "only SFTP is served here")
			continue
		}
		channel, wants, err := asked.Accept()
		if err != nil {
			return
		}
		go func() {
			for w := range wants {
				ok := w.Type == "subsystem" && string(w.Payload[min(4, len(w.Payload)):]) == "sftp"
				_ = w.Reply(ok, nil) // a line that is cut ends the loop
				if ok {
					go o.serveSFTP(channel)
				}
			}
		}()
	}
}

func (o *Offer) serveSFTP(channel ssh.Channel) {
	none := only{o}
	server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: none, FilePut: none, FileCmd: none, FileList: none})
	_ = server.Serve() // how it ended is seen by what came
	channel.Close()
}

// only is a folder into which one file can be put.
type only struct{ o *Offer }

func (f only) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	if path.Base(r.Filepath) != fileName {
		return nil, sftp.ErrSSHFxPermissionDenied
	}
	if err := f.o.begin(); err != nil {
		return nil, err
	}
	return upload(f), nil
}

func (only) Fileread(*sftp.Request) (io.ReaderAt, error) {
	return nil, sftp.ErrSSHFxPermissionDenied
}

// Filecmd lets a sender say what time and mode the file has, which nobody needs, and nothing else.
func (only) Filecmd(r *sftp.Request) error {
	if r.Method == "Setstat" {
		return nil
	}
	return sftp.ErrSSHFxPermissionDenied
}

func (only) Filelist(*sftp.Request) (sftp.ListerAt, error) { return nil, sftp.ErrSSHFxNoSuchFile }

// byFTP receives a file by FTP (RFC 959), with TLS where its sender asks for that (RFC 4217): there are appliances that can't.
func (o *Offer) byFTP(host string) (func(), error) {
	pair, text, err := certificate(host)
	if err != nil {
		return nil, err
	}
	o.KnownBy = text
	server := ftpserver.NewFtpServer(&driver{o, &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}, host})
	if err := server.Listen(); err != nil {
		return nil, err
	}
	return func() {
		_ = server.Serve() // it ends with the offer
		_ = server.Stop()
	}, nil
}

// driver is what the FTP server asks.
type driver struct {
	o      *Offer
	secure *tls.Config
	host   string
}

func (d *driver) GetSettings() (*ftpserver.Settings, error) {
	return &ftpserver.Settings{Listener: d.o.listener, PublicHost: d.host, IdleTimeout: 300, ConnectionTimeout: 30, DisableMLSD: true, DisableMLST: true, DisableMFMT: true, DisableSite: true, DisableActiveMode: true,
		DisableSTAT: true, DefaultTransferType: ftpserver.TransferTypeBinary}, nil
}
func (*driver) ClientConnected(ftpserver.ClientContext) (string, error) {
	return "one file is received here", nil
}
func (*driver) ClientDisconnected(ftpserver.ClientContext) {}
func (d *driver) GetTLSConfig() (*tls.Config, error)       { return d.secure, nil }

func (d *driver) AuthUser(_ ftpserver.ClientContext, name, secret string) (ftpserver.ClientDriver, error) {
	if !d.o.admits(name, secret) {
		return nil, errors.New("this name and secret are not known here")
	}
	return folder{afero.NewReadOnlyFs(afero.NewMemMapFs()), d.o}, nil
}

// folder is empty, and takes one file.
type folder struct {
	afero.Fs
	o *Offer
}

// GetHandle implements [ftpserver.ClientDriverExtentionFileTransfer].
func (f folder) GetHandle(name string, flags int, offset int64) (ftpserver.FileTransfer, error) {
	if flags&os.O_WRONLY == 0 || offset != 0 || path.Base(name) != fileName {
		return nil, os.ErrPermission
	}
	if err := f.o.begin(); err != nil {
		return nil, err
	}
	return transfer{upload{f.o}}, nil
}

// transfer can only be written to.
type transfer struct{ upload }

func (transfer) Read([]byte) (int, error)       { return 0, os.ErrPermission }
func (transfer) Seek(int64, int) (int64, error) { return 0, os.ErrPermission }
