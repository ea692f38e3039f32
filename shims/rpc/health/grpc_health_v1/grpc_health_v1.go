// Package grpc_health_v1 is empty: only tests of others ask for it.
package grpc_health_v1
