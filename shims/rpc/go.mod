module google.golang.org/grpc

go 1.26
