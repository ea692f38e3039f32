// Package insecure leaves calls unsecured. None is ever made.
package insecure

import "google.golang.org/grpc/credentials"

// NewCredentials returns credentials that secure nothing.
func NewCredentials() credentials.TransportCredentials { return credentials.None{} }
