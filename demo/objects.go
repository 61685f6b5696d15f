package demo

import (
	"net"
	"net/http"
	"time"

	"keenlodge/internal/store/medium/mediumtest/objects"
)

// What signs in to the demonstration's object service. It is here for all to read: never do so elsewhere.
const (
	ObjectsKey    = "pier"
	ObjectsSecret = "tide tables"
)

// ServeObjects starts an object service with a bucket, on loopback, and returns its address. It ends, with all that it keeps, when this process does.
func (p *Place) ServeObjects(bucket string) (address string, err error) {
	o, err := objects.New(ObjectsKey, bucket)
	if err != nil {
		return "", err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	server := &http.Server{Handler: o, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(l)
	return "http://" + l.Addr().String(), nil
}
