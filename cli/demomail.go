package cli

import (
	"context"
	"net"

	"gentlepiston.example/piston/host"
	"gentlepiston.example/piston/service/letters"
	"gentlepiston.example/piston/standin"
)

// demoMail starts a stand-in of everybody's mailboxes, to which the demo's mail goes. page shows it; stop ends it.
func demoMail(ctx context.Context, o *host.Options) (page string, stop func(), err error) {
	takes, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	shows, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		_ = takes.Close()
		return "", nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = standin.NewMailbox().Serve(ctx, takes, shows) // without it the demo's letters wait
	}()
	o.Mail = letters.Server{Address: takes.Addr().String(), From: "builds@tidewick.example", Plain: true}
	return "http://" + shows.Addr().String(), func() {
		cancel()
		<-ended
	}, nil
}
