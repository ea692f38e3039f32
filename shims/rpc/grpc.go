// Package grpc takes the place of a library for calls to other programs that the columnar library asks for, for a protocol which is
// never used here. Types are as its users need them to be compiled; a call is refused.
package grpc

import (
	"context"
	"net"

	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/status"
)

// SupportPackageIsVersion7 is asked for by generated code.
const SupportPackageIsVersion7 = true

// errNone is the error of every call.
var errNone = status.Error(codes.Unimplemented, "this program makes no such calls")

// Options of calls, connections and servers have no effect.
type (
	CallOption   interface{ call() }
	DialOption   interface{ dial() }
	ServerOption interface{ serve() }
)

type none struct{}

func (none) call()  {}
func (none) dial()  {}
func (none) serve() {}

func Header(*metadata.MD) CallOption                                       { return none{} }
func Trailer(*metadata.MD) CallOption                                      { return none{} }
func UseCompressor(string) CallOption                                      { return none{} }
func WithTransportCredentials(credentials.TransportCredentials) DialOption { return none{} }
func WithChainUnaryInterceptor(...UnaryClientInterceptor) DialOption       { return none{} }
func WithChainStreamInterceptor(...StreamClientInterceptor) DialOption     { return none{} }
func ChainUnaryInterceptor(...UnaryServerInterceptor) ServerOption         { return none{} }
func ChainStreamInterceptor(...StreamServerInterceptor) ServerOption       { return none{} }
func UnaryInterceptor(UnaryServerInterceptor) ServerOption                 { return none{} }
func StreamInterceptor(StreamServerInterceptor) ServerOption               { return none{} }
func SetHeader(context.Context, metadata.MD) error                         { return errNone }
func SetTrailer(context.Context, metadata.MD) error                        { return errNone }
func Dial(target string, opts ...DialOption) (*ClientConn, error)          { return nil, errNone }
func NewClient(target string, opts ...DialOption) (*ClientConn, error)     { return nil, errNone }

// Calls, and what stands between them and who makes or serves them.
type (
	UnaryInvoker func(ctx context.Context, method string, req, reply any, cc *ClientConn, opts ...CallOption) error
	Streamer     func(ctx context.Context, desc *StreamDesc, cc *ClientConn, method string, opts ...CallOption) (ClientStream, error)

	UnaryClientInterceptor func(ctx context.Context, method string, req, reply any, cc *ClientConn, invoker UnaryInvoker,
		opts ...CallOption) error
	StreamClientInterceptor func(ctx context.Context, desc *StreamDesc, cc *ClientConn, method string, streamer Streamer,
		opts ...CallOption) (ClientStream, error)

	UnaryHandler            func(ctx context.Context, req any) (any, error)
	StreamHandler           func(srv any, stream ServerStream) error
	UnaryServerInterceptor  func(ctx context.Context, req any, info *UnaryServerInfo, handler UnaryHandler) (resp any, err error)
	StreamServerInterceptor func(srv any, ss ServerStream, info *StreamServerInfo, handler StreamHandler) error
)

// ClientStream is a call of many messages, as who makes it sees it.
type ClientStream interface {
	Header() (metadata.MD, error)
	Trailer() metadata.MD
	CloseSend() error
	Context() context.Context
	SendMsg(m any) error
	RecvMsg(m any) error
}

// ServerStream is a call of many messages, as who serves it sees it.
type ServerStream interface {
	SetHeader(metadata.MD) error
	SendHeader(metadata.MD) error
	SetTrailer(metadata.MD)
	Context() context.Context
	SendMsg(m any) error
	RecvMsg(m any) error
}

// ClientConnInterface makes calls.
type ClientConnInterface interface {
	Invoke(ctx context.Context, method string, args, reply any, opts ...CallOption) error
	NewStream(ctx context.Context, desc *StreamDesc, method string, opts ...CallOption) (ClientStream, error)
}

// ClientConn refuses calls.
type ClientConn struct{}

func (*ClientConn) Close() error { return nil }

func (*ClientConn) Invoke(context.Context, string, any, any, ...CallOption) error { return errNone }

func (*ClientConn) NewStream(context.Context, *StreamDesc, string, ...CallOption) (ClientStream, error) {
	return nil, errNone
}

// Descriptions of services.
type (
	ServiceDesc struct {
		ServiceName string
		HandlerType any
		Methods     []MethodDesc
		Streams     []StreamDesc
		Metadata    any
	}
	MethodDesc struct {
		MethodName string
		Handler    func(srv any, ctx context.Context, dec func(any) error, interceptor UnaryServerInterceptor) (any, error)
	}
	StreamDesc struct {
		StreamName                   string
		Handler                      StreamHandler
		ServerStreams, ClientStreams bool
	}
	UnaryServerInfo struct {
		Server     any
		FullMethod string
	}
	StreamServerInfo struct {
		FullMethod                     string
		IsClientStream, IsServerStream bool
	}
	MethodInfo  struct{ Name string }
	ServiceInfo struct {
		Methods  []MethodInfo
		Metadata any
	}
)

// ServiceRegistrar takes services.
type ServiceRegistrar interface {
	RegisterService(desc *ServiceDesc, impl any)
}

// Server serves nothing.
type Server struct{}

func NewServer(...ServerOption) *Server                { return &Server{} }
func (*Server) RegisterService(*ServiceDesc, any)      {}
func (*Server) GetServiceInfo() map[string]ServiceInfo { return nil }
func (*Server) Serve(net.Listener) error               { return errNone }
func (*Server) Stop()                                  {}
func (*Server) GracefulStop()                          {}
