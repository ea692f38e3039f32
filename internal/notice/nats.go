package notice

import (
	"context"
	"time"

	"github.com/nats-io/nats.go"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Subscribe has messages of a NATS subject handed on until the context ends. It connects anew when the connection is lost; state is told
// of
// that. A file of credentials may be empty.
func Subscribe(ctx context.Context, url, subject, credentials string, handle func(text []byte), state func(connected bool,
	err error)) error {
	options := []nats.Option{nats.Name("trevak"), nats.MaxReconnects(-1), nats.ReconnectWait(time.Second), nats.Timeout(10 * time.Second),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) { state(false, err) }),
		nats.ReconnectHandler(func(*nats.Conn) { state(true, nil) }),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { state(true, err) })}
	if credentials != "" {
		options = append(options, nats.UserCredentials(credentials))
	}
	conn, err := nats.Connect(url, options...)
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the NATS server %s cannot be reached", storage.Shown(url))
	}
	if _, err := conn.Subscribe(subject, func(m *nats.Msg) { handle(m.Data) }); err != nil {
		conn.Close()
		return fault.Wrap(fault.Usage, err, "the NATS subject %s cannot be followed", subject)
	}
	context.AfterFunc(ctx, conn.Close)
	return nil
}
