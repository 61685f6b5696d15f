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
	_, address, err = p.Objects(bucket)
	return address, err
}

// Objects is ServeObjects with the service itself.
func (p *Place) Objects(bucket string) (o *objects.Objects, address string, err error) {
	if o, err = objects.New(ObjectsKey, bucket); err != nil {
		return nil, "", err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, "", err
	}
	server := &http.Server{Handler: o, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(l)
	return o, "http://" + l.Addr().String(), nil
}
